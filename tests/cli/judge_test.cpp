// Judging, measuring, tracing and exchanging as people do it: the built program on files and runs.

#include <bit>
#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace fs = std::filesystem;
using Json = nlohmann::json;

namespace {

const std::string kPump = kSource + "/examples/drain-pump/pump.dyne";

constexpr const char* kJudged = R"(
model Tank { input inflow : m/s
  param leak : 1/s = 0.1 1/s
  output state level : m = 1 m
  level' = inflow - leak * level }
bench Small {
  step 10 ms
  record every 10 ms
  input pump : m/s = 0 m/s
  part tank : Tank
  tank.inflow = pump
  sensor tx { of tank.level  range 0 m .. 10 m  every 10 ms  noise 1 cm }
}
condition high = tank.level > 2 m
fault stuck { on tx  freeze  once high }
fault odd { on tank.leak  times 2  from 100 s }
scenario fill { set pump = 0.5 m/s
  wait until tank.level > 3 m within 20 s
  expect tx > 2.9 m
  set pump = 0 m/s
  hold 2 s }
measure rise { of tank.level  rise_time to 3 m  over 0 s .. 8 s }
requirement R-1 { always tank.level <= 2.5 m }
requirement R-2 { whenever high becomes active then within 2 s tx > 2.2 m }
requirement R-3 { always (pump > 0.1 m/s implies tank.level > 0.5 m stays for 1 s) }
requirement R-4 { always rise <= 9 s }
requirement R-5 { whenever stuck becomes active then within 1 s tx > 9 m }
requirement R-6 { id "_other-tool-17"  source "Contract, 4"  by review }
harness alone of tank { inflow = 0.2 m/s }
)";

/// The folder with a bench, and a run of it in `r`.
struct Ran {
  TestFolder folder;
  Output run;
  explicit Ran(const std::string& options = "") {
    folder.write("bench.dyne", kJudged);
    run = isodyne("run bench.dyne fill --no-report --out r " + options);
  }
  Output isodyne(const std::string& arguments) const { return run_isodyne(arguments, folder.path()); }
  Json json(const std::string& arguments) const {
    const Output o = isodyne(arguments + " --json");
    INFO(o.err);
    return Json::parse(o.out);
  }
};

}  // namespace

TEST_CASE("A recording of every instant is judged as the run was, to the last digit") {
  const Ran r("--fault stuck");
  CHECK(r.run.status == 1);
  const Json run = Json::parse(slurp(r.folder / "r/verdicts.json"));
  const Json again = r.json("judge r");
  CHECK(run.at("requirements") == again.at("requirements"));
  CHECK(run.at("requirements").size() == 7);
  CHECK(r.isodyne("judge r").status == 1);
  CHECK(r.isodyne("judge r/recording.h5").status == 1);
}

TEST_CASE("Other rules are asked of a recording, with conditions of their own") {
  const Ran r;
  r.folder.write(
      "more.dyne",
      "use \"words.dyne\"\ncondition very = tank.level > deep\n"
      "requirement N-1 { never very }\nrequirement N-2 { whenever very becomes active then within 5 s pump < 1 m/s }\n"
      "measure top { of tank.level  most }\nrequirement N-3 { always top < 4 m }\n");
  r.folder.write("words.dyne", "condition unused = pump > 0 m/s\n");
  Output o = r.isodyne("judge r more.dyne");
  CHECK(o.status == 2);
  shows(o.err, "more.dyne:2:31: error: nothing here is called `deep`");
  r.folder.write(
      "more.dyne",
      "use \"words.dyne\"\ncondition very = tank.level > 2.8 m\n"
      "requirement N-1 { never very }\nrequirement N-2 { whenever very becomes active then within 5 s pump < 1 m/s }\n"
      "measure top { of tank.level  most }\nrequirement N-3 { always top < 4 m }\n");
  const Json j = r.json("judge r more.dyne");
  REQUIRE(j.at("requirements").size() == 3);
  CHECK(j["requirements"][0]["verdict"] == "broken");
  CHECK(j["requirements"][1]["verdict"] == "held");
  CHECK(j["requirements"][2]["verdict"] == "held");
  o = r.isodyne("judge r more.dyne --out again");
  CHECK(fs::exists(r.folder / "again/verdicts.xml"));
  CHECK(r.isodyne("judge r nowhere.dyne").status == 2);
}

TEST_CASE("Rules that a recording cannot answer are named with a code") {
  const Ran r;
  r.folder.write(
      "long.dyne",
      "requirement N { whenever pump > 9 m/s then within 10 min tank.level > 1 m }\n"
      "requirement M { always (tank.level > 0 m stays for 10 min) }\nmeasure m { of pump  mean  over 0 s .. 1 h }\n");
  const Output o = r.isodyne("judge r long.dyne");
  CHECK(o.status == 0);
  shows(o.err, "long.dyne:1:17: warning: requirement N speaks of 600 s, but the recording is");
  shows(o.err, "[window-too-long]");
  shows(o.err, "requirement M speaks of");
  shows(o.err, "measure `m` speaks of");
  shows(o.out, "undecided");
  // a recording of which somebody took a signal away
  shell("/usr/bin/python3 -c \"import h5py; f = h5py.File('r/recording.h5', 'a'); del f['signals/tank.level']\"",
        r.folder.path());
  r.folder.write("level.dyne", "requirement N { always tank.level < 9 m }\n");
  const Output gone = r.isodyne("judge r level.dyne");
  CHECK(gone.status == 2);
  shows(gone.err, "level.dyne:1:17: error: requirement N reads `tank.level`, which was not recorded [not-recorded]");
  // … and that something else is made of, or remembers
  r.folder.write("made.dyne",
                 "condition deep = tank.level > 2 m\nrequirement N { never deep }\n"
                 "requirement M { whenever deep becomes active then within 1 s pump < 1 m/s }\n");
  const Output made = r.isodyne("judge r made.dyne");
  CHECK(made.status == 2);
  shows(made.err,
        "requirement N reads `deep`, which is made of `tank.level`, and that was not recorded [not-recorded]");
  shows(made.err, "requirement M reads");
}

