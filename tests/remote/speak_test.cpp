// The commands by which people and scripts speak with an open run: the built program, as docs/door.md shows it.

#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne::test;

namespace {

const std::string kDoor = kSource + "/docs/door.md";

/// The lines of docs/door.md that are commands, in order.
std::vector<std::string> commands_of(const std::string& text) {
  std::vector<std::string> all;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("    isodyne ")) all.push_back(line.substr(4));
  }
  return all;
}

/// A block of Python in docs/door.md, from a line of it to the blank line after which nothing is indented.
std::string python_of(const std::string& text, const std::string& first) {
  std::istringstream lines(text.substr(text.find("    " + first)));
  std::string all;
  for (std::string line; std::getline(lines, line) && (line.empty() || line.starts_with("    "));)
    all += (line.empty() ? line : line.substr(4)) + "\n";
  return all;
}

std::string bench_of(const std::string& text) {
  const std::size_t begin = text.find("```dyne\n") + 8;
  return text.substr(begin, text.find("```", begin) - begin);
}

/// A script in which `isodyne` is the built program, and each command has to do what it should.
std::string script(const std::vector<std::string>& lines) {
  std::string text = fmt::format("isodyne() {{ \"{}\" \"$@\"; }}\n", ISODYNE_PROGRAM);
  text += "begun() { until isodyne read run time >/dev/null 2>&1; do sleep 0.05; done; }\n";
  for (std::size_t i = 0; i < lines.size(); ++i) {
    text += lines[i];
    if (!lines[i].ends_with('&')) text += fmt::format(" || echo \"FAILED: $? of command {}\"", i);
    text += "\n";
  }
  return text;
}

}  // namespace

