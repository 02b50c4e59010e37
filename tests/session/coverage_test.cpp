// What cases of a campaign come to, and what they never do: against what is told by hand of a small bench.

#include <filesystem>
#include <set>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/session/coverage.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using program::CoverageKind;
using session::CaseBook;

namespace {

/// A lamp that warms up: off → warming → on, and `worn` where it is switched too often; the logic switches it twice.
const char* const kLamp = R"x(
choice Push { none, up, down }
bench Lamp {
  step 10 ms
  input call : bool = false
  param warm_up : s = 1 s  from 0.5 s to 5 s
  output memory pushes : int = 0
  modes lamp from off {
    off     -> warming when current
    warming -> on      after warm_up
    warming -> off     when not current
    on      -> off     when not current
    off     -> worn    when pushes > 100
  }
  sensor called { of call  every 10 ms }
  sensor shines { of lamp is on  every 10 ms }
  actuator current : bool
  condition bright = lamp is on
  controller plc { every 10 ms  reads called, shines  writes current  setting model = part Logic }
}
model Logic {
  input called : bool
  input shines : bool
  output memory current : bool = false
  memory last : Push = none
  modes phase from idle {
    idle    -> working when called
    working -> idle    when not called
    working -> broken  when false
  }
  every 10 ms {
    current := called
    last := if called then up else last
  }
}
fault late { on called  force false  from 500 ms lasting 100 ms }
fault never { on called  force true  once pushes > 5 }
requirement R-1 { whenever bright then current }
requirement R-2 { whenever pushes > 7 then bright }
)x";

std::map<CoverageKind, std::set<std::string>> missing_of(const TestFolder& folder, const std::string& campaign) {
  folder.write("lamp.dyne", kLamp + campaign);
  const Output o =
      shell(fmt::format("rm -f c.sqlite; {} campaign lamp.dyne c --out c.sqlite", ISODYNE_PROGRAM), folder.path());
  INFO(o.out << o.err);
  const auto book = CaseBook::read(folder / "c.sqlite");
  REQUIRE(book);
  const auto all = (*book)->all();
  REQUIRE(all);
  session::CoverageSum sum((*book)->key());
  for (const auto& r : *all) sum.add(r);
  std::map<CoverageKind, std::set<std::string>> missing;
  for (const session::Coverage& c : sum.all()) {
    CHECK(c.met + c.missing.size() == c.all);
    missing[c.kind] = {c.missing.begin(), c.missing.end()};
  }
  return missing;
}

}  // namespace

TEST_CASE("Coverage is what modes, transitions, labels, truths, faults and pairs were met, and names what was not") {
  using Names = std::set<std::string>;
  const TestFolder folder;
  auto missing = missing_of(
      folder,
      "scenario still { hold 1 s }\nscenario on { set call = true\n  hold 2 s }\n"
      "campaign c { scenario still, on\n  fault none, late, never\n  vary warm_up = 1 s, 5 s\n  keep none }\n");
  // The lamp came to `on` once warm_up had passed, and back to `off` by the fault, but never from on to worn.
  CHECK(missing[CoverageKind::modes] == Names{"lamp is worn", "plc as model: phase is broken"});
  CHECK(missing[CoverageKind::transitions] ==
        Names{"lamp: on → off", "lamp: off → worn", "plc as model: phase: working → broken"});
  CHECK(missing[CoverageKind::labels] == Names{"plc as model: last is down"});
  CHECK(missing[CoverageKind::truths].empty());
  CHECK(missing[CoverageKind::faults] == Names{"never"});
  CHECK_FALSE(missing[CoverageKind::faults_in_modes].contains("late begins while lamp is warming"));
  CHECK(missing[CoverageKind::faults_in_modes].contains("late begins while lamp is on"));
  CHECK(missing[CoverageKind::faults_in_modes].contains("never begins while lamp is off"));
  CHECK(missing[CoverageKind::requirements] == Names{"R-2"});
  CHECK(missing[CoverageKind::pairs].empty());
  CHECK(missing[CoverageKind::ends] == Names{"warm_up near 0.5"});
  // Of what was not done, pairs are missing: with one drawn case all but those of its own values.
  missing = missing_of(
      folder,
      "scenario still { hold 1 s }\nscenario on { set call = true\n  hold 2 s }\n"
      "campaign c { scenario still, on\n  vary warm_up from 1 s to 5 s\n  draw 1 by random\n  keep none }\n");
  // Scenario and part of the range: 2 × 4; with the one fault set and setting: 2 + 4, twice; of which one case has one
  // each.
  CHECK(missing[CoverageKind::pairs].size() == 2 * 4 + 2 * 2 + 2 * 4 - 1 - 2 - 2);
}

TEST_CASE("A campaign ends when enough is covered, wherever it was interrupted and however many workers it has") {
  const TestFolder folder;
  folder.write(
      "tank.dyne",
      "bench Tank {\n  step 10 ms  method rk4\n  input inflow : l/s = 2 l/s\n"
      "  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n  state level : m = 0 m\n  level' = inflow / area\n}\n"
      "fault more { on inflow  times 2 }\nfault less { on inflow  times 0.5 }\nrequirement high { always level <= 9 m "
      "}\n"
      "scenario short { hold 1 s }\nscenario long { hold 2 s }\n"
      "campaign c {\n  scenario short, long\n  fault none, more, less\n  vary area from 0.5 m^2 to 2 m^2\n"
      "  vary inflow from 0 l/s to 1 l/s\n  draw 5000 by random\n  until coverage of pairs = 100 %\n  keep none\n}\n");
  folder.write("go.sh", fmt::format(R"x(
{0} campaign tank.dyne c --jobs 1 --out one.sqlite; {0} campaign tank.dyne c --jobs 2 --out two.sqlite > two.txt
{0} campaign tank.dyne c --jobs 2 --out part.sqlite --only 1..7,3 > part.txt
{0} campaign tank.dyne c --jobs 2 --out part.sqlite --resume > part.txt
for b in one two part; do {0} cases $b.sqlite --csv > $b.csv; wc -l < $b.csv; done
cmp one.csv two.csv && echo same
{0} cases one.sqlite coverage
)x",
                                    ISODYNE_PROGRAM));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  shows(o.out, "4950 cases left out: 100 % of pairs are covered");
  shows(o.out, "\n51\n51\n51\nsame\n");
  shows(o.out, "pairs          75   75  100.0 %");
}