TEST_CASE("With --strict, what was not put to the test is a failure") {
  const Ran r;
  r.folder.write("one.dyne", "requirement N { whenever tank.level > 50 m then pump < 1 m/s }\n");
  CHECK(r.isodyne("judge r one.dyne").status == 0);
  CHECK(r.isodyne("judge r one.dyne --strict").status == 1);
}

TEST_CASE("A recording that misses instants says so, one that is cut off, empty or foreign is told with status 3") {
  const TestFolder folder;
  std::string coarse = kJudged;
  coarse.replace(coarse.find("record every 10 ms"), 18, "record every 500 ms");
  folder.write("bench.dyne", coarse);
  CHECK(run_isodyne("run bench.dyne fill --no-report --out r", folder.path()).status == 1);
  shows(run_isodyne("judge r", folder.path()).out,
        "The recording has an image every 500 ms, where the run was judged every 10 ms");
  CHECK(run_isodyne("judge nowhere", folder.path()).status == 3);
  folder.write("text.h5", "no recording");
  CHECK(run_isodyne("judge text.h5", folder.path()).status == 3);
  const std::string whole = slurp(folder / "r/recording.h5");
  folder.write("half.h5", whole.substr(0, whole.size() / 2));
  const Output half = run_isodyne("judge half.h5", folder.path());
  CHECK(half.status == 3);
  CHECK(half.err.find("half.h5") != std::string::npos);
  // killed while it runs: what was flushed is judged
  folder.write("long.dyne", kJudged);
  shell(
      fmt::format("timeout -s KILL 2 {} run long.dyne --for \"20000 h\" --no-report --interpret --out k", ISODYNE_PROGRAM),
      folder.path());
  const Output killed = run_isodyne("judge k", folder.path());
  CHECK(killed.status == 3);
  if (killed.err.find("nothing was recorded") == std::string::npos) shows(killed.out, "The recording breaks off at");
}

TEST_CASE("Measures of the bench and measures written out") {
  const Ran r;
  const Json all = r.json("measure r");
  REQUIRE(all.size() == 1);
  CHECK(all[0]["measure"] == "rise");
  const Json two = r.json("measure r \"of tank.level  most\" \"of pump > 0.1 m/s  count\"");
  REQUIRE(two.size() == 2);
  CHECK(two[0]["value"].get<double>() == Approx(3).margin(0.05));
  CHECK(two[0]["unit"] == "m");
  shows(r.isodyne("measure r rize").err, "did you mean `rise`?");
  const Output wrong = r.isodyne("measure r \"of tank.levl  most\"");
  CHECK(wrong.status == 2);
  shows(wrong.err, "did you mean `level`?");
}

TEST_CASE("The fault list tells what names a fault, what caught it, and which scenario gets to its trigger") {
  const Ran r;
  const Json all = r.json("faults bench.dyne");
  REQUIRE(all.size() == 2);
  CHECK(all[0]["fault"] == "stuck");
  CHECK(all[0]["named_by"] == Json::array({"R-5"}));
  CHECK(all[0]["scenarios"].is_null());
  CHECK(all[1]["scenarios"] == Json::array());  // the scenario is over long before
  const Json tried = r.json("faults bench.dyne --try");
  REQUIRE(tried[0]["scenarios"].size() == 1);
  CHECK(tried[0]["scenarios"][0].get<std::string>().starts_with("fill at 2."));
  shows(r.isodyne("faults bench.dyne").out, "2 faults; 1 that no requirement names; 1 that no scenario gets to.");
  shows(r.isodyne("faults bench.dyne --csv").out, "odd,tank.leak,times 2,from 100 s,,,,");
}

TEST_CASE("Scenarios that are tried beside each other are told in their order") {
  const TestFolder folder;
  std::string text = "bench B {\n  step 1 ms\n  let x : m = time * 1 m/s\n  param p : 1 = 1\n}\n";
  for (int i = 1; i <= 9; ++i) {  // the first ones take the longest
    text += fmt::format("fault f{0} {{ on p  times 2  once x > {1} m }}\n", i, 10 - i);
    text += fmt::format("scenario s{0} {{ hold {1}.5 s }}\n", i, 10 - i);
  }
  folder.write("b.dyne", text);
  const Output out = run_isodyne("faults b.dyne --try --json", folder.path());
  INFO(out.err);
  REQUIRE(out.status == 0);
  const Json all = Json::parse(out.out);
  REQUIRE(all.size() == 9);
  for (std::size_t f = 0; f < 9; ++f) {
    const Json& scenarios = all[f]["scenarios"];
    REQUIRE(scenarios.size() == f + 1);
    for (std::size_t s = 0; s <= f; ++s) CHECK(scenarios[s] == fmt::format("s{} at {}.001 s", s + 1, 9 - f));
  }
}

