// format, explain, list NAME and --tree, draw, new, export of editor files, check --rated: the built program.

#include <algorithm>
#include <filesystem>

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/explanations.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("format rewrites files, --check only tells, mistakes leave the file alone") {
  const TestFolder folder;
  folder.write("a.dyne", "bench B{step 1 ms\nlet a=1+2\n}\n");
  folder.write("bad.dyne", "bench B{ let = }\n");
  CHECK(run_isodyne("format --check a.dyne", folder.path()).status == 1);
  CHECK(slurp(folder / "a.dyne") == "bench B{step 1 ms\nlet a=1+2\n}\n");
  CHECK(run_isodyne("format a.dyne", folder.path()).out == "formatted a.dyne\n");
  CHECK(slurp(folder / "a.dyne") == "bench B { step 1 ms\n  let a = 1 + 2\n}\n");
  CHECK(run_isodyne("format --check a.dyne", folder.path()).status == 0);
  const Output bad = run_isodyne("format bad.dyne", folder.path());
  CHECK(bad.status == 2);
  CHECK(has(bad.err, "it stays as it is"));
  CHECK(slurp(folder / "bad.dyne") == "bench B{ let = }\n");
  CHECK(run_isodyne("format nothing.dyne", folder.path()).status == 2);
}

TEST_CASE("Every code is explained, its example gets the message, and the cure is accepted") {
  for (const Code code : {
#define DIAGNOSTIC(id, text) Code::id,
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
       }) {
    INFO(code_text(code));
    const Explanation& e = explanation(code);
    REQUIRE(e.code == code);
    CHECK_FALSE(e.cause.empty());
    CHECK_FALSE(e.cure.empty());
    const Output said = run_isodyne(std::string("explain ") + code_text(code));
    CHECK(said.status == 0);
    CHECK(has(said.out, "Cure"));
    const TestFolder folder;
    const std::string mark = std::string("[") + code_text(code) + "]";
    if (!e.example.empty()) {
      folder.write("bad.dyne", std::string(e.example));
      CHECK(has(run_isodyne("check bad.dyne", folder.path()).err, mark));
    }
    if (!e.cured.empty()) {
      folder.write("good.dyne", std::string(e.cured));
      const Output good = run_isodyne("check good.dyne", folder.path());
      INFO(good.err);
      CHECK(good.status == 0);
      CHECK(good.err.find(mark) == std::string::npos);
    }
  }
  CHECK(has(run_isodyne("explain algebraic-lop").err, "did you mean `algebraic-loop`?"));
  CHECK(has(run_isodyne("explain").out, "private-name"));
}

TEST_CASE("list explains a name: what it is, where it comes from, who reads it") {
  const Output level = run_isodyne("list " + kLock + " chamber.level");
  CHECK(level.status == 0);
  for (const char* part :
       {"state of chamber (Chamber)", "unit      m", "0 m .. 9 m", "level' = rise", "reads     chamber.rise",
        "requirement L-09", "chamber_level.true", "scenario uplock: start chamber.level = 2 m"}) {
    INFO(part << "\n" << level.out);
    CHECK(has(level.out, part));
  }
  CHECK(has(run_isodyne("list " + kLock + " chamber").out, "part made of Chamber"));
  CHECK(has(run_isodyne("list " + kLock + " upper.travel").out, "gate_slow: times 3"));
  const Output wrong = run_isodyne("list " + kLock + " chamber.levl");
  CHECK(wrong.status == 2);
  CHECK(has(wrong.err, "did you mean `chamber.level`?"));
  CHECK(has(run_isodyne("list " + kLock + " --tree").out, "\n  upper : Gate"));
  const auto json = nlohmann::json::parse(run_isodyne("list " + kLock + " chamber.level --json").out);
  CHECK(json["names"][0]["name"] == "chamber.level");
}

