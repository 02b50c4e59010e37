// Fault trees in the open exchange format: what is read, what is refused, and that nothing changes there and back.

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/exchange/open_psa.h"
#include "isodyne/trees/cut_sets.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

std::string model(const std::string& gates, const std::string& data = "") {
  return "<?xml version=\"1.0\"?>\n<opsa-mef>\n<define-fault-tree name=\"FT\">\n" + gates +
         "</define-fault-tree>\n<model-data>\n" + data + "</model-data>\n</opsa-mef>\n";
}

std::string refused(const std::string& text) {
  const auto read = exchange::from_open_psa("t.xml", text, {});
  return read ? "read" : read.failure().text();
}

trees::FaultTree top_of(const std::string& text, std::optional<double> over_s = {}) {
  const auto read = exchange::from_open_psa("t.xml", text, over_s);
  REQUIRE(read);
  return exchange::part_of(*read, read->tops.front());
}

}  // namespace

TEST_CASE("A tree in the open exchange format is read with its gates, events, house events and parameters") {
  const std::string text = model(
      "<define-gate name=\"TOP\"><label>the lot</label><or><gate name=\"G1\"/><gate name=\"G2\"/>"
      "<and><basic-event name=\"C\"/><house-event name=\"H\"/></and></or></define-gate>\n"
      "<define-gate name=\"G1\"><and><event name=\"A\"/><event name=\"FT.B\"/></and></define-gate>\n"
      "<define-gate name=\"G2\"><atleast min=\"2\"><basic-event name=\"A\"/><basic-event name=\"D\"/><gate "
      "name=\"G3\"/>"
      "<constant value=\"false\"/></atleast></define-gate>\n"
      "<define-gate name=\"G3\"><basic-event name=\"C\"/></define-gate>\n"
      "<define-component name=\"K\"><define-basic-event name=\"D\"><float "
      "value=\"0.25\"/></define-basic-event></define-component>\n",
      "<define-house-event name=\"H\"><constant value=\"true\"/></define-house-event>\n"
      "<define-basic-event name=\"A\"><label>a pump</label><exponential><parameter "
      "name=\"rate\"/><system-mission-time/>"
      "</exponential></define-basic-event>\n"
      "<define-basic-event name=\"B\"><float value=\"0.1\"/></define-basic-event>\n"
      "<define-basic-event name=\"C\"><lognormal-deviate><float value=\"1\"/><float value=\"3\"/><float "
      "value=\"0.95\"/></lognormal-deviate></define-basic-event>\n"
      "<define-parameter name=\"rate\" unit=\"years-1\"><float value=\"0.5\"/></define-parameter>\n");
  const auto read = exchange::from_open_psa("t.xml", text, 2 * 8760 * 3600.0);
  REQUIRE(read);
  CHECK(read->tops == std::vector<std::string>{"TOP"});
  REQUIRE(read->remarks.size() == 1);
  CHECK(read->remarks[0] ==
        "no probability was read where it is not a number, a parameter or an exponential: C (lognormal-deviate)");
  const trees::FaultTree tree = exchange::part_of(*read, "TOP");
  CHECK(tree.doc == "the lot");
  CHECK(*tree.over_s == 2 * 8760 * 3600.0);
  std::map<std::string, std::optional<double>> events;
  for (const auto& e : tree.events) events[e.name] = e.probability;
  CHECK(events.size() == 4);
  CHECK(*events["A"] == Approx(1 - std::exp(-1.0)).epsilon(1e-12));
  CHECK(*events["B"] == 0.1);
  CHECK(*events["D"] == 0.25);
  CHECK_FALSE(events["C"]);
  // C; A B; A D (with C they are not minimal)
  const auto sets = trees::CutSets::of(tree);
  REQUIRE(sets);
  CHECK(sets->by_order()[1] == 1);
  CHECK(sets->by_order()[2] == 2);
  CHECK(sets->count() == 3);
  // Without a mission time there is no probability, and that is said.
  const auto timeless = exchange::from_open_psa("t.xml", text, {});
  REQUIRE(timeless);
  REQUIRE(timeless->remarks.size() == 2);
  CHECK(timeless->remarks[1].find("--mission") != std::string::npos);
  CHECK_FALSE(exchange::part_of(*timeless, "G1").events[0].probability);
}