TEST_CASE("What is wrong with a module for a channel is told at the channel, and at each") {
  const TestFolder folder;
  folder.write("b.dyne", R"(use library "modules.dyne"
bench B {
  step 10 ms
  let level : m = 1 m
  sensor one { of level  every 10 ms }
  sensor two { of level  every 10 ms }
  rack r {
    slot 1 : Platinum4 {
      channel 1 : one
      channel 2 : two
    }
  }
}
)");
  const Output o = run_isodyne("check b.dyne", folder.path());
  CHECK(o.status == 2);
  shows(o.err, "b.dyne:5:10: error: ");
  shows(o.err, "b.dyne:6:10: error: ");
  shows(o.err, ": its module says this");
  CHECK(o.err.find("library/modules.dyne:77:1: error") == std::string::npos);
  CHECK(o.err.find("\nlibrary/") == std::string::npos);
}

TEST_CASE("The trace shows what was judged where, and what nothing covers") {
  const Ran r;
  r.isodyne("run bench.dyne fill --fault stuck --no-report --out s");
  r.isodyne("run bench.dyne fill --fault odd --no-report --out n");
  const Output o = r.isodyne("trace r s n --out t");
  CHECK(o.status == 1);
  shows(o.out, "3  fill with odd; not injected: odd");
  shows(o.out, "Not put to the test by any run: R-6.");
  shows(o.out, "Faults that no run injected: odd.");
  const std::string csv = slurp(r.folder / "t/trace.csv");
  shows(csv, "R-5,,fill,stuck,,broken,");
  shows(csv, "R-6,\"Contract, 4\",fill,,,not put to the test,,r");
  shows(csv, "R-1,,fill,,odd,broken,");
  shows(csv, ",,,odd,,never injected,,");
  CHECK(shell("xmllint --noout t/trace.svg", r.folder.path()).status == 0);
  const Json j = r.json("trace r s");
  CHECK(j["scenarios_never_played"] == Json::array());
  CHECK(r.isodyne("trace r nowhere").status == 2);
}

TEST_CASE("What names a fault and what caught it are two things") {
  const Ran r;
  r.isodyne("run bench.dyne fill --fault stuck --no-report --out s");
  // R-1 is broken without the fault too; R-2 and R-5 are its doing, and R-5 alone names it.
  const Output o = r.isodyne("trace r s");
  shows(o.out, "Fault  Acted in  Named by  Caught by");
  shows(o.out, "stuck  2         R-5       R-2 in 2; R-5 in 2");
  const Json j = r.json("trace r s");
  CHECK(j["faults"][0]["caught_by"] ==
        Json::parse(R"([{"requirement": "R-2", "runs": ["s"]}, {"requirement": "R-5", "runs": ["s"]}])"));
  CHECK(j["faults"][1]["acted_in"] == Json::array());
  // Without the healthy twin nobody can say so of the others.
  CHECK(r.json("trace s")["faults"][0]["caught_by"].size() > 1);
  const Output list = r.isodyne("faults bench.dyne r s");
  shows(list.out, "R-2 in s; R-5 in s");
  shows(list.out, "did not act");
  shows(r.isodyne("faults bench.dyne").out, "Which requirements a fault breaks takes runs");
}

TEST_CASE("What was broken before a fault acted is not its doing, and a missing healthy run is told") {
  const TestFolder folder;
  folder.write("b.dyne", R"(bench B {
  step 10 ms
  input push : m = 0 m
  let x : m = push + (if time >= 1 s and time < 1.5 s then 5 m else 0 m)
  let y : m = push
}
fault shove { on push  offset 9 m  from 2 s }
fault nudge { on y  offset 1 m  from 0.5 s }
scenario s { hold 3 s }
requirement B-1 { always x < 4 m }
requirement B-2 { always y < 4 m }
)");
  const auto isodyne = [&](const std::string& words) { return run_isodyne(words, folder.path()); };
  REQUIRE(isodyne("run b.dyne s --fault shove --no-report --out shoved").status == 1);
  // B-1 was broken at 1 s, B-2 by the fault at 2 s.
  const Output alone = isodyne("trace shoved");
  shows(alone.out, "shove  1         nothing   B-2 in 1");
  shows(alone.out, "No run of the same scenario and values without a fault is here for 1");
  shows(isodyne("faults b.dyne shoved").out, "B-2 in shoved");
  shows(isodyne("faults b.dyne shoved").out,
        "No run of the same scenario and values without a fault is here for shoved");
  REQUIRE(isodyne("run b.dyne s --no-report --out healthy").status == 1);
  CHECK(!has(isodyne("trace shoved healthy").out, "No run of the same scenario"));
  REQUIRE(isodyne("run b.dyne s --fault shove --fault nudge --no-report --out both").status == 1);
  const Output three = isodyne("trace healthy shoved both");
  shows(three.out, "Several faults acted in 3: what was broken there may be the work of any of them.");
  // The report says the same.
  REQUIRE(isodyne("report healthy shoved both --out r.html").status == 0);
  const std::string html = slurp(folder / "r.html");
  shows(html, "<td>shove</td><td>nothing</td><td>B-2 in s with shove, s with shove and nudge</td>");
  shows(html, "Several faults acted in s with shove and nudge");
}

