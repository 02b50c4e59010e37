#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr const char* kTank = R"(
model Tank {
  param leak : m/s = 0 m/s  from 0 m/s to 1 m/s
  input inflow : m/s = 0 m/s
  output state level : m = 1 m
  level' = inflow - leak
}
bench B {
  step 10 ms
  input pump : m/s = 0 m/s
  part tank : Tank
  let twice : m = 2 * tank.level
  tank.inflow = pump
  sensor lt { of tank.level  range 0 m .. 10 m  counts 0 .. 1000  every 100 ms }
}
condition high = tank.level > 2 m
fault shift   { on lt  offset 50 cm  from 1 s to 2 s }
fault drifting { on lt  drift 10 cm/s  once high lasting 1 s }
fault frozen  { on lt.counts  freeze  from 500 ms }
fault forced  { on twice  force 7 m  while high }
fault leaky   { on tank.leak  offset 10 cm/s }
fault pumped  { on pump  times 3  from 1 s }
fault shift2  { on lt  times 2 }
scenario fill {
  start tank.level = 500 mm
  set pump = 1 m/s
  wait until tank.level > 2.5 m  within 5 s
  ramp pump to 0 m/s over 1 s
  hold 500 ms
}
scenario never_there {
  set pump = 1 m/s
  wait until tank.level > 100 m and pump > 5 m/s  within 2 s
  hold 1 s
}
)";

std::int32_t index_of(const program::Program& p, const std::string& fault) {
  for (std::size_t i = 0; i < p.faults.size(); ++i) {
    if (p.faults[i].name == fault) return static_cast<std::int32_t>(i);
  }
  return -1;
}

bench::RunPlan plan_for(const program::Program& p, std::vector<std::string> faults, double seconds,
                        std::int32_t scenario = program::kNone) {
  bench::RunPlan plan;
  plan.scenario = scenario;
  for (const std::string& f : faults) plan.faults.push_back(index_of(p, f));
  if (seconds > 0) plan.longest = time_from_seconds(seconds);
  return plan;
}

}  // namespace

