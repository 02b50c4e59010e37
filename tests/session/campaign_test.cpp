// Campaigns: which cases there are, and what they come to, also where they are interrupted.

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "isodyne/session/case_book.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/cases.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using session::Case;
using session::CaseBook;
using session::Cases;

namespace {

/// A tank that fills; how high it gets can be told in closed form: level = area⁻¹ · inflow · time, and a leak doubles
/// it.
std::string tank(const std::string& campaign) {
  return "bench Tank {\n  step 10 ms  method rk4\n  input inflow : l/s = 2 l/s\n"
         "  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n  output state level : m = 0 m\n"
         "  level' = inflow / area\n}\n"
         "fault more { on inflow  times 2 }\nfault less { on inflow  times 0.5 }\nfault hand { on inflow  freeze  by "
         "hand }\n"
         "requirement high { always level <= 30 mm }\n"
         "scenario short { hold 10 s }\nscenario long { hold 20 s }\n" +
         campaign;
}

std::vector<Case> all_of(const program::Program& p, std::uint64_t seed = 1) {
  const auto cases = Cases::of(p, p.campaigns.at(0), seed);
  INFO((cases ? "" : cases.failure().text()));
  REQUIRE(cases);
  std::vector<Case> all;
  for (std::int64_t n = 1; n <= cases->count(); ++n) all.push_back(cases->at(n));
  return all;
}

std::string refusal(const std::string& campaign) {
  const auto p = program_of(tank(campaign));
  const auto cases = Cases::of(*p, p->campaigns.at(0), 1);
  return cases ? "" : cases.failure().text();
}

}  // namespace

TEST_CASE("Every combination of factors is a case, once") {
  const auto p =
      program_of(tank("campaign c { scenario short, long\n  fault none, each\n  fault pairs of more, less, hand\n"
                      "  vary area = 1 m^2, 2 m^2\n  vary inflow = 1 l/s, 2 l/s, 3 l/s }\n"));
  const auto all = all_of(*p);
  // None, the two that come by themselves, three pairs of those that are named.
  CHECK(all.size() == 2 * 6 * 2 * 3);
  std::set<std::tuple<int, std::vector<std::int32_t>, std::vector<double>>> different;
  for (const Case& c : all) different.insert({c.scenario, c.faults, c.values});
  CHECK(different.size() == all.size());
}

TEST_CASE("A latin hypercube has each part of a range once, and each listed value as often as the others") {
  const auto p =
      program_of(tank("campaign c { scenario short, long\n  fault none, more, less\n  vary area from 1 m^2 to 2 m^2\n"
                      "  vary inflow from 0 l/s to 1 l/s\n  draw 300 by latin_hypercube }\n"));
  const auto all = all_of(*p);
  REQUIRE(all.size() == 300);
  for (const std::size_t factor : {0u, 1u}) {
    std::set<int> parts;
    for (const Case& c : all) {
      const double share = factor == 0 ? c.values[0] - 1 : c.values[1] * 1000;
      CHECK((share >= 0 && share < 1));
      parts.insert(static_cast<int>(share * 300));
    }
    CHECK(parts.size() == 300);
  }
  std::map<std::vector<std::int32_t>, int> faults;
  for (const Case& c : all) ++faults[c.faults];
  for (const auto& [set, count] : faults) CHECK(count == 100);
  // Factors are drawn by themselves: they do not go together.
  double together = 0;
  for (const Case& c : all) together += (c.values[0] - 1.5) * (c.values[1] * 1000 - 0.5);
  CHECK(std::abs(together / 300) < 0.02);
  // The same again, and others with another seed.
  CHECK(all_of(*p)[17].values == all[17].values);
  CHECK(all_of(*p, 2)[17].values != all[17].values);
}