TEST_CASE("What would come to something that looks right is refused, and hostile files cost nothing") {
  const std::string e = "<basic-event name=\"A\"/>";
  CHECK(refused("<opsa-mef><") == "cannot read t.xml:1: it is not well-formed XML: Could not determine tag type");
  CHECK(refused("<other/>") == "cannot read t.xml: it is XML, but no model of fault trees: there is no opsa-mef in it");
  CHECK(refused(model("")) == "cannot read t.xml: there is no `define-gate` in it");
  CHECK(refused(model("<define-gate name=\"T\"/>")) == "cannot read t.xml: gate T takes nothing");
  CHECK(refused(model("<define-gate name=\"T\"><or/></define-gate>")) ==
        "cannot read t.xml: a `or` of gate T takes nothing");
  CHECK(refused(model("<define-gate name=\"T\"><or><gate name=\"G\"/></or></define-gate>")) ==
        "cannot read t.xml: gate T takes gate G, which is not there");
  CHECK(refused(model("<define-gate name=\"T\"><or><event name=\"G\"/></or></define-gate>")) ==
        "cannot read t.xml: gate T takes G, which is not there");
  CHECK(refused(model(
            "<define-gate name=\"T\"><gate name=\"A\"/></define-gate><define-gate name=\"A\"><or><gate name=\"B\"/>" +
            e + "</or></define-gate><define-gate name=\"B\"><gate name=\"A\"/></define-gate>")) ==
        "cannot read t.xml: gate A takes itself, by way of others: B");
  CHECK(refused(model("<define-gate name=\"T\"><xor>" + e + "<basic-event name=\"B\"/></xor></define-gate>"))
            .find("gate T is a `xor`: there something that happens can keep the top from being reached") !=
        std::string::npos);
  CHECK(refused(model("<define-gate name=\"T\"><not>" + e + "</not></define-gate>")).find("is a `not`") !=
        std::string::npos);
  CHECK(refused(model("<define-gate name=\"T\"><atleast min=\"3\">" + e +
                      "<basic-event name=\"B\"/></atleast></define-gate>")) ==
        "cannot read t.xml: an `atleast` of gate T takes 2, and its `min` is 3");
  CHECK(refused(model("<define-gate name=\"T\">" + e + "</define-gate><define-gate name=\"T\">" + e + "</define-gate>"))
            .find("there are two gates called T") != std::string::npos);
  CHECK(refused(model("<define-gate name=\"T\">" + e + "</define-gate>",
                      "<define-basic-event name=\"A\"><float value=\"1.5\"/></define-basic-event>")) ==
        "cannot read t.xml: the probability of A is 1.5, and one is 0 to 1");
  CHECK(refused(model("<define-gate name=\"T\">" + e + "</define-gate>",
                      "<define-basic-event name=\"A\"><float value=\"few\"/></define-basic-event>")) ==
        "cannot read t.xml: `few` is no number");
  CHECK(
      refused(model("<define-gate name=\"T\">" + e + "</define-gate>", "<define-CCF-group name=\"C\" model=\"MGL\"/>"))
          .find("common-cause group C is not read") != std::string::npos);
  CHECK(refused(model("<include file=\"/etc/passwd\"/>")).find("no file that a file names is opened") !=
        std::string::npos);
  CHECK(refused(model("<define-gate name=\"T\"><constant value=\"true\"/></define-gate>")) ==
        "cannot read t.xml: whether its tops are reached depends on nothing");
  CHECK(refused(model("<define-gate name=\"T\">" + e + "</define-gate>",
                      "<define-basic-event name=\"A\"><parameter name=\"p\"/></define-basic-event>"
                      "<define-parameter name=\"p\"><parameter name=\"p\"/></define-parameter>"))
            .find("more than 200 deep") != std::string::npos);
  std::string nested = e;
  for (int i = 0; i < 100'000; ++i) nested = "<or>" + nested;
  CHECK(refused(model("<define-gate name=\"T\">" + nested)).find("not well-formed") != std::string::npos);
  std::string closed = e;
  for (int i = 0; i < 1000; ++i) closed = "<or>" + closed + "</or>";
  CHECK(refused(model("<define-gate name=\"T\">" + closed + "</define-gate>")).find("nests more than 200 deep") !=
        std::string::npos);
  // Entities of a file's own are not followed.
  const std::string laughs =
      "<!DOCTYPE x [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;&a;&a;\"><!ENTITY c SYSTEM "
      "\"file:///etc/passwd\">]>\n"
      "<opsa-mef><define-fault-tree name=\"F\"><define-gate name=\"T\"><label>&b;&c;</label><basic-event "
      "name=\"A\"/></define-gate></define-fault-tree></opsa-mef>";
  CHECK(top_of(laughs).doc == "&b;&c;");
}

TEST_CASE("A tree that is written is read as the same one, and others find it well-formed") {
  const std::string first = model(
      "<define-gate name=\"TOP\"><label>more &lt;than&gt; that</label><or><gate name=\"G-1\"/><and><basic-event "
      "name=\"if\"/>"
      "<atleast min=\"2\"><basic-event name=\"a b\"/><basic-event name=\"C\"/><gate "
      "name=\"G-1\"/></atleast></and></or></define-gate>"
      "<define-gate name=\"G-1\"><or><basic-event name=\"9\"/><basic-event name=\"C\"/></or></define-gate>",
      "<define-basic-event name=\"if\"><attributes><attribute name=\"fault\" "
      "value=\"more\"/></attributes><exponential><float "
      "value=\"1e-6\"/><float value=\"1000\"/></exponential></define-basic-event>"
      "<define-basic-event name=\"9\"><float value=\"0.1\"/></define-basic-event>"
      "<define-basic-event name=\"a b\"><float value=\"0.2\"/></define-basic-event>"
      "<define-basic-event name=\"C\"><float value=\"0.3\"/></define-basic-event>");
  const auto read = exchange::from_open_psa("t.xml", first, {});
  REQUIRE(read);
  CHECK(read->faults.at("if") == "more");
  const trees::FaultTree tree = exchange::part_of(*read, "TOP");
  CHECK(*tree.over_s == 1000 * 3600.0);
  std::vector<std::string> faults;
  for (const auto& e : tree.events) faults.push_back(e.name == "if" ? "more" : "");
  const std::string written = exchange::to_open_psa(tree, faults);
  const auto again = exchange::from_open_psa("u.xml", written, {});
  REQUIRE(again);
  CHECK(again->remarks.empty());
  CHECK(again->faults == read->faults);
  const trees::FaultTree second = exchange::part_of(*again, "TOP");
  CHECK(second.doc == tree.doc);
  REQUIRE(second.events.size() == tree.events.size());
  const auto one = trees::CutSets::of(tree), two = trees::CutSets::of(second);
  REQUIRE((one && two));
  CHECK(*one->probability() == *two->probability());
  const auto named = [](const trees::FaultTree& t, const trees::CutSets& sets) {
    std::set<std::set<std::string>> all;
    for (const auto& c : sets.first(100)) {
      std::set<std::string> names;
      for (const auto e : c.events) names.insert(t.events[static_cast<std::size_t>(e)].name);
      all.insert(names);
    }
    return all;
  };
  CHECK(named(tree, *one) == named(second, *two));
  const TestFolder folder;
  folder.write("tree.xml", written);
  CHECK(shell("xmllint --noout tree.xml", folder.path()).status == 0);

  // As a text of the language: names that it cannot have are changed, and said.
  folder.write("bench.dyne",
               "bench B {\n  step 10 ms\n  param flow : m/s = 1 m/s\n  state level : m = 0 m\n  level' = flow\n}\n"
               "fault more { on flow  times 2 }\n" +
                   exchange::tree_text(tree, faults, "t.xml"));
  const Output run = run_isodyne("tree bench.dyne TOP", folder.path());
  INFO(run.out << run.err);
  CHECK(run.status == 0);
  CHECK(run.out.find(fmt::format("{:.4g}; the sum", *one->probability())) != std::string::npos);
  CHECK(slurp(folder / "bench.dyne").find("## called G-1\n  gate G_1 = event_9 or C") != std::string::npos);
  CHECK(slurp(folder / "bench.dyne").find("## called if\nbasic_event event_if { rate 1e-06 1/h  fault more }") !=
        std::string::npos);
}

TEST_CASE("A tree of a hundred thousand events is read, or refused, in the time that it takes to read it") {
  std::string gates = "<define-gate name=\"TOP\"><or>", inner;
  for (int g = 0; g < 1000; ++g) {
    gates += fmt::format("<gate name=\"G{}\"/>", g);
    inner += fmt::format("<define-gate name=\"G{}\"><or>", g);
    for (int i = 0; i < 50; ++i)
      inner += fmt::format("<and><basic-event name=\"A{0}_{1}\"/><basic-event name=\"B{0}_{1}\"/></and>", g, i);
    inner += "</or></define-gate>\n";
  }
  const trees::FaultTree tree = top_of(model(gates + "</or></define-gate>\n" + inner));
  CHECK(tree.events.size() == 100'000);
  const auto sets = trees::CutSets::of(tree);
  REQUIRE(sets);
  CHECK(sets->count() == 50'000);
  CHECK(sets->by_order()[2] == 50'000);
}