TEST_CASE("Every command of docs/door.md does what it says, and a session becomes a scenario that runs") {
  const TestFolder folder;
  const std::string text = slurp(kDoor);
  folder.write("tank.dyne", bench_of(text));
  std::vector<std::string> lines = commands_of(text);
  REQUIRE(lines.size() > 15);
  REQUIRE(lines.front().find("--open --out run &") != std::string::npos);
  lines.insert(lines.begin() + 1, "begun");
  for (std::string& line : lines) {
    if (line.starts_with("isodyne end")) line += " && wait";
  }
  lines.push_back("(cat tank.dyne; echo 'use \"scenarios.dyne\"'; echo 'use \"values.dyne\"') > again.dyne");
  lines.push_back("isodyne run again.dyne morning --fault stuck --paced --out again; test $? = 0");
  folder.write("go.sh", script(lines));
  const Output o = shell("sh go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "FAILED"));
  for (const char* part :
       {"inflow = 3 l/s at ", "area begins to move to 2 m^2 at ", "stuck injected at", "noted at", "it came at",
        "301 rows of 2 signals around", "calm loaded at", "The bench has no requirements.", "steps late",
        "the keeper looks up", "Added `scenario morning`", "it ends at"})
    shows(o.out + o.err,
          std::string(part) == "Added `scenario morning`" ? "Wrote `scenario morning` into scenarios.dyne" : part);
  const std::string page = slurp(folder / "run/report.html");
  const std::size_t done = page.find("<h3>Done while it ran</h3>"), all = page.find("<h3>Events</h3>");
  REQUIRE((done != std::string::npos && all != std::string::npos && done < all));
  shows(page.substr(done, all - done), "inject by a client");
  shows(page.substr(done, all - done), "the keeper looks up");
  // The same was done at the same instants.
  const Output was = shell(std::string(ISODYNE_PROGRAM) + " values run", folder.path());
  shows(was.out, "inflow = 2 l/s");
  shows(slurp(folder / "scenarios.dyne"), " s: the keeper looks up");
  CHECK(std::filesystem::exists(folder / "run/captures"));
  // A file that has such a scenario is not added to again.
  const Output twice =
      shell(std::string(ISODYNE_PROGRAM) + " scenario run --name morning --out scenarios.dyne", folder.path());
  CHECK(twice.status == 2);
  shows(twice.err, "has a `scenario morning` already");
  const Output taken = shell(std::string(ISODYNE_PROGRAM) + " scenario run --name hold", folder.path());
  CHECK(taken.status == 2);
  shows(taken.err, "defined twice");
}

TEST_CASE("The canal lock is operated by hand as its README says, and the exercise becomes a scenario") {
  const TestFolder folder;
  std::filesystem::create_directory_symlink(kSource + "/examples", folder / "examples");
  std::vector<std::string> lines = commands_of(slurp(kSource + "/examples/canal-lock/README.md"));
  REQUIRE(lines.size() == 9);
  const std::size_t paced = lines.front().find(" --paced");
  REQUIRE(paced != std::string::npos);
  lines.front().erase(paced, 8);  // minutes of the lock are a second here
  lines.front().insert(lines.front().rfind(" &"), " --setting model --no-report > run.txt 2>&1");
  lines.insert(lines.begin() + 1, "begun");
  for (std::string& line : lines) {
    if (line.starts_with("isodyne watch")) line += " --for '1 s'";
    if (line.starts_with("isodyne end")) line += " && wait";
  }
  std::string text = script(lines);
  text.replace(text.find("read run time"), 13, "read desk time");
  folder.write("go.sh", text);
  const Output o = shell("sh go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "FAILED"));
  for (const char* part :
       {"request = up at", "it came at", "scenario exercise {", "set barge_called = true",
        "wait until barge.course is moored within 360 s", "inject gate_by_hand", ": the barge is in"})
    shows(o.out, part);
}

TEST_CASE("The Python of docs/door.md does what it says") {
  const TestFolder folder;
  const std::string text = slurp(kDoor);
  folder.write("tank.dyne", bench_of(text));
  folder.write("isodyne", fmt::format("#!/bin/sh\nexec {} \"$@\"\n", ISODYNE_PROGRAM));
  folder.write("try.py", python_of(text, "from isodyne import start"));
  folder.write("test_fill.py", "from isodyne_fixture import bench\n" + python_of(text, "def test_it_fills"));
  const std::string before =
      "chmod +x isodyne; PATH=.:$PATH PYTHONDONTWRITEBYTECODE=1 PYTHONPATH=" + kSource + "/clients ";
  const Output o = shell(before + "python3 try.py", folder.path());
  INFO(o.out << o.err);
  REQUIRE(o.status == 0);
  double at = 0, most = 0;
  std::string level, unit;
  std::istringstream(o.out) >> level >> unit >> at >> most;
  CHECK(at > 0);
  CHECK(most > 1);
  if (shell("/usr/bin/python3 -c 'import pytest'").status != 0) return;
  const Output tests = shell(before + "/usr/bin/python3 -m pytest -q -p no:cacheprovider test_fill.py", folder.path());
  INFO(tests.out << tests.err);
  CHECK(tests.status == 0);
}

TEST_CASE("A test with pytest begins runs, waits and captures") {
  if (shell("/usr/bin/python3 -c 'import pytest'").status != 0) return;
  const TestFolder folder;
  const Output o =
      shell("ISODYNE=" + std::string(ISODYNE_PROGRAM) + " PYTHONDONTWRITEBYTECODE=1 PYTHONPATH=" + kSource +
                "/clients /usr/bin/python3 -m pytest -q -p no:cacheprovider --basetemp=here " + kSource +
                "/clients/example_test.py",
            folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  shows(o.out, "3 passed");
}

TEST_CASE("A run in lockstep and its scenario are the same to the bit, from one command line to the next") {
  const TestFolder folder;
  folder.write("tank.dyne", bench_of(slurp(kDoor)));
  folder.write(
      "go.sh",
      script({"isodyne run tank.dyne hold --fault stuck --open --out run &", "begun", "isodyne pause run",
              "isodyne set run warm '-5.3 degC'", "isodyne ramp run inflow '7 l/s' --over '90 ms'",
              "isodyne step run 30", "isodyne set run mode boost", "isodyne inject run stuck", "isodyne step run 12",
              "isodyne ramp run inflow '-1 l/s' --over '5 ms'", "isodyne step run 8", "isodyne clear run stuck",
              "isodyne step run 40", "isodyne end run && wait", "isodyne scenario run --name again --out more.dyne",
              "(cat tank.dyne; echo 'use \"more.dyne\"') > with.dyne",
              "isodyne run with.dyne again --fault stuck --open --out again",
              "isodyne compare run again --common > compared.txt; test $? = 0"}));
  std::string bench = slurp(folder / "tank.dyne");
  bench.replace(bench.find("  param area"), 0, "  input warm : degC = 20 degC\n");
  folder.write("tank.dyne", bench);
  const Output o = shell("sh go.sh", folder.path());
  INFO(o.out << o.err << slurp(folder / "more.dyne") << slurp(folder / "compared.txt"));
  CHECK_FALSE(has(o.out, "FAILED"));
  shows(slurp(folder / "more.dyne"), "set warm = -5.3 degC");
  shows(slurp(folder / "more.dyne"), "stop ramp_1");
}

TEST_CASE("What cannot be said to a run is told with its reason and its exit status") {
  const TestFolder folder;
  folder.write("tank.dyne", bench_of(slurp(kDoor)));
  folder.write("bad.dyne", "values wrong { inflow = 2 l/s * area / 1 m^2 }\n");
  folder.write("none.dyne", "# nothing\n");
  folder.write("go.sh", script({"isodyne run tank.dyne hold --paced --open --out run &",
                                "begun",
                                "isodyne wait run 'level < 0 m' --within '20 ms'; test $? = 1",
                                "isodyne wait run 'lvel > 1 m'; test $? = 2",
                                "isodyne set run inflow '-1 m'; test $? = 2",
                                "isodyne set run area '9 m^2'; test $? = 3",
                                "isodyne load run clm; test $? = 2",
                                "isodyne load run bad.dyne; test $? = 2",
                                "isodyne load run none.dyne; test $? = 2",
                                "isodyne inject run stuck; test $? = 3",
                                "isodyne arm run stuck; test $? = 3",
                                "isodyne save run x.json; test $? = 3",
                                "isodyne watch run lvel; test $? = 2",
                                "isodyne watch run level --per-second fast; test $? = 2",
                                "isodyne capture run level --when 'level >'; test $? = 2",
                                "isodyne play run inflow swll; test $? = 2",
                                "isodyne scenario run; test $? = 2",
                                "isodyne run tank.dyne hold --look 'lev*'; test $? = 2",
                                "isodyne end run && wait",
                                "isodyne read run level; test $? = 3",
                                "isodyne capture run level; test $? = 3"}));
  const Output o = shell("sh go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "FAILED"));
  for (const char* part :
       {"it had not come by", "nothing here is called `lvel`", "`inflow` is in l/s", "is from 0.5 m^2 to 2 m^2",
        "did you mean `calm`?", "depends on other quantities", "has no set of values", "was not chosen for this run",
        "keeps to the wall clock", "did you mean `level`?", "--per-second takes a number", "did you mean `swell`?",
        "nothing was done by hand in run", "--look is for runs with --open", "begun without --open"})
    shows(o.out + o.err, part);
}