TEST_CASE("A report says first that a run was not what was asked for, and tells runs of the same name apart") {
  const TestFolder folder;
  folder.write("b.dyne",
               "bench B {\n  step 10 ms\n  let x : m = time * 1 m/s\n}\nfault late { on x  offset 1 m  from 9 s }\n"
               "scenario s { hold 1 s }\nscenario stuck { wait until x > 9 m within 2 s }\n"
               "requirement R-1 { always x < 8 m }\n");
  const auto isodyne = [&](const std::string& words) { return run_isodyne(words, folder.path()); };
  REQUIRE(isodyne("run b.dyne stuck --out stuck").status == 3);
  const std::string alone = slurp(folder / "stuck/report.html");
  const std::size_t early = alone.find("The run ended early"), none = alone.find("No requirement was broken");
  REQUIRE(early != std::string::npos);
  REQUIRE(none != std::string::npos);
  CHECK(early < none);
  CHECK(alone.find("The run ended early", early + 1) == std::string::npos);  // once is enough
  REQUIRE(isodyne("run b.dyne s --no-report --out first").status == 0);
  REQUIRE(isodyne("run b.dyne s --fault late --no-report --out late").status == 0);
  REQUIRE(isodyne("run b.dyne s --no-report --out second").status == 0);
  REQUIRE(isodyne("report first late second --out all.html").status == 0);
  const std::string all = slurp(folder / "all.html");
  CHECK(all.find("<b>Fault late was not injected:</b>") < all.find("No requirement was broken: 3 held."));
  shows(all, "<th><a href=\"#run1\">s (first)</a></th>");
  shows(all, "<th><a href=\"#run2\">s with late</a></th>");
  shows(all, "<th><a href=\"#run3\">s (second)</a></th>");
}

TEST_CASE("Expectation pairs go out as ReqIF and come back as legal requirements of the same meaning") {
  const TestFolder folder;
  const std::string rest =
      "  step 10 ms\n  let x : m = time * 1 m/s\n  let lamp : bool = x > 3 m and x < 4 m\n}\n"
      "condition early = x > 1 m\ncondition late = x > 2.95 m\nscenario s { hold 5 s }\n";
  folder.write("pairs.dyne", "bench B {\n" + rest +
                                 "## Pair.\nexpectation E-1 {\n  act is (lamp # not \"x > 3\"\n    and x > 0 m)\n"
                                 "  must act on late within 100 ms\n  must not act on early within 3 s\n}\n"
                                 "requirement R-2 { always (x >= 0 m # never below\n and x < 9 m) }\n");
  folder.write("plain.dyne", "bench B {\n" + rest);
  REQUIRE(run_isodyne("export reqif pairs.dyne --out e.reqif", folder.path()).status == 0);
  REQUIRE(run_isodyne("import reqif e.reqif --out back.dyne", folder.path()).status == 0);
  const std::string back = slurp(folder / "back.dyne");
  shows(back, "requirement E-1/late {");
  shows(back, "always (x >= 0 m and x < 9 m)");
  REQUIRE(run_isodyne("run pairs.dyne s --no-report --out p", folder.path()).status == 1);
  REQUIRE(run_isodyne("judge p back.dyne --out again", folder.path()).status == 1);
  const Json first = Json::parse(slurp(folder / "p/verdicts.json")),
             again = Json::parse(slurp(folder / "again/verdicts.json"));
  REQUIRE(first["requirements"].size() == 3);
  REQUIRE(again["requirements"].size() == 3);
  std::map<std::string, Json> by_name;
  for (const Json& row : again["requirements"]) by_name[row["name"]] = row["verdict"];
  for (const Json& row : first["requirements"]) CHECK(by_name.at(row["name"]) == row["verdict"]);
  CHECK(by_name.at("E-1/early") == "broken");
  CHECK(by_name.at("E-1/late") == "held");
}

TEST_CASE("A formula of another file that is not in our language, or is more than one, stays a comment") {
  const TestFolder folder;
  const auto file = [](const std::string& formula) {
    return "<REQ-IF><CORE-CONTENT><REQ-IF-CONTENT><SPEC-TYPES><SPEC-OBJECT-TYPE><SPEC-ATTRIBUTES>"
           "<ATTRIBUTE-DEFINITION-STRING IDENTIFIER=\"f\" LONG-NAME=\"Formula\"/></SPEC-ATTRIBUTES></SPEC-OBJECT-TYPE>"
           "</SPEC-TYPES><SPEC-OBJECTS><SPEC-OBJECT IDENTIFIER=\"a\"><VALUES><ATTRIBUTE-VALUE-STRING THE-VALUE=\"" +
           formula +
           "\"><DEFINITION><ATTRIBUTE-DEFINITION-STRING-REF>f</ATTRIBUTE-DEFINITION-STRING-REF></DEFINITION>"
           "</ATTRIBUTE-VALUE-STRING></VALUES></SPEC-OBJECT></SPEC-OBJECTS></REQ-IF-CONTENT></CORE-CONTENT></REQ-IF>";
  };
  for (const char* formula : {"P(x) &gt; 0.9", "always true } requirement B { always true", "always true # and more"}) {
    INFO(formula);
    folder.write("f.reqif", file(formula));
    const Output o = run_isodyne("import reqif f.reqif", folder.path());
    CHECK(o.status == 0);
    shows(o.out, "  # this formula of it is not in our language: ");
    shows(o.out, "by review\n}");
    shows(o.err, "1 of them has a formula that is not in our language");
  }
  folder.write("f.reqif", file("always x &gt; 1 m"));
  shows(run_isodyne("import reqif f.reqif", folder.path()).out, "  always x > 1 m\n}");
}