TEST_CASE("advise has no yardstick for a network, and says so instead of an error of 0 %") {
  const TestFolder folder;
  folder.write("b.dyne",
               "use library \"circuits.dyne\"\nbench B {\n  step 20 us\n  node top : electric\n"
               "  part s : VoltageSource between top, ground\n  s.voltage = 5 V\n"
               "  part l : Inductor(inductance = 1 mH, resistance = 1 ohm) between top, ground\n}\n"
               "scenario s { hold 1 ms }\n");
  const Output o = run_isodyne("advise b.dyne s --out advice", folder.path());
  CHECK(o.status != 0);
  CHECK(has(o.err, "the reference integrates equations, and this bench has a network"));
  CHECK_FALSE(has(o.out, "Recommended"));
}

TEST_CASE("draw writes an SVG with parts, channels, controllers, rates and directions") {
  const TestFolder folder;
  const Output drawn = run_isodyne("draw " + kLock + " --out lock.svg", folder.path());
  INFO(drawn.err);
  REQUIRE(drawn.status == 0);
  CHECK(shell("xmllint --noout lock.svg", folder.path()).status == 0);
  const std::string svg = slurp(folder / "lock.svg");
  for (const char* part :
       {">chamber<", ">Chamber<", ">plc<", ">chamber_level<", ">every 20 ms<", ">upper_gap<", "fill_paddle"}) {
    INFO(part);
    CHECK(has(svg, part));
  }
  CHECK(has(svg, "<title>fill_paddle&#45;&gt;filling</title>"));
  CHECK(has(svg, "<title>chamber&#45;&gt;chamber_level</title>"));
  REQUIRE(run_isodyne("draw " + kLock + " --out lock.png", folder.path()).status == 0);
  CHECK(slurp(folder / "lock.png").starts_with("\x89PNG"));
  const Output odd = run_isodyne("draw " + kLock + " --out lock.jpeg", folder.path());
  CHECK(odd.status != 0);
  CHECK(has(odd.err, "pictures are .svg, .png or .pdf"));
}

TEST_CASE("new makes a bench that is in order, runs, holds, and breaks under its fault") {
  const TestFolder folder;
  const Output made = run_isodyne("new mine", folder.path());
  REQUIRE(made.status == 0);
  CHECK(has(made.out, "isodyne run mine/bench.dyne fill"));
  const Output checked = run_isodyne("check mine/bench.dyne", folder.path());
  CHECK(checked.status == 0);
  CHECK(checked.err.empty());
  CHECK(run_isodyne("run mine/bench.dyne fill --no-report --out r", folder.path()).status == 0);
  CHECK(run_isodyne("run mine/bench.dyne fill --fault reads_low --no-report --out s", folder.path()).status == 1);
  CHECK(run_isodyne("format --check mine/bench.dyne mine/plant.dyne", folder.path()).status == 0);
  CHECK(run_isodyne("new mine", folder.path()).status == 2);
}

TEST_CASE("The editor files in the repository are those that the program writes") {
  CHECK(run_isodyne("export textmate").out == slurp(kSource + "/editors/isodyne.tmLanguage.json"));
  CHECK(run_isodyne("export vim").out == slurp(kSource + "/editors/isodyne.vim"));
  CHECK(nlohmann::json::parse(run_isodyne("export textmate").out)["scopeName"] == "source.dyne");
  CHECK(run_isodyne("export emacs").status == 2);
  CHECK(run_isodyne("export header").status == 2);
}

