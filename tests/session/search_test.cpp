// The worst case: settings of faults, what is found in hard places, how plain it is made, and what is said of it.

#include <sstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/csv.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// In the cube of four numbers a place that is a thousandth of it, found by integration; `far` is the margin.
std::string planted(const std::string& far, const char* limit) {
  std::string text = "bench Planted {\n  step 100 ms\n";
  for (const char n : {'a', 'b', 'c', 'd'}) text += fmt::format("  param {} : 1 = 0.95  from 0 to 1\n", n);
  text +=
      "  let p : 1 = a - 0.31\n  let q : 1 = b - 0.72\n  let r : 1 = c - 0.18\n  let s : 1 = d - 0.55\n  let far : 1 "
      "= " +
      far + "\n}\n";
  return text + fmt::format("requirement away {{ always far >= {} }}\nscenario short {{ hold 200 ms }}\n", limit);
}

const char* const kCube = "--over 'a from 0 to 1' --over 'b from 0 to 1' --over 'c from 0 to 1' --over 'd from 0 to 1'";

/// 0.5 m after 10 s of 0.05 m/s; each fault adds to that.
const char* const kFilling =
    "bench Tank {\n  step 10 ms  method rk4\n  param flow : m/s = 0.05 m/s\n  param drain : m/s = 0 m/s\n"
    "  state level : m = 0 m\n  level' = flow - drain\n}\n"
    "fault more { on flow  offset 1 cm/s  from 2 s }\n"
    "fault burst { on flow  offset 10 cm/s  from 1 s lasting 1 s }\n"
    "fault draws { on drain  offset -1 cm/s  from 5 s }\n"
    "fault falls { on drain  offset flow  from 5 s }\n"
    "requirement full { always level <= 1 m }\n"
    "requirement never { always (level > 60 m implies level < 70 m) }\n"
    "scenario fill { hold 10 s }\nscenario longer { hold 12 s }\n";

}  // namespace

TEST_CASE("Amounts and beginnings and durations of faults are what a run is told, and say so") {
  const TestFolder folder;
  folder.write("bench.dyne", kFilling);
  const auto level = [&](const std::string& faults) {
    const Output run = run_isodyne("run bench.dyne fill --no-report --out r " + faults, folder.path());
    INFO(run.out << run.err);
    CHECK(run.status == 0);
    const Output value = run_isodyne("export csv r level", folder.path());
    const Csv csv = read_csv(value.out);
    shell("rm -rf r", folder.path());
    return *csv_number(csv.rows.back().text(1), false);
  };
  CHECK(level("") == Approx(0.5));
  CHECK(level("--fault more") == Approx(0.58));
  CHECK(level("--fault more --with 'more.amount=2 cm/s'") == Approx(0.66));
  CHECK(level("--fault more --with 'more.from=6 s'") == Approx(0.54));
  CHECK(level("--fault burst --with 'burst.lasting=2.5 s' --with 'burst.from=3 s' --with 'burst.amount=4 cm/s'") ==
        Approx(0.6));
  // Without the fault they would change nothing, and nobody would know.
  const Output idle = run_isodyne("run bench.dyne fill --with 'more.amount=2 cm/s'", folder.path());
  CHECK(idle.status == 2);
  shows(idle.err, "`more.amount` is given, and the run has no fault `more`: add --fault more");
  folder.write("begun.dyne", std::string(kFilling) + "scenario begun {\n  start more.amount = 2 cm/s\n  do fill\n}\n");
  CHECK(run_isodyne("run begun.dyne begun", folder.path()).status == 2);
  CHECK(run_isodyne("run begun.dyne begun --fault more --no-report", folder.path()).status == 0);
  for (const char* name : {"more.amount", "more.from", "burst.lasting"})
    shows(run_isodyne(std::string("list bench.dyne ") + name, folder.path()).out, "read by   fault ");
  // They are constants, and no curves of a recording.
  REQUIRE(run_isodyne("run bench.dyne fill --fault more --no-report --out r", folder.path()).status == 0);
  CHECK_FALSE(has(run_isodyne("export csv r", folder.path()).out, "more.amount"));
  shell("rm -rf r", folder.path());
  const auto refused = [&](const std::string& with) {
    return run_isodyne("run bench.dyne fill --fault more --with '" + with + "'", folder.path()).err;
  };
  shows(refused("more.size=2"), "fault `more` has no `size` that a run can begin with");
  shows(refused("more.size=2"), "it has more.amount, more.from");
  shows(refused("falls.amount=2 m/s"), "it has falls.from");
  shows(refused("more.amount=2 s"), "unit");
  shows(refused("more.from=-1 s"), "more.from");

  // They are in the evidence, repeated with it, and varied by campaigns.
  REQUIRE(
      run_isodyne("run bench.dyne fill --fault more --with 'more.amount=2 cm/s' --no-report --out first", folder.path())
          .status == 0);
  shows(slurp(folder / "first/verdicts.json"), "more.amount=");
  const Output repeated = run_isodyne("repeat first --out second", folder.path());
  INFO(repeated.out << repeated.err);
  CHECK(repeated.status == 0);
  folder.write("many.dyne", std::string(kFilling) +
                                "campaign amounts {\n  scenario fill\n  fault none, more\n  vary more.amount = "
                                "1 cm/s, 6 cm/s, 7 cm/s\n}\n");
  const Output many = run_isodyne("campaign many.dyne amounts --out many.sqlite", folder.path());
  INFO(many.out << many.err);
  CHECK(many.status == 1);  // 0.5 + 0.56 m, and no other; without the fault the amount is nothing to begin with
  shows(run_isodyne("cases many.sqlite --where full=broken --csv", folder.path()).out, "7");
}

