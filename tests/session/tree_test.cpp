// Fault trees against runs: what is proven, what is refuted, what cannot be, and what the tree does not have.

#include <sstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/csv.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A tank in balance at 0.5 m; each fault moves it by what can be computed: over 10 s more 0.4 m, shut 0.4, little
/// 0.16, clogs 0.24, early 0.2, late 0.2, flood 7. It is full at 1 m. Faults on the same side exclude each other.
std::string balanced(const std::string& tree) {
  return "bench Tank {\n  step 10 ms  method rk4\n  param flow : m/s = 0.05 m/s\n  param drain : m/s = 0.05 m/s\n"
         "  state level : m = 0.5 m\n  level' = flow - drain\n}\n"
         "fault more { on flow  times 2  from 2 s }\n"
         "fault little { on flow  offset 0.02 m/s  from 2 s }\n"
         "fault early { on flow  offset 0.2 m/s  from 1 s lasting 1 s }\n"
         "fault never { on flow  freeze  once level > 50 m }\n"
         "fault shut { on drain  times 0  from 2 s }\n"
         "fault clogs { on drain  offset -0.03 m/s  from 2 s }\n"
         "fault late { on drain  offset -0.2 m/s  from 5 s lasting 1 s }\n"
         "fault flood { on drain  offset -1 m/s  from 3 s }\n"
         "requirement full { always level <= 1 m }\n"
         "requirement empty { always level >= 0.55 m }\n"
         "requirement nothing { always (level > 60 m implies level < 70 m) }\n"
         "scenario stand { hold 10 s }\n"
         "basic_event m { probability 0.1  fault more }\nbasic_event l { probability 0.1  fault little }\n"
         "basic_event e { probability 0.1  fault early }\nbasic_event n { probability 0.1  fault never }\n"
         "basic_event s { probability 0.1  fault shut }\nbasic_event c { probability 0.1  fault clogs }\n"
         "basic_event t { probability 0.1  fault late }\nbasic_event f { probability 0.1  fault flood }\n"
         "basic_event x { probability 0.1 }\n" +
         tree;
}

const char* const kTree =
    "hazard spills {\n  broken full\n  scenario stand\n  gate both = m and s\n"
    "  top = both or (l and c) or (e and t) or (m and l) or n or x or (m and f)\n}\n";

}  // namespace

TEST_CASE(
    "Each cut set is run: what reaches the hazard, what does not, what cannot be, and what the tree does not have") {
  const TestFolder folder;
  folder.write("bench.dyne", balanced(kTree));
  const Output run = run_isodyne("tree bench.dyne spills --prove --out proof.csv", folder.path());
  INFO(run.out << run.err);
  CHECK(run.status == 1);
  const std::string csv = slurp(folder / "proof.csv");
  const auto proof = [&](const std::string& set) { return cell_of(csv, set, "runs say"); };
  CHECK(proof("m and s") == "reaches it");
  CHECK(cell_of(csv, "m and s", "margin") == "-0.3 m");
  CHECK(cell_of(csv, "m and s", "at") == "7 s");
  CHECK(proof("l and c") == "does not reach it");
  CHECK(cell_of(csv, "l and c", "margin") == "0.1 m");
  CHECK(proof("e and t") == "not together");
  CHECK(cell_of(csv, "e and t", "remark") == "early, late were never there at the same time in stand");
  CHECK(proof("m and l") == "not together");
  CHECK(has(cell_of(csv, "m and l", "remark"), "more"));
  CHECK(proof("n") == "never came");
  CHECK(proof("x") == "no fault for it");
  CHECK(proof("m and f") == "reaches it");
  CHECK(cell_of(csv, "m and f", "remark") == "flood alone reaches it");
  const std::string outside = "not in the tree: fault ";
  for (const char* pair : {"more and clogs", "more and late", "little and shut", "early and shut"})
    CHECK(proof(outside + pair) == "reaches it");
  CHECK(proof(outside + "flood") == "reaches it");
  CHECK(cell_of(csv, outside + "early and shut", "remark") == "without all of them acting at the same time");
  std::size_t rows = 0;
  for (const CsvRow& r : read_csv(csv).rows) rows += has(r.text(0), outside) ? 1 : 0;
  CHECK(rows == 5);  // little and late, early and clogs stay below; what has flood in it says nothing new
  shows(run.out, "Not in the tree: 18 combinations of up to 2 faults: 5 reach it, 7 do not reach it, 6 not together");

  // How the runs are shared among each other changes nothing.
  const Output alone = run_isodyne("tree bench.dyne spills --prove --each-alone --jobs 1 --csv", folder.path());
  CHECK(alone.out == slurp(folder / "proof.csv"));
  // The command that is shown does what is said.
  const Output again = run_isodyne(
      cell_of(csv, "m and s", "run again").substr(std::string("isodyne ").size()) + " --no-report", folder.path());
  CHECK(again.status == 1);
  shows(again.out, "-0.3 m");

  const Output one = run_isodyne("tree bench.dyne spills --prove --order 1", folder.path());
  CHECK(one.status == 1);
  shows(one.out, "Not tried: 5 with more than 1 event");
  shows(one.out, "not in the tree: fault flood");
}