TEST_CASE("Rules may use files of their own folder and of the library that the run did not use") {
  const Ran r;
  r.folder.write("more/limits.dyne", "function most_level() -> m = 2.5 m\n");
  r.folder.write("more/rules.dyne",
                 "use \"limits.dyne\"\nuse library \"modules.dyne\"\n"
                 "requirement L-1 { always tank.level < most_level() }\n"
                 "requirement L-2 { always platinum(20 degC) > 100 ohm }\n");
  const Output o = r.isodyne("judge r more/rules.dyne");
  INFO(o.err);
  CHECK(o.status == 1);
  shows(o.out, "L-2");
  shows(o.out, "The rules use \"modules.dyne\" of the library as it is now: the run did not.");
}

TEST_CASE("Requirements go out as ReqIF and come back with their identifiers") {
  const Ran r;
  CHECK(r.isodyne("export reqif bench.dyne --out out.reqif").status == 0);
  CHECK(shell("xmllint --noout out.reqif", r.folder.path()).status == 0);
  const std::string out = slurp(r.folder / "out.reqif");
  shows(out, "<SPEC-OBJECT IDENTIFIER=\"_other-tool-17\"");
  shows(out, "THE-VALUE=\"always tank.level &lt;= 2.5 m\"");
  const Output o = r.isodyne("import reqif out.reqif --out back.dyne");
  CHECK(o.status == 0);
  shows(o.err, "6 requirements in back.dyne; 1 without a formula");
  // the rules that came back are judged like the first ones, and go out the same way
  const Json first = r.json("judge r"), again = r.json("judge r back.dyne");
  for (std::size_t i = 0; i < 6; ++i) {
    CHECK(first["requirements"][i]["verdict"] == again["requirements"][i]["verdict"]);
    CHECK(first["requirements"][i]["worst_margin"] == again["requirements"][i]["worst_margin"]);
  }
  const std::string bench = slurp(r.folder / "bench.dyne");
  r.folder.write("second.dyne", "use \"back.dyne\"\n" + bench.substr(0, bench.find("requirement R-1")) +
                                    bench.substr(bench.find("harness")));
  CHECK(r.isodyne("export reqif second.dyne --out second.reqif").status == 0);
  CHECK(slurp(r.folder / "second.reqif") == out);
  CHECK(r.isodyne("import reqif out.reqif --out back.dyne").status == 3);  // it is there already
}

TEST_CASE("A ReqIF file of another tool is read, one that is none, or means harm, is told") {
  const TestFolder folder;
  const char* foreign = R"(<?xml version="1.0"?>
<r:REQ-IF xmlns:r="http://www.omg.org/spec/ReqIF/20110401/reqif.xsd" xmlns:x="http://www.w3.org/1999/xhtml"><r:CORE-CONTENT><r:REQ-IF-CONTENT>
<r:SPEC-TYPES><r:SPEC-OBJECT-TYPE IDENTIFIER="t"><r:SPEC-ATTRIBUTES>
<r:ATTRIBUTE-DEFINITION-XHTML IDENTIFIER="a1" LONG-NAME="ReqIF.Text"/><r:ATTRIBUTE-DEFINITION-STRING IDENTIFIER="a2" LONG-NAME="ReqIF.ForeignID"/>
</r:SPEC-ATTRIBUTES></r:SPEC-OBJECT-TYPE></r:SPEC-TYPES>
<r:SPEC-OBJECTS><r:SPEC-OBJECT IDENTIFIER="_9f"><r:VALUES>
<r:ATTRIBUTE-VALUE-XHTML><r:DEFINITION><r:ATTRIBUTE-DEFINITION-XHTML-REF>a1</r:ATTRIBUTE-DEFINITION-XHTML-REF></r:DEFINITION>
<r:THE-VALUE><x:div>The pump <x:b>shall</x:b> run &amp; stop "dry"</x:div></r:THE-VALUE></r:ATTRIBUTE-VALUE-XHTML>
<r:ATTRIBUTE-VALUE-STRING THE-VALUE="REQ 12 {a}"><r:DEFINITION><r:ATTRIBUTE-DEFINITION-STRING-REF>a2</r:ATTRIBUTE-DEFINITION-STRING-REF></r:DEFINITION></r:ATTRIBUTE-VALUE-STRING>
</r:VALUES></r:SPEC-OBJECT><r:SPEC-OBJECT IDENTIFIER="_a0" LONG-NAME="REQ-12-a"/></r:SPEC-OBJECTS></r:REQ-IF-CONTENT></r:CORE-CONTENT></r:REQ-IF>)";
  folder.write("f.reqif", foreign);
  const Output o = run_isodyne("import reqif f.reqif", folder.path());
  CHECK(o.status == 0);
  shows(o.out, "## The pump shall run & stop \"dry\"\nrequirement REQ-12-a {\n  id \"_9f\"\n  by review\n}");
  shows(o.out, "requirement REQ-12-a-2 {");
  folder.write("rules.dyne", o.out);
  folder.write("bench.dyne", "use \"rules.dyne\"\nbench B { step 1 ms\n let x : m = 1 m\n}\n");
  CHECK(run_isodyne("check bench.dyne", folder.path()).status == 0);

  const auto refused = [&](const std::string& text, const std::string& part) {
    folder.write("bad.reqif", text);
    const Output bad = run_isodyne("import reqif bad.reqif --out never.dyne", folder.path());
    CHECK(bad.status == 2);
    shows(bad.err, part);
    CHECK_FALSE(fs::exists(folder / "never.dyne"));
  };
  refused("<REQ-IF><CORE", "not well-formed XML");
  refused("<html/>", "it is XML, but not ReqIF");
  refused("", "not well-formed XML");
  std::string twice = foreign;
  twice.replace(twice.find("\"_a0\""), 5, "\"_9f\"");
  refused(twice, "two objects with the IDENTIFIER _9f");
  // entities that would grow without end are left as they are
  folder.write("bomb.reqif",
               "<?xml version=\"1.0\"?><!DOCTYPE z [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;\">]>"
               "<REQ-IF><CORE-CONTENT><REQ-IF-CONTENT><SPEC-OBJECTS><SPEC-OBJECT IDENTIFIER=\"_1\" "
               "LONG-NAME=\"&b;\"/></SPEC-OBJECTS></REQ-IF-CONTENT></CORE-CONTENT></REQ-IF>");
  CHECK(run_isodyne("import reqif bomb.reqif", folder.path()).status == 0);
  std::string deep = "<REQ-IF><CORE-CONTENT><REQ-IF-CONTENT><SPEC-OBJECTS><SPEC-OBJECT IDENTIFIER=\"_1\"><VALUES>";
  for (int i = 0; i < 200'000; ++i) deep += "<a>";
  folder.write("deep.reqif", deep);
  CHECK(run_isodyne("import reqif deep.reqif", folder.path()).status == 2);
  shell("head -c 70000000 /dev/zero | tr '\\0' ' ' > huge.reqif", folder.path());
  shows(run_isodyne("import reqif huge.reqif", folder.path()).err, "larger than 64 MiB");
}