TEST_CASE(
    "A place of a thousandth of four ranges is found within 500 runs, whatever the seed, and by chance it is not") {
  const TestFolder folder;
  const std::string round = "sqrt(p * p + q * q + r * r + s * s)";
  // A bowl; one with ripples; one beside a wide hollow that is not deep enough; one that is flat all around.
  folder.write("bowl.dyne", planted(round, "0.11948"));
  folder.write("ripples.dyne",
               planted(round + " + 0.03 * (4 - cos(6.283185307179586 rad * p) - cos(6.283185307179586 rad * q) - "
                               "cos(6.283185307179586 rad * r) - cos(6.283185307179586 rad * s))",
                       "0.20897"));
  folder.write("hollow.dyne", planted("min(" + round +
                                          ", 0.15 + 0.5 * sqrt((a - 0.8) * (a - 0.8) + (b - 0.2) * (b - 0.2) + (c - "
                                          "0.8) * (c - 0.8) + (d - 0.3) * (d - 0.3)))",
                                      "0.11948"));
  folder.write("flat.dyne", planted("min(" + round + ", 0.5)", "0.11948"));
  for (const char* bench : {"bowl", "ripples", "hollow", "flat"}) {
    int found = 0;
    for (int seed = 1; seed <= 10; ++seed) {
      const Output run =
          run_isodyne(fmt::format("search {}.dyne away {} --seed {}", bench, kCube, seed), folder.path());
      found += run.status == 1 ? 1 : 0;
    }
    INFO(bench);
    CHECK(found >= 9);
  }
  // The same number of runs, drawn: 1 - 0.999^500 = 39 %.
  int chance = 0;
  for (int seed = 1; seed <= 10; ++seed) {
    folder.write("drawn.dyne", planted(round, "0.11948") +
                                   "campaign drawn {\n  scenario short\n  vary a from 0 to 1\n  vary b from 0 to 1\n"
                                   "  vary c from 0 to 1\n  vary d from 0 to 1\n  draw 500 by random\n}\n");
    const Output drawn =
        run_isodyne(fmt::format("campaign drawn.dyne drawn --seed {0} --out c{0}.sqlite", seed), folder.path());
    INFO(drawn.out << drawn.err);
    REQUIRE((drawn.status == 0 || drawn.status == 1));
    chance += drawn.status;
  }
  CHECK(chance <= 4);
}

TEST_CASE("What is found is the same however many runs go on at once, made plain, and runs again") {
  const TestFolder folder;
  folder.write("bench.dyne", kFilling);
  const std::string command =
      "search bench.dyne full --over 'more.amount from 0 cm/s to 5 cm/s' --over 'more.from from 0 s to 9 s' "
      "--over 'draws.amount from -5 cm/s to 0 cm/s' --faults 2 --runs 300";
  const Output one = run_isodyne(command + " --jobs 1 --out worst.dyne", folder.path());
  const Output two = run_isodyne(command + " --jobs 2", folder.path());
  INFO(one.out << one.err);
  CHECK(one.status == 1);
  CHECK(one.out == two.out);
  // More alone comes to 0.5 + 0.5 m in the shorter scenario and to 1.2 m in the longer one: one fault is enough.
  shows(one.out, "scenario");
  CHECK(has(one.out, "longer  "));
  const std::string text = slurp(folder / "worst.dyne");
  INFO(text);
  shows(text, "scenario worst_case {");
  shows(text, "  do longer");
  CHECK_FALSE(has(text, "more --fault draws"));
  folder.write("with.dyne", "use \"worst.dyne\"\n" + std::string(kFilling));
  const std::string faults = has(text, "--fault more") ? " --fault more" : " --fault draws";
  const Output again = run_isodyne("run with.dyne worst_case --no-report" + faults, folder.path());
  INFO(again.out << again.err);
  CHECK(again.status == 1);
  // The command that is shown, too.
  const std::size_t at = one.out.find("isodyne run ");
  REQUIRE(at != std::string::npos);
  const std::string shown = one.out.substr(at, one.out.find('\n', at) - at);
  CHECK(shell(ISODYNE_PROGRAM + shown.substr(7) + " --no-report", folder.path()).status == 1);
}