TEST_CASE("A scenario that brings a fault itself, breaks the requirement anyway, or never comes to it is no proof") {
  const TestFolder folder;
  // With a push of its own, 0.27 m over 9 s, more makes it spill.
  folder.write("bench.dyne", balanced("fault push { on drain  offset -0.03 m/s  by hand }\n"
                                      "scenario pushed { hold 1 s\n  inject push\n  hold 9 s\n}\n"
                                      "basic_event p { fault push }\n"
                                      "hazard spills { broken full  scenario pushed  top = p or m }\n"));
  const Output pushed = run_isodyne("tree bench.dyne spills --prove --order 1 --csv", folder.path());
  INFO(pushed.out << pushed.err);
  CHECK(cell_of(pushed.out, "p", "runs say") == "does not reach it");
  CHECK(cell_of(pushed.out, "m", "runs say") == "reaches it");

  folder.write("bench.dyne", balanced("hazard low { broken empty  scenario stand  top = c }\n"
                                      "hazard void { broken nothing  scenario stand  top = c }\n"
                                      "hazard where { broken full  top = c }\nhazard when { scenario stand  top = c }\n"
                                      "hazard none { broken full }\n"));
  const Output low = run_isodyne("tree bench.dyne low --prove --order 1", folder.path());
  CHECK(low.status == 3);
  shows(low.out, "without any fault");
  shows(low.err, "without the faults none of its requirements is put to the test and held in stand");
  const Output never = run_isodyne("tree bench.dyne void --prove --order 1", folder.path());
  CHECK(never.status == 3);
  shows(never.out, "no answer");
  CHECK(run_isodyne("tree bench.dyne where --prove", folder.path()).status == 2);
  shows(run_isodyne("tree bench.dyne when --prove", folder.path()).err, "it does not say when it is reached");
  shows(run_isodyne("tree bench.dyne none", folder.path()).err, "has no tree");
  shows(run_isodyne("tree bench.dyne wher", folder.path()).err, "there is no hazard `wher`; did you mean `where`?");
  shows(run_isodyne("tree bench.dyne where --order 2", folder.path()).err, "--order N is about --prove");
  shows(run_isodyne("tree bench.dyne", folder.path()).out, "no tree");
  shows(run_isodyne("tree bench.dyne where --out tree.pdf", folder.path()).err, ".svg, .xml, .dyne or .csv");
}

TEST_CASE("Where an event has no fault, what the others come to without it is told") {
  const TestFolder folder;
  folder.write("bench.dyne",
               balanced("hazard spills { broken full  scenario stand  top = (f given x) or (c given x) }\n"));
  const Output run = run_isodyne("tree bench.dyne spills --prove --csv --order 2", folder.path());
  INFO(run.out << run.err);
  CHECK(cell_of(run.out, "f and x", "runs say") == "reaches it");
  CHECK(cell_of(run.out, "f and x", "remark") == "without x, for which no fault stands");
  CHECK(cell_of(run.out, "x and c", "runs say") == "no fault for it");
  CHECK(cell_of(run.out, "x and c", "remark") == "no fault stands for x; without it: does not reach it");
  // The tree says that it takes x besides; the bench says otherwise.
  CHECK(cell_of(run.out, "not in the tree: fault flood", "remark") ==
        "in the tree only with an event that no fault stands for");
}