TEST_CASE("The sequence of Sobol is the published one, and fills a range more evenly than chance") {
  const auto p = program_of(
      tank("campaign c { scenario short\n  vary area from 1 m^2 to 2 m^2\n  vary inflow from 0 l/s to 1 l/s\n"
           "  draw 255 by sobol }\n"));
  const auto all = all_of(*p);
  // The factors before have one value each, and take the first three dimensions. Dimension 4 of Joe and Kuo: primitive
  // polynomial x^3 + x + 1, m = 1, 3, 1; from the second point on: 1/2, 3/4, 1/4 in the Gray order.
  CHECK(all[0].values[0] == 1.5);
  CHECK(all[0].values[1] == Approx(0.5e-3));
  std::set<int> halves;
  for (const Case& c : all) halves.insert(static_cast<int>((c.values[0] - 1) * 256));
  CHECK(halves.size() == 255);  // each of 256 parts once, but for the corner's
  CHECK_FALSE(halves.contains(0));
}

TEST_CASE("Pairwise every two values of two factors meet, in few cases") {
  const auto p = program_of(
      tank("campaign c { scenario short, long\n  fault none, more, less\n  vary area = 0.5 m^2, 1 m^2, 1.5 m^2, 2 m^2\n"
           "  vary inflow = 1 l/s, 2 l/s, 3 l/s, 4 l/s, 5 l/s\n  draw 100 by pairwise }\n"));
  const auto all = all_of(*p);
  std::set<std::string> met;
  for (const Case& c : all) {
    const std::vector<std::string> values{fmt::format("s{}", c.scenario),
                                          fmt::format("f{}", c.faults.empty() ? -1 : c.faults[0]),
                                          fmt::format("a{}", c.values[0]), fmt::format("i{}", c.values[1])};
    for (std::size_t i = 0; i < values.size(); ++i) {
      for (std::size_t k = i + 1; k < values.size(); ++k) met.insert(values[i] + values[k]);
    }
  }
  CHECK(met.size() == 2 * 3 + 2 * 4 + 2 * 5 + 3 * 4 + 3 * 5 + 4 * 5);
  // 4 times 5 are needed, and every combination is 120.
  CHECK(all.size() >= 20);
  CHECK(all.size() <= 24);
}

TEST_CASE("A grid has the ends of its ranges, and what is too much is refused with what to do") {
  const auto p = program_of(
      tank("campaign c { scenario short\n  vary area from 1 m^2 to 2 m^2\n  vary inflow from 0 l/s to 1 l/s\n"
           "  fault none, more\n  draw 60 by grid }\n"));
  const auto all = all_of(*p);
  CHECK(all.size() == 2 * 5 * 5);
  std::set<double> areas;
  for (const Case& c : all) areas.insert(c.values[0]);
  CHECK(areas == std::set<double>{1, 1.25, 1.5, 1.75, 2});
  shows(refusal("campaign c { scenario short\n  vary area from 1 m^2 to 2 m^2\n  draw 1 by grid }\n"),
        "has 2 cases, and 1 are drawn");
  std::string many = "campaign c { scenario short\n";
  many += "  vary area = 1 m^2";
  for (int i = 1; i < 4000; ++i) many += fmt::format(", {} m^2", 1 + i * 1e-4);
  many += "\n  vary inflow = 1 l/s";
  for (int i = 1; i < 4000; ++i) many += fmt::format(", {} l/s", 1 + i * 1e-4);
  shows(refusal(many + "\n}\n"), "is 16000000 cases, more than 10000000");
  shows(refusal("campaign c { scenario short, long\n  vary area = 1 m^2, 2 m^2\n  draw 3 by pairwise }\n"),
        "draw 4 by pairwise");
}