TEST_CASE("A search that finds nothing, has nothing to look for, or never tests the requirement says so") {
  const TestFolder folder;
  folder.write("bench.dyne", kFilling);
  const auto search = [&](const std::string& words) {
    return run_isodyne("search bench.dyne " + words, folder.path());
  };
  const Output held = search("full --over 'more.amount from 0 cm/s to 1 cm/s' --runs 20 --scenario fill");
  CHECK(held.status == 0);
  shows(held.out, "full was not broken. That is no proof");
  shows(held.out,
        "Looked through in 20 runs: more.amount from 0 cm/s to 1 cm/s; up to 1 of the faults more; scenarios fill");
  shows(held.out, "0.42 m");  // at most 0.58 m, at the end of the range
  const Output lines = search("full --over 'more.amount from 0 cm/s to 1 cm/s' --runs 20 --scenario fill --csv");
  CHECK(read_csv(lines.out).rows.size() == 21);
  CHECK(cell_of(lines.out, "1", "full") == "held");
  CHECK(cell_of(lines.out, "1", "margin") == "0.5 m");
  CHECK(cell_of(lines.out, "1", "outcome of the run") == "not put to the test");  // of the other requirement
  const Output late = search("full --over 'more.from from 20 s to 30 s' --runs 10 --scenario fill");
  CHECK(late.status == 0);
  shows(late.out, "In 9 of them a fault never came");
  const Output never = search("never --faults 1 --runs 10");
  CHECK(never.status == 3);
  shows(never.err, "never was put to the test in no run");
  const Output anyway =
      search("full --over 'drain from 0 m/s to 1 m/s' --runs 20 --scenario fill --fault more --faults 1");
  CHECK(anyway.status == 0);
  shows(search("full").err, "there is nothing to look through");
  shows(search("ful --faults 1").err, "there is no requirement `ful`; did you mean `full`?");
  shows(search("full --over 'more.amount = 1 cm/s, 2 cm/s'").err, "it has to be a range");
  shows(search("full --over 'more.amount from 2 cm/s to 1 cm/s'").err, "the upper end is not above the lower one");
  shows(search("full --over 'more.amount from 1 cm/s to 2 cm/s' --fault burst").err, "fault more is not among those");
  shows(search("full --over 'more.from from 1 m to 2 m'").err, "unit");
  shows(search("full --faults 1 --scenario fil").err, "fil");
  folder.write("bench.dyne", std::string(kFilling) + "requirement low { always level <= 0.3 m }\n");
  const Output broken = search("low --faults 1");
  CHECK(broken.status == 1);
  shows(broken.out, "low is broken as it is, before anything was changed");
}

TEST_CASE(
    "Every command of docs/search.md does what it says: two mild faults break together what each alone does not") {
  const TestFolder folder;
  REQUIRE(shell(fmt::format("cp -r {}/examples/canal-lock/. .", ISODYNE_SOURCE_FOLDER), folder.path()).status == 0);
  std::istringstream text(slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/docs/search.md"));
  std::vector<Output> outputs;
  for (std::string line; std::getline(text, line);) {
    if (!line.starts_with("    isodyne ")) continue;
    outputs.push_back(shell(ISODYNE_PROGRAM + line.substr(11), folder.path()));
    INFO(line << "\n" << outputs.back().out << outputs.back().err);
    CHECK(outputs.back().status == (outputs.size() == 1 ? 1 : 0));
  }
  REQUIRE(outputs.size() == 3);
  shows(outputs[0].out, "level_drift, level_offset  level_drift, level_offset");
  shows(outputs[1].out, "L-05 was not broken. That is no proof");
  const std::string worst = slurp(folder / "worst.dyne");
  INFO(worst);
  shows(worst, "--fault level_drift --fault level_offset --setting model");
  // Each of them alone holds, with the numbers that break it together.
  const std::string given = outputs[0].out.substr(outputs[0].out.find("--with"));
  const auto with = [&](const char* name) {
    const std::size_t at = given.find(std::string("--with \"") + name);
    REQUIRE(at != std::string::npos);
    return given.substr(at, given.find('"', at + 8) + 1 - at);
  };
  for (const char* fault : {"level_drift", "level_offset"}) {
    const Output alone =
        run_isodyne(fmt::format("run lock.dyne uplock --setting model --no-report --fault {} {}", fault, with(fault)),
                    folder.path());
    INFO(alone.out << alone.err);
    CHECK(alone.status == 0);
  }
}