TEST_CASE("The picture of a tree has what it says, and of a large one says what it leaves out") {
  const TestFolder folder;
  folder.write("bench.dyne", balanced(kTree));
  REQUIRE(run_isodyne("tree bench.dyne spills --prove --order 1 --out tree.svg", folder.path()).status == 1);
  const std::string svg = slurp(folder / "tree.svg");
  for (const char* part : {">both<", ">more<", ">no fault<", "not in the tree: fault flood", "never came",
                           "and 5 more that were not tried"})
    shows(svg, part);
  CHECK(shell("xmllint --noout tree.svg", folder.path()).status == 0);
  std::string gates = "<opsa-mef><define-fault-tree name=\"F\"><define-gate name=\"T\"><or>";
  for (int g = 0; g < 100; ++g) gates += fmt::format("<gate name=\"G{}\"/>", g);
  gates += "</or></define-gate>";
  for (int g = 0; g < 100; ++g)
    gates += fmt::format(
        "<define-gate name=\"G{0}\"><and><basic-event name=\"a{0}\"/><basic-event name=\"b&amp;{0}\"/>"
        "<basic-event name=\"c\"/></and></define-gate>",
        g);
  folder.write("large.xml", gates + "</define-fault-tree></opsa-mef>");
  REQUIRE(run_isodyne("tree large.xml --out large.svg", folder.path()).status == 0);
  // What a screen has not, is told; a table for others has all of it.
  const Output shown = run_isodyne("tree large.xml", folder.path());
  shows(shown.out, "… and 70 more; --most shows them");
  shows(shown.out, "No probability: there is neither a rate nor a probability of a0, b&0, c, a1, b&1");
  shows(shown.out, " and 189 more");
  CHECK(read_csv(run_isodyne("tree large.xml --csv", folder.path()).out).rows.size() == 101);
  const Output first = run_isodyne("tree large.xml --csv --most 7", folder.path());
  CHECK(read_csv(first.out).rows.size() == 8);
  shows(first.err, "The table has the first 7 of 100 cut sets");
  shows(slurp(folder / "large.svg"), "Not drawn: what is below 34 gates; a triangle stands for it.");
  shows(slurp(folder / "large.svg"), "and 60 more that are not shown here");
  CHECK(shell("xmllint --noout large.svg", folder.path()).status == 0);
}

TEST_CASE(
    "Every command of docs/hazards.md does what it says, and one cut set of the lock is proven, another refuted") {
  const TestFolder folder;
  REQUIRE(shell(fmt::format("cp -r {}/examples/canal-lock/. .", ISODYNE_SOURCE_FOLDER), folder.path()).status == 0);
  std::istringstream text(slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/docs/hazards.md"));
  int commands = 0;
  for (std::string line; std::getline(text, line);) {
    if (!line.starts_with("    isodyne ")) continue;
    ++commands;
    const Output o = shell(ISODYNE_PROGRAM + line.substr(11), folder.path());
    INFO(line << "\n" << o.out << o.err);
    CHECK(o.status == 0);
    if (!has(line, "--prove")) continue;
    shows(o.out, "4 cut sets in 46 runs: 1 reaches it, 3 do not reach it");
    shows(o.out, "reading_drifts        0.0174  reaches it");
    shows(o.out, "heads_swapped         0.0002  does not reach it");
  }
  CHECK(commands == 5);
  // The tree of the file is the one of the bench.
  shows(slurp(folder / "tree.svg"), "reaches it in uplock");
  shows(run_isodyne("tree tree.xml", folder.path()).out, "Probability over 8760 h: 0.03538");
}

TEST_CASE("Hazards, their requirements and what is missing of them are in the trace") {
  const TestFolder folder;
  folder.write("bench.dyne",
               balanced("requirement looked { by review }\n"
                        "hazard spills { level \"SIL 2\"  broken full  requirement nothing, looked  scenario stand }\n"
                        "hazard forgotten { scenario stand }\n"));
  REQUIRE(run_isodyne("run bench.dyne stand --no-report --out one", folder.path()).status == 1);
  const Output trace = run_isodyne("trace one", folder.path());
  shows(trace.out, "Hazards that no requirement keeps away: forgotten.");
  shows(trace.out, "Requirements of hazards without a level: full, nothing, looked.");
  shows(trace.out, "Requirements of hazards that are allocated to nobody: full, nothing, looked.");
  shows(trace.out, "Requirements of hazards that people alone judge: looked.");
  shows(trace.out, "Requirements of hazards that no run put to the test: nothing.");
  const Output json = run_isodyne("trace one --json", folder.path());
  shows(json.out, "\"by_review\": true");
  shows(run_isodyne("trace one --csv", folder.path()).out, "full,,stand,,,held,0.5 m,one,spills,,");
  const Output lock = run_isodyne("list " + kLock + " hazards", folder.path());
  shows(lock.out, "SIL 2");
}