TEST_CASE("A campaign comes to what each run by itself does, is gone on with, and says what is wrong") {
  const TestFolder folder;
  folder.write(
      "tank.dyne",
      tank("campaign c {\n  scenario short, long\n  fault none, more, less, hand\n  vary area = 0.5 m^2, 1 m^2, 2 m^2\n"
           "  keep worst 2\n}\n"));
  const std::string i = ISODYNE_PROGRAM;
  const Output o = shell(i + " campaign tank.dyne c", folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 1);
  shows(o.out, "24 of 24 cases of campaign c");
  shows(o.out, "2 recordings kept in campaigns/c");
  CHECK_FALSE(std::filesystem::exists(folder / "campaigns/c.sqlite-wal"));
  const auto book = CaseBook::read(folder / "campaigns/c.sqlite");
  REQUIRE(book);
  const auto all = (*book)->all();
  REQUIRE(all);
  REQUIRE(all->size() == 24);
  for (const session::CaseResult& r : *all) {
    INFO(r.number << " " << r.scenario << " " << r.faults << " " << r.values[0]);
    const double factor = r.faults == "more" ? 2 : r.faults == "less" ? 0.5 : 1;
    const double level = 2e-3 * factor / r.values[0] * (r.scenario == "short" ? 10 : 20);
    REQUIRE(r.rows.size() == 1);
    CHECK(*r.rows[0].worst_margin == Approx((0.03 - level) * 1000).margin(1e-9));
    CHECK((r.rows[0].answer == judge::Answer::broken) == (level > 0.03 + 1e-12));
  }
  // The worst two: both 160 mm high.
  std::set<std::string> kept;
  for (const auto& entry : std::filesystem::directory_iterator(folder / "campaigns/c"))
    kept.insert(entry.path().filename());
  session::CaseList sorted = session::list_of(*all);
  session::worst_first(sorted, "high");
  CHECK(kept ==
        std::set<std::string>{fmt::format("{:06}", sorted[0]->number), fmt::format("{:06}", sorted[1]->number)});
  // The command of a case gives it again.
  const std::string told = shell(i + " cases campaigns/c.sqlite --case 11", folder.path()).out;
  const std::size_t command = told.find("isodyne run ");
  REQUIRE(command != std::string::npos);
  const std::string once = told.substr(command + 7, told.find('\n', command) - command - 7);
  (void)shell(i + once + " --no-report --out once", folder.path());
  shows(slurp(folder / "once/verdicts.json"),
        fmt::format("\"worst_margin\": {}", format_exact(*(*all)[10].rows[0].worst_margin)));
  // There is one already; with --resume nothing is done twice.
  const Output again = shell(i + " campaign tank.dyne c", folder.path());
  CHECK(again.status == 2);
  shows(again.err, "--resume goes on with them");
  const Output resumed = shell(i + " campaign tank.dyne c --resume", folder.path());
  CHECK(resumed.status == 1);
  CHECK_FALSE(has(resumed.out, "kept in"));
  // Of another text nothing is mixed in.
  folder.write("tank.dyne", slurp(folder / "tank.dyne") + "# changed\n");
  const Output other = shell(i + " campaign tank.dyne c --resume", folder.path());
  CHECK(other.status == 2);
  shows(other.err, "of another text of the bench");
  for (const char* wrong :
       {"d", "c --only 25 --out x", "c --only 3..1", "c --only 1,", "c --jobs 0", "c --budget soon", "c --jobs 65"}) {
    INFO(wrong);
    CHECK(shell(i + " campaign tank.dyne " + wrong, folder.path()).status == 2);
  }
  CHECK(shell(i + " cases tank.dyne", folder.path()).status == 2);
  CHECK(shell(i + " cases nowhere", folder.path()).status == 2);
  CHECK(shell(i + " cases campaigns/c.sqlite --case 99", folder.path()).status == 2);
  CHECK(shell(i + " cases campaigns/c.sqlite --requirement low", folder.path()).status == 2);
  shows(shell(i + " cases campaigns/c.sqlite --csv", folder.path()).out,
        "case,scenario,faults,setting,area [m^2],outcome");
}