TEST_CASE("A part alone gets what the harness gives it, and what cannot be judged is named") {
  const Ran r;
  const Output o = r.isodyne("run bench.dyne --harness alone --for \"20 s\" --no-report --out h");
  INFO(o.out << o.err);
  CHECK(o.status == 1);  // at 2 m the rise to 3 m of R-4 never comes
  shows(o.out, "R-1");
  const auto recording = record::Recording::open(r.folder / "h/recording.h5");
  REQUIRE(recording);
  // level' = 0.2 - 0.1 level from 1: 2 - exp(-t / 10 s)
  CHECK((*recording)->signal("tank.level")->back() == Approx(2 - std::exp(-2)).epsilon(1e-6));
  shows(r.isodyne("run bench.dyne --harness alon --for \"1 s\"").err, "did you mean `alone`?");
}

TEST_CASE(
    "A controller alone reads inputs of the bench that the harness gives, and scenarios that set them are named") {
  const TestFolder folder;
  folder.write("b.dyne", R"(model Tank { input inflow : m/s
  output state level : m = 1 m
  level' = inflow }
model Keeper { input level : m
  input wanted : m
  input open : bool
  output feed : m/s
  feed = if open and level < wanted then 0.1 m/s else 0 m/s }
bench B {
  step 10 ms
  record every 10 ms
  input wanted : m = 2 m
  input open : bool = true
  part tank : Tank
  tank.inflow = feed
  sensor level { of tank.level  every 10 ms }
  actuator feed : m/s
  controller c { every 10 ms  reads level, wanted, open  writes feed  setting model = part Keeper }
}
harness H of c {
  level = 1 m + 1 m/s * time
  wanted = if time >= 1 s then 3 m else 1.5 m
}
scenario higher {
  set wanted = 4 m
  hold 1 s
}
scenario shut {
  hold 0.2 s
  set open = false
  hold 0.2 s
}
requirement K-1 { whenever level > wanted then within 100 ms feed < 0.01 m/s }
)");
  const Output o = run_isodyne("run b.dyne --harness H --for '2 s' --no-report --out h", folder.path());
  INFO(o.err);
  CHECK(o.status == 0);
  shows(o.out, "K-1          held");
  shows(o.out, "Not with this harness: scenario higher (needs wanted, which the harness gives).");
  const auto run = record::Recording::open_run(folder / "h");
  REQUIRE(run);
  const auto wanted = (*run)->signal("wanted"), feed = (*run)->signal("feed");
  REQUIRE(wanted);
  CHECK((*wanted)[99] == 1.5);
  CHECK((*wanted)[100] == 3);
  CHECK((*feed)[20] == 0.1);   // 1.2 m and 1.5 m wanted
  CHECK((*feed)[60] == 0);     // 1.6 m
  CHECK((*feed)[110] == 0.1);  // 3 m wanted since 1 s
  // Inputs that it does not give are set as ever.
  CHECK(run_isodyne("run b.dyne shut --harness H --no-report --out s", folder.path()).status <= 1);
  CHECK(run_isodyne("run b.dyne higher --harness H --no-report", folder.path()).status == 2);
}

TEST_CASE("A controller alone reads what the harness gives, and is judged by the rules that fit") {
  const TestFolder folder;
  const Output o =
      run_isodyne("run " + kPump + " --harness relay_alone --for \"500 ms\" --no-report --out h", folder.path());
  INFO(o.err);
  CHECK(o.status == 0);
  shows(o.out, "DP-6");
  shows(o.out, "Cannot be judged with this harness: requirement DP-3 (needs motor.on)");
  CHECK(run_isodyne("judge h", folder.path()).status == 0);
}