TEST_CASE("A scenario starts, sets, waits, ramps and holds at exact instants") {
  const auto p = program_of(kTank);
  Seen seen(p, {"tank.level", "pump"});
  const auto result = run_bench(seen, plan_for(*p, {}, 0, 0));
  CHECK(result.ending == observe::Ending::completed);
  CHECK(seen.values[0][0] == 0.5);
  CHECK(seen.values[1][0] == 1.0);
  // level = 0.5 + t exceeds 2.5 in the image at 2.01 s (at 2 s it is 2.5 but for rounding); acts one step later.
  const auto ramp = std::find_if(seen.events.begin(), seen.events.end(), [&](const observe::Event& e) {
    return e.kind == observe::EventKind::action &&
           p->scenarios[0].steps[static_cast<std::size_t>(e.subject)].kind == program::ScenarioStep::Kind::ramp;
  });
  REQUIRE(ramp != seen.events.end());
  CHECK(to_seconds(ramp->at) == Approx(2.015).margin(0.0051));
  const auto begin = static_cast<std::size_t>(ramp->at.count() / 10'000'000);
  CHECK(seen.values[1][begin] == 1.0);
  CHECK(seen.values[1][begin + 50] == Approx(0.5));
  CHECK(seen.values[1][begin + 100] == 0.0);
  CHECK(result.ended_at == ramp->at + Time{1'500'000'000});
}

TEST_CASE("A wait that never comes true ends the run with the last values of what it waited for") {
  const auto p = program_of(kTank);
  Seen seen(p);
  const auto result = run_bench(seen, plan_for(*p, {}, 0, 1));
  CHECK(result.ending == observe::Ending::wait_timed_out);
  CHECK(result.explanation ==
        "bench.dyne:33:3: `wait until tank.level > 100 m and pump > 5 m/s within 2 s` did not come true within 2 s");
  CHECK(result.details == std::vector<std::string>{"tank.level is 3 m", "pump is 1 m/s"});
}

TEST_CASE("Offset acts on the sensor from its time to its end, and the plant is untouched") {
  const auto p = program_of(kTank);
  Seen seen(p, {"lt", "lt.true", "shift"});
  run_bench(seen, plan_for(*p, {"shift"}, 3));
  CHECK(seen.values[0][99] == 1.0);
  CHECK(seen.values[0][100] == 1.5);
  CHECK(seen.values[0][199] == 1.5);
  CHECK(seen.values[0][200] == 1.0);
  CHECK(seen.values[1][150] == 1.0);
  CHECK(seen.values[2][99] == 0);
  CHECK(seen.values[2][100] == 1);
  CHECK(seen.values[2][200] == 0);
}

TEST_CASE("Drift grows from the instant its condition came true, and ends after its time") {
  const auto p = program_of(kTank);
  Seen seen(p, {"lt", "lt.true", "high", "drifting"});
  run_bench(seen, plan_for(*p, {"drifting"}, 0, 0));
  std::size_t on = 0;
  while (seen.values[3][on] == 0) ++on;
  CHECK(seen.values[2][on - 1] == 1);  // the image before said so
  CHECK(seen.values[2][on - 2] == 0);
  const std::size_t sample = (on / 10 + 5) * 10;
  const double since = 0.01 * static_cast<double>(sample - on);
  CHECK(seen.values[0][sample] == Approx(seen.values[1][sample] + 0.1 * since).margin(0.0051));
  CHECK(seen.values[3][on + 99] == 1);
  CHECK(seen.values[3][on + 100] == 0);
}

TEST_CASE("Freeze keeps the raw word, force and times replace values while they are active") {
  const auto p = program_of(kTank);
  Seen seen(p, {"lt.counts", "twice", "tank.level", "pump"});
  run_bench(seen, plan_for(*p, {"frozen", "forced", "pumped"}, 0, 0));
  CHECK(seen.values[0][50] == seen.values[0].back());
  CHECK(seen.values[0][49] != seen.values[0].back());
  CHECK(seen.values[1][0] == 1.0);
  CHECK(seen.values[1].back() == 7.0);
  CHECK(seen.values[3][99] == 1.0);
  CHECK(seen.values[3][100] == 3.0);  // what the scenario set, times three
}

TEST_CASE("A fault on a parameter changes what the plant feels") {
  const auto p = program_of(kTank);
  Seen healthy(p, {"tank.level"}), leaky(p, {"tank.level"});
  run_for(healthy, 1);
  run_bench(leaky, plan_for(*p, {"leaky"}, 1));
  CHECK(healthy.last("tank.level") == Approx(1.0));
  CHECK(leaky.last("tank.level") == Approx(0.9));
}

TEST_CASE("Two active faults on one place are refused by name") {
  const auto p = program_of(kTank);
  const auto trouble = bench::trouble_with(*p, plan_for(*p, {"shift", "shift2"}, 1));
  REQUIRE(trouble);
  CHECK(
      trouble->text() ==
      "faults `shift` and `shift2` both act on `lt`: choose one of them, or state their order: compose shift, shift2");
  CHECK_FALSE(bench::trouble_with(*p, plan_for(*p, {"shift", "frozen"}, 1)));
}

TEST_CASE("Declared faults that are not chosen change nothing, to the bit") {
  const auto p = program_of(kTank);
  std::string bare = kTank;
  for (std::size_t at = bare.find("\nfault"); at != std::string::npos; at = bare.find("\nfault"))
    bare.erase(at, bare.find('\n', at + 1) - at);
  const auto q = program_of(bare);
  REQUIRE(q->faults.empty());
  Seen a(p, {"tank.level", "lt", "twice"}), b(q, {"tank.level", "lt", "twice"});
  run_bench(a, plan_for(*p, {}, 0, 0));
  run_bench(b, plan_for(*q, {}, 0, 0));
  CHECK(a.values == b.values);
}

TEST_CASE("The first image is the solved start with start values and faults applied") {
  const auto p = program_of(kTank);
  Seen seen(p, {"twice", "tank.leak", "lt"});
  run_bench(seen, plan_for(*p, {"leaky"}, 0.1));
  CHECK(seen.values[0][0] == 2.0);
  CHECK(seen.values[1][0] == Approx(0.1));
  CHECK(seen.values[2][0] == 1.0);
}