TEST_CASE("check --rated compares the parts of a bench, with their own parameters") {
  const TestFolder folder;
  folder.write("bench.dyne", R"(use library "machines.dyne", "electrical.dyne"
model Own {
  param k : 1 = 2
  input u : V
  output y : V
  y = k * u
  rated "made up" { given u = 3 V
    expect y = 6 V within 1 % }
}
bench B { step 1 ms
  part motor : DcMotor(resistance = 1 ohm)
  motor.voltage = 12 V
  part good : Own
  good.u = 1 V
  part bad : Own(k = 3)
  bad.u = 1 V
  rated motor "certificate" {
    given voltage = 12 V
    given load = 0 Nm
    expect current = 0 A within 0.2 A
  }
}
)");
  const Output output = run_isodyne("check --rated bench.dyne", folder.path());
  INFO(output.out << output.err);
  CHECK(output.status == 1);
  CHECK(has(output.out, "good   y"));
  CHECK(has(output.out, "+50.00 %  differs"));
  CHECK(has(output.out, "motor  current"));
  CHECK(has(output.out, "2 of 3 rated values match."));  // the library's own blocks are checked with the library
  const auto json = nlohmann::json::parse(run_isodyne("check --rated --json bench.dyne", folder.path()).out);
  CHECK(json["rated"].size() == 3);
}

TEST_CASE("Mistakes in a rated block are shown in it") {
  const TestFolder folder;
  folder.write("m.dyne", R"(model M {
  input u : V
  output y : V
  y = u
  rated { given v = 3 V
    expect y = 6 A within 1 %
    expect u = 3 V within 1 s }
})");
  const Output output = run_isodyne("check --rated m.dyne", folder.path());
  CHECK(output.status == 2);
  CHECK(has(output.err, "m.dyne:5:17: error: model `M` has no parameter `v`"));
  CHECK(has(output.err, "m.dyne:6:16: error: the expected value must be V (voltage)"));
  CHECK(has(output.err, "m.dyne:7:27: error: the tolerance must be V (voltage)"));
}

TEST_CASE("The user's own library comes before the shipped one, and a missing file is told with a suggestion") {
  const TestFolder folder;
  folder.write("own/fluid.dyne", "model Tank { output level : m\n  level = 7 m }\n");
  folder.write("bench.dyne",
               "use library \"fluid.dyne\"\nbench B { step 1 ms\n  part tank : Tank\n}\nrequirement R { always "
               "tank.level > 6 m }\n");
  CHECK(shell("ISODYNE_LIBRARY=" + folder.path() + "/own " + ISODYNE_PROGRAM + " check bench.dyne", folder.path())
            .status == 0);
  CHECK(run_isodyne("check bench.dyne", folder.path()).err.empty());  // the shipped one has a Tank too
  folder.write("wrong.dyne", "use library \"fluids.dyne\"\nbench B { step 1 ms }\n");
  const Output wrong = run_isodyne("check wrong.dyne", folder.path());
  CHECK(wrong.status == 2);
  CHECK(has(wrong.err, "did you mean \"fluid.dyne\"?"));
}

TEST_CASE("A run keeps the library texts it used, so that its report does not depend on the library") {
  const TestFolder folder;
  folder.write("bench.dyne",
               "use library \"filters.dyne\"\nbench B { step 1 ms\n  part f : FirstOrder\n  f.u = 1\n}\nrequirement R "
               "{ always f.y <= 1 }\n");
  REQUIRE(run_isodyne("run bench.dyne --for '1 s' --no-report --out r", folder.path()).status == 0);
  const Output again =
      shell("ISODYNE_LIBRARY=/nowhere " + std::string(ISODYNE_PROGRAM) + " report r --out r.html", folder.path());
  INFO(again.err);
  CHECK(again.status == 0);
  CHECK(has(shell("h5dump -n r/recording.h5", folder.path()).out, "/sources/library:filters.dyne"));
}

TEST_CASE("The example benches are in order, match their plates, and are judged as their READMEs say") {
  const std::string hoist = kSource + "/examples/quay-hoist/hoist.dyne";
  const TestFolder folder;
  const Output checked = run_isodyne("check --rated " + hoist);
  INFO(checked.out << checked.err);
  CHECK(checked.status == 0);
  CHECK(has(checked.out, "2 of 2 rated values match."));
  CHECK(run_isodyne("run " + hoist + " mains_fail --no-report --out a", folder.path()).status == 0);
  const Output worn = run_isodyne("run " + hoist + " mains_fail --fault worn_brake --no-report --out b", folder.path());
  CHECK(worn.status == 1);
  CHECK(has(worn.out, "H-2          broken"));
  const auto verdicts = nlohmann::json::parse(slurp(folder / "b/verdicts.json"));
  CHECK_FALSE(verdicts.empty());
}