TEST_CASE("Every command of docs/campaigns.md does what it says") {
  const TestFolder folder;
  std::filesystem::create_directory_symlink(std::string(ISODYNE_SOURCE_FOLDER) + "/examples", folder / "examples");
  std::istringstream text(slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/docs/campaigns.md"));
  std::string script = "set -e\n";
  int commands = 0;
  for (std::string line; std::getline(text, line);) {
    if (!line.starts_with("    isodyne ") || line.find("--on slurm") != std::string::npos)
      continue;  // see cluster_test
    ++commands;
    // A few of them: all take a while under the sanitizers.
    if (line.find(" campaign ") != std::string::npos) line += " --only 1..4 || test $? = 1";
    script += ISODYNE_PROGRAM + line.substr(11) + "\n";
  }
  CHECK(commands == 13);
  folder.write("go.sh", script);
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  for (const char* part : {"4 of 200 cases of campaign nightly", "Case 3: ", "Again, in the folder of the bench:"})
    shows(o.out, part);
  shows(slurp(folder / "nightly.csv"), "upper.travel [s]");
}

TEST_CASE("A campaign that is killed goes on where it was, to the same as one that was not") {
  const TestFolder folder;
  folder.write(
      "tank.dyne",
      tank("campaign c {\n  scenario short, long\n  fault none, more, less\n  vary area from 0.5 m^2 to 2 m^2\n"
           "  draw 3000 by latin_hypercube\n  keep none\n}\n"));
  folder.write("go.sh", fmt::format(R"x(count() {{ {0} cases killed.sqlite --csv 2> /dev/null | wc -l; }}
{0} campaign tank.dyne c --out whole.sqlite > whole.txt; {0} cases whole.sqlite --csv > whole.csv
for most in 200 900 1600; do
  setsid {0} campaign tank.dyne c --out killed.sqlite --resume > killed.txt 2>&1 &
  for i in $(seq 2000); do test $(count) -gt $most && break; sleep 0.01; done
  pkill -KILL -f "campaign tank.dyne c --out killed.sqlite"
  sleep 0.2
done
echo "killed at $(count)"
{0} campaign tank.dyne c --out killed.sqlite --resume > killed.txt; {0} cases killed.sqlite --csv > killed.csv
cmp whole.csv killed.csv && wc -l < killed.csv
{0} campaign tank.dyne c --out stopped.sqlite --fail-fast --jobs 1; echo "status $?"
)x",
                                    ISODYNE_PROGRAM));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "killed at 3001"));
  shows(o.out, "\n3001\n");
  CHECK_FALSE(has(o.out, "3000 of 3000"));
  shows(o.out, "status 3");
  shows(o.err, "the same with --resume goes on");
}

TEST_CASE("What did not come to its end, had no effect, or has other code of controllers is no answer, and says so") {
  const TestFolder folder;
  const std::string i = ISODYNE_PROGRAM;
  folder.write("grows.dyne",
               "bench Grows {\n  step 1 ms  method rk4\n  param k : 1/s = 1 1/s  from 0.1 1/s to 10 1/s\n"
               "  param area : m^2 = 1 m^2\n  state x : 1 = 1\n  x' = k * x * x\n  let y = area / 1 m^2\n}\n"
               "requirement low { always x <= 1e9 }\nrequirement near { always y <= 2 }\n"
               "scenario s { set area = 3 m^2\n  hold 2 s }\n"
               "campaign c { scenario s\n  vary k = 0.1 1/s, 1 1/s\n  vary area = 1 m^2, 2 m^2 }\n");
  for (const char* again : {"", " --resume"}) {
    const Output o = shell(i + " campaign grows.dyne c" + again, folder.path());
    INFO(o.out << o.err);
    CHECK(o.status == 3);
    shows(o.out, "2 diverged");
    shows(o.err, "2 cases did not come to the end; case 3: ");
    shows(o.err, "is no longer a finite number");
    shows(o.err, "area begins with 3 m^2, not with 1 m^2");
  }
  // One that is broken is the worst, also where another has the only margin.
  folder.write(
      "one.dyne",
      "bench One {\n  step 1 ms\n  param k : 1 = 1\n  let big = k > 1.5\n}\n"
      "requirement R { never big }\nscenario s { hold 1 s }\ncampaign c { scenario s\n  vary k = 1, 2, 1.2 }\n");
  const Output worst = shell(i + " campaign one.dyne c --out one.sqlite", folder.path());
  INFO(worst.out);
  CHECK(worst.status == 1);
  shows(worst.out, "–        2\n");
  // A controller that was built anew.
  folder.write("ctl.sh", "#!/bin/sh\nexit 1\n");
  folder.write("told.dyne",
               "bench Told {\n  step 10 ms\n  input on : bool = false\n  output state x : m = 0 m\n  x' = 0 m/s\n"
               "  sensor level { of x  every 10 ms }\n  actuator pump : bool\n"
               "  controller plc {\n    every 10 ms\n    reads level\n    writes pump\n    setting code = program "
               "\"ctl.sh\"\n  }\n}\n"
               "scenario s { hold 1 s }\ncampaign c { scenario s\n  keep none }\n");
  const Output first = shell("chmod +x ctl.sh; " + i + " campaign told.dyne c --out told.sqlite", folder.path());
  INFO(first.out << first.err);
  CHECK(first.status == 3);
  folder.write("ctl.sh", "#!/bin/sh\nexit 2\n");
  const Output other = shell(i + " campaign told.dyne c --out told.sqlite --resume", folder.path());
  CHECK(other.status == 2);
  shows(other.err, "with other code of controllers");
}