TEST_CASE("A run stops where it is told, writes what there is, and goes on") {
  const Ran r;
  const Output o = r.isodyne(
      "run bench.dyne fill --no-report --out b --break 'tank.level > 2 m and pump > 0.1 m/s' --break-dump d.json");
  CHECK(o.status == 1);
  const Json d = Json::parse(slurp(r.folder / "d.json"));
  CHECK(d["values"]["tank.level"]["si"].get<double>() == Approx(2).margin(0.01));
  CHECK(d["values"]["high"]["read"] == "true");
  // the run is the same as without
  CHECK(slurp(r.folder / "b/recording.h5") == slurp(r.folder / "r/recording.h5"));
  shows(r.isodyne("run bench.dyne fill --break 'tank.level > 2 s' --break-dump d.json").err, "[unit-mismatch]");
  shows(r.isodyne("run bench.dyne fill --break 'pump > 0 m/s' < /dev/null").err, "there is no terminal");
  shows(r.isodyne("run bench.dyne fill --paced --break 'pump > 0 m/s' --break-dump d.json").err, "leave out --paced");
}

TEST_CASE("At a terminal a stopped run is stepped, changed, saved and ended") {
  const Ran r;
  r.folder.write("keys",
                 "show tank\nset pump = 0.9 m/s\nset pump = 3 s\narm stack\ninject stuck\nstep 10\nsave here.json\nset "
                 "pump = 0.7 m/s\nsave "
                 "soon.json\nuntil tank.level > 2.5 m\n"
                 "set pump = 0.5 m/s\nquit\n");
  const Output o = shell(
      fmt::format(
          "script -qec \"{} run bench.dyne fill --no-report --out b --break 'tank.level > 2 m'\" /dev/null < keys",
          ISODYNE_PROGRAM),
      r.folder.path());
  INFO(o.out);
  shows(o.out, "Stopped at");
  shows(o.out, "pump becomes 0.9 m/s at the next instant");
  shows(o.out, "unit-mismatch");
  shows(o.out, "the steps are made");
  shows(o.out, "tank.level > 2.5 m");
  shows(o.out, "interrupted");
  // The last word came too late, whatever was said when it was typed.
  shows(o.out, "`set pump` was not done at 3.9 s: the run was");
  // So do what can be typed and cannot be done.
  shows(o.out, "arm or disarm FAULT");
  shows(o.out, "there is no fault `stack`; did you mean `stuck`?");
  shows(o.out, "`inject stuck` was not done");
  CHECK(fs::exists(r.folder / "here.json"));
  const auto recording = record::Recording::open(r.folder / "b/recording.h5");
  REQUIRE(recording);
  CHECK((*recording)->signal("pump")->back() == 0.7);
  const auto& events = (*recording)->events();
  CHECK(std::any_of(events.begin(), events.end(),
                    [](const auto& e) { return e.kind == "change" && e.text == "set to 0.9 m/s by hand"; }));
  // the state remembers what was changed by hand
  const Output on = r.isodyne("run bench.dyne --from-state here.json --no-report --out on");
  INFO(on.err);
  const auto next = record::Recording::open(r.folder / "on/recording.h5");
  REQUIRE(next);
  CHECK((*next)->signal("pump")->front() == 0.9);
  // what was said before the state was stored counts, though it was not done yet
  CHECK(r.isodyne("run bench.dyne --from-state soon.json --no-report --out soon").status <= 1);
  const auto later = record::Recording::open(r.folder / "soon/recording.h5");
  REQUIRE(later);
  CHECK((*later)->signal("pump")->front() == 0.9);
  const auto pumped = *(*later)->signal("pump");
  CHECK(pumped[1] == 0.7);
  // What was done by hand is part of the recording: both are repeated from it alone.
  fs::remove(r.folder / "here.json");
  for (const char* run : {"b", "on"}) {
    const Output again = r.isodyne(fmt::format("repeat {}", run));
    INFO(again.out << again.err);
    CHECK(again.status == 0);
    shows(again.out, fmt::format("{} is repeatable: ", run));
  }
}