TEST_CASE("Every command on every text of the examples and the library ends well") {
  for (const char* place : {"/library", "/examples"}) {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(kSource + place)) {
      if (entry.path().extension() != ".dyne") continue;
      const std::string file = entry.path().string();
      INFO(file);
      // Files that only add rules or faults to a bench have neither bench nor model of their own.
      const Output checked = run_isodyne("check " + file);
      const bool fragment = has(checked.err, "declare no bench");
      CHECK((checked.status == 0 || fragment));
      CHECK(run_isodyne("format --check " + file).status == 0);
      if (fragment) continue;
      const Output listed = run_isodyne("list " + file);
      CHECK(listed.status == 0);
      CHECK_FALSE(listed.out.empty());
      CHECK(nlohmann::json::accept(run_isodyne("list --json " + file).out));
    }
  }
}

TEST_CASE("Whatever has a row in a list is explained by its name, in every example") {
  for (const char* bench : {"canal-lock/lock", "drain-pump/pump", "quay-hoist/hoist", "swing-bridge/bridge"}) {
    const TestFolder folder;
    const std::string file = kSource + "/examples/" + bench + ".dyne";
    const Output all = run_isodyne("list " + file + " --json", folder.path());
    REQUIRE(all.status == 0);
    const auto kinds = nlohmann::json::parse(all.out);
    CHECK(kinds.contains("harnesses"));
    CHECK(kinds.contains("cables"));
    std::vector<std::string> names;
    for (const auto& [kind, rows] : kinds.items()) {
      for (const auto& row : rows) {
        for (const char* title : {"part", "state", "parameter", "signal", "channel", "frame", "cables", "controller",
                                  "condition", "fault", "scenario", "requirement", "measure", "harness", "figure"}) {
          if (row.contains(title) && kind.starts_with(std::string(title).substr(0, 4))) names.push_back(row[title]);
        }
      }
    }
    CHECK(names.size() > 10);
    for (std::size_t i = 0; i < names.size(); i += 15) {  // so many as a command takes
      std::string words;
      for (std::size_t k = i; k < std::min(names.size(), i + 15); ++k) words += " '" + names[k] + "'";
      const Output one = run_isodyne("list " + file + words, folder.path());
      INFO(words << one.err);
      CHECK(one.status == 0);
    }
  }
}

TEST_CASE("Files of rules and layouts find what they use beside them, from wherever they are named") {
  const TestFolder folder;
  folder.write("b.dyne", "bench B {\n  step 10 ms\n  let x : m = time * 1 m/s\n}\nscenario s { hold 2 s }\n");
  folder.write("rules/most.dyne", "function most() -> m = 1 m\n");
  folder.write("rules/limits.dyne", "use \"most.dyne\"\nrequirement R-1 { always x < most() }\n");
  folder.write("rules/look.dyne", "use \"most.dyne\"\nfigure far \"how far\" { panel x }\n");
  REQUIRE(run_isodyne("run b.dyne s --no-report --out r", folder.path()).status == 0);
  CHECK(run_isodyne("judge r rules/limits.dyne", folder.path()).status == 1);
  CHECK(run_isodyne("judge " + folder.path() + "/r " + folder.path() + "/rules/limits.dyne", "/").status == 1);
  CHECK(run_isodyne("judge ../r limits.dyne", folder / "rules").status == 1);
  CHECK(run_isodyne("figure r --layout rules/look.dyne --out p", folder.path()).status == 0);
  CHECK(std::filesystem::exists(folder / "p-far.png"));
}