TEST_CASE("A controller that answers otherwise the second time is told, where its recording is kept") {
  const TestFolder folder;
  // It counts its runs in a file.
  folder.write("b.dyne",
               "bench B {\n  step 10 ms  method rk4\n  output state x : 1 = 0\n  x' = 0 1/s\n"
               "  sensor s { of x  every 10 ms }\n  actuator u : 1\n  let y = u\n"
               "  controller c { every 10 ms  reads s  writes u  setting code = library \"counter\" }\n}\n"
               "requirement R { always y <= 100 }\nscenario go { hold 1 s }\ncampaign c { scenario go\n  keep all }\n");
  folder.write(
      "counter.c",
      "#include <stdio.h>\n#include \"c.h\"\nstatic int runs;\nconst isodyne_controller_info isodyne_info = C_INFO;\n"
      "int isodyne_init(void **self, int64_t p) { FILE *f = fopen(\"runs.txt\", \"a\"); (void)self; (void)p;\n"
      "  fputc('x', f); fseek(f, 0, SEEK_END); runs = (int)ftell(f); fclose(f); return 0; }\n"
      "int isodyne_step(void *self, int64_t t, const c_reads *r, c_writes *w) "
      "{ (void)self; (void)t; (void)r; w->u = runs; return 0; }\nvoid isodyne_close(void *self) { (void)self; }\n");
  const Output o =
      shell(fmt::format("{0} export header b.dyne c --out c.h && {1} -shared -fPIC -I{2}/include -o counter.so "
                        "counter.c && {0} campaign b.dyne c",
                        ISODYNE_PROGRAM, ISODYNE_C_COMPILER, ISODYNE_SOURCE_FOLDER),
            folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 3);
  shows(o.err,
        "came to something else when they were run again for their recordings, which are of that second run: 1;");
}

TEST_CASE(
    "Two campaigns at once do not write one file, and what a full disk leaves is whole cases that are gone on from") {
  const TestFolder folder;
  folder.write(
      "tank.dyne",
      tank("campaign c {\n  scenario short, long\n  fault none, more, less\n  vary area from 0.5 m^2 to 2 m^2\n"
           "  draw 600 by latin_hypercube\n  keep none\n}\n"));
  folder.write("go.sh", fmt::format(R"x(
{0} campaign tank.dyne c --out whole.sqlite > whole.txt; {0} cases whole.sqlite --csv > whole.csv
# Whoever holds the file, another does not write it.
exec 9<> held.sqlite; flock 9
{0} campaign tank.dyne c --resume --out held.sqlite; echo "held: $?"
exec 9>&-
# No file may be larger than so many blocks.
(ulimit -f 150; trap '' XFSZ; {0} campaign tank.dyne c --out full.sqlite > full.txt 2> full.err; echo "full: $?"; cat full.err)
n=$({0} cases full.sqlite --csv | wc -l); test "$n" -gt 1 && test "$n" -lt 601 && echo "some are there"
{0} campaign tank.dyne c --resume --out full.sqlite > full.txt; {0} cases full.sqlite --csv > full.csv
cmp whole.csv full.csv && echo "all the same"
)x",
                                    ISODYNE_PROGRAM));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  shows(o.out, "held: 3");
  shows(o.err, "another campaign is writing held.sqlite");
  shows(o.out, "full: 3");
  shows(o.out, "cannot write full.sqlite");
  shows(o.out, "some are there\nall the same");
}