TEST_CASE("A run that was killed is repeated as far as its recording goes") {
  const Ran r;
  const Output o = shell(fmt::format("{} run bench.dyne --for \"1000 h\" --no-report --out k > said 2>&1 & "
                                     "{}; kill -9 $!; {}",
                                     ISODYNE_PROGRAM, until_written("k", 20'000), until_written_no_more("k")),
                         r.folder.path());
  INFO(o.out << o.err << slurp(r.folder / "said"));
  REQUIRE(record::Recording::open(r.folder / "k/recording.h5"));
  const Output again = r.isodyne("repeat k");
  INFO(again.out << again.err);
  CHECK(again.status == 0);
  shows(again.out, "the same to the bit, as far as it goes");
}

TEST_CASE("A killed run whose last event is behind its last row is repeated up to that event") {
  TestFolder folder;
  folder.write(
      "b.dyne",
      "bench B { step 10 ms\n  modes side from left {\n    left -> right after 1 s\n    right -> left after 1 s "
      "}\n  let there = side is right\n  record every 5000 s\n}\n");
  shell(
      fmt::format("{} run b.dyne --for \"100000 h\" --no-report --out k > said 2>&1 & while [ ! -s k/recording.tail ]; "
                  "do sleep 0.1; done; sleep 0.5; kill -9 $!; {}",
                  ISODYNE_PROGRAM, until_written_no_more("k")),
      folder.path());
  const auto recording = record::Recording::open(folder / "k/recording.h5");
  REQUIRE(recording);
  REQUIRE_FALSE((*recording)->events().empty());
  const Output again = run_isodyne("repeat k", folder.path());
  INFO(again.out << again.err);
  CHECK(again.status == 0);
  shows(again.out, "the same to the bit, as far as it goes");
}

TEST_CASE("A run that goes on from a stored state is the rest of the whole run, bit for bit") {
  const Ran r("--fault stuck --seed 7");
  r.isodyne("run bench.dyne fill --fault stuck --seed 7 --for \"4 s\" --no-report --out first --save-state s.json");
  const Output o = r.isodyne("run bench.dyne --from-state s.json --no-report --out rest");
  INFO(o.err);
  CHECK(o.status == 1);
  const auto whole = record::Recording::open(r.folder / "r/recording.h5"),
             rest = record::Recording::open(r.folder / "rest/recording.h5");
  REQUIRE((whole && rest));
  const auto& times = (*rest)->times();
  CHECK(times.front() == 4'000'000'000);
  CHECK(times.back() == (*whole)->times().back());
  for (const std::string& name : (*rest)->names()) {
    const auto a = *(*whole)->signal(name), b = *(*rest)->signal(name);
    bool same = true;
    for (std::size_t i = 0; i < b.size(); ++i)
      same = same && std::bit_cast<std::uint64_t>(b[i]) == std::bit_cast<std::uint64_t>(a[a.size() - b.size() + i]);
    INFO(name);
    CHECK(same);
  }
  // another bench, another command line, no state at all
  std::string other = kJudged;
  other.replace(other.find("0.1 1/s"), 7, "0.2 1/s");
  r.folder.write("other.dyne", other);
  const Output differs = r.isodyne("run other.dyne --from-state s.json --no-report --out never");
  CHECK(differs.status == 3);
  shows(differs.err, "cannot be reached again: `tank.leak` was 0.1");
  shows(r.isodyne("run bench.dyne fill --from-state s.json").err, "the scenario is what it was");
  shows(r.isodyne("run bench.dyne --from-state bench.dyne").err, "cannot read the state");
}

TEST_CASE("A scenario goes on from a recorded run, and plays what another one recorded") {
  const Ran r;
  std::string text = kJudged;
  text += "scenario on { start from \"r\" at 3 s\n  play \"r\" column \"pump\" onto pump\n}\n";
  r.folder.write("next.dyne", text);
  const Output o = r.isodyne("run next.dyne on --no-report --out o");
  INFO(o.err);
  CHECK(o.status != 2);
  const auto before = record::Recording::open(r.folder / "r/recording.h5"),
             after = record::Recording::open(r.folder / "o/recording.h5");
  REQUIRE((before && after));
  CHECK((*after)->signal("tank.level")->front() == (*before)->signal("tank.level")->at(300));
  CHECK((*after)->signal("pump")->at(100) == Approx((*before)->signal("pump")->at(100)));
  // what was taken over stands in the recording, so that the run can be judged without the other one
  fs::remove_all(r.folder / "r");
  CHECK(r.isodyne("judge o").status != 3);
  text.replace(text.find("at 3 s"), 6, "at 3 h");
  r.folder.write("next.dyne", text);
  CHECK(r.isodyne("check next.dyne").status == 2);
}

TEST_CASE("The timeline of a scenario tells what is due when") {
  const Ran r;
  const Json t = r.json("list bench.dyne fill --timeline");
  CHECK(t["earliest_end_s"] == 2);
  CHECK(t["latest_end_s"] == 22);
  REQUIRE(t["rows"].size() == 5);
  CHECK(t["rows"][1]["text"] == "wait until tank.level > 3 m within 20 s");
  CHECK(t["rows"][4]["earliest_s"] == 0);
  CHECK(t["rows"][4]["latest_s"] == 20);
  shows(r.isodyne("list bench.dyne fill --timeline").out, "Over after 2 s at the earliest, 22 s at the latest.");
  shows(r.isodyne("list bench.dyne fil --timeline").err, "did you mean `fill`?");
}

TEST_CASE("What only seems broken in a recording of fewer instants is what the run said, or is told to be doubtful") {
  const TestFolder folder;
  // On for 10 ms of each 100 ms; of rows 70 ms apart one looks as if it were on for 70 ms.
  folder.write("p.dyne",
               "bench P {\n  step 1 ms\n  record every 70 ms\n  output on : bool\n  on = mod(time, 100 ms) < 10 ms\n}\n"
               "scenario look { hold 2 s }\nmeasure long { of on  longest }\nrequirement R { always long <= 15 ms }\n");
  folder.write("other.dyne", "measure long { of on  longest }\nrequirement S { always long <= 16 ms }\n");
  REQUIRE(run_isodyne("run p.dyne look --out a", folder.path()).status == 0);
  const Output same = run_isodyne("judge a", folder.path());
  INFO(same.out << same.err);
  CHECK(same.status == 0);
  CHECK(has(same.out, "R            held"));
  CHECK(has(same.out, "What the run itself found at its own instants counts for R."));
  const Output other = run_isodyne("judge a other.dyne", folder.path());
  INFO(other.out << other.err);
  CHECK(other.status == 1);
  CHECK(has(other.out, "With all instants this may not be broken: S (`record … every 1 ms` keeps everything)."));
  const Output measured = run_isodyne("measure a", folder.path());
  INFO(measured.out << measured.err);
  CHECK(has(measured.out,
            "The recording has an image every 70 ms of something that `long` reads; the run looked every 1 ms"));
}
