// Sensors sample in the sorted order of an instant: whatever reads one at t reads its sample of t, from t = 0 on.

#include <cmath>

#include <catch2/catch.hpp>

#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A tank that is nearly full, and logic in the bench that starts a pump when it is low.
constexpr const char* kTankWithSensor = R"(
model Pump {
  input low : bool
  output runs : bool
  modes motor from off {
    off -> on when low
    on -> off when not low
  }
  runs = motor is on
}
model Counter {
  input low : bool
  output memory seen : int = 0
  every 10 ms { seen := if low then seen + 1 else seen }
}
bench B {
  step 10 ms
  output state level : m = 5 m
  output memory fired : int = 0
  level' = -1 m/s
  sensor lt { of level  range 0 m .. 10 m  counts 0 .. 1000  every 20 ms }
  let low = lt < 1.5 m
  let again : m = lt
  part pump : Pump
  pump.low = low
  part counter : Counter
  counter.low = low
  when low { fired := fired + 1 }
}
requirement R-1 { always lt > 20 cm }
)";

}  // namespace

TEST_CASE("Nothing in the bench sees a sensor at zero before its first sample") {
  Seen seen(program_of(kTankWithSensor), {"lt", "low", "again", "pump.runs", "fired", "counter.seen", "level"});
  const auto result = run_for(seen, 1);
  CHECK(result.ending == observe::Ending::completed);
  CHECK(seen.values[0][0] == 5);
  for (const std::size_t i : {1u, 3u, 4u, 5u}) {
    INFO(seen.names[i]);
    for (const double v : seen.values[i]) CHECK(v == 0);
  }
  CHECK(seen.judge.verdicts(observe::Ending::completed)[0].answer == judge::Answer::held);
}

TEST_CASE("Every row agrees with itself: logic on a sensor and the sensor beside it") {
  Seen seen(program_of(kTankWithSensor), {"lt", "low", "again", "level"});
  run_for(seen, 4.5);
  bool was_low = false;
  for (std::size_t i = 0; i < seen.times.size(); ++i) {
    CHECK((seen.values[1][i] != 0) == (seen.values[0][i] < 1.5));
    CHECK(seen.values[2][i] == seen.values[0][i]);
    // At its own instants it is the quantity of this instant, to the count.
    if (i % 2 == 0) CHECK(seen.values[0][i] == Approx(std::round(seen.values[3][i] * 100) / 100).margin(1e-12));
    was_low = was_low || seen.values[1][i] != 0;
  }
  CHECK(was_low);
}

namespace {
/// What is measured jumps with a mode that changes at the very instant of a sample; `noise` as in the text.
std::string jumping(const std::string& extra) {
  return "bench B {\n  step 10 ms\n  input go : bool = false\n"
         "  modes way from slow {\n    slow -> fast when go\n    fast -> slow when not go\n  }\n"
         "  let speed : m/s = if way is fast then 4 m/s else 1 m/s\n"
         "  sensor v { of speed  every 20 ms" +
         extra +
         " }\n  let quick = v > 2 m/s\n}\n"
         "scenario s {\n  hold 60 ms\n  set go = true\n  hold 100 ms\n}\n";
}

bench::RunPlan first_scenario() {
  bench::RunPlan plan;
  plan.scenario = 0;
  return plan;
}
}  // namespace

TEST_CASE("A quantity that jumps within an instant is sampled as the instant leaves it") {
  Seen seen(program_of(jumping("")), {"v", "speed", "quick"});
  run_bench(seen, first_scenario());
  bool jumped = false;
  for (std::size_t i = 0; i < seen.times.size(); i += 2) {
    CHECK(seen.values[0][i] == seen.values[1][i]);
    CHECK((seen.values[2][i] != 0) == (seen.values[0][i] > 2));
    jumped = jumped || seen.values[0][i] == 4;
  }
  CHECK(jumped);
}

TEST_CASE("Sampling twice within an instant draws once, and moves no filter twice") {
  // The same channel of the same quantity as a table, which knows of no modes.
  const auto smooth = [](const std::string& extra) {
    return "bench B {\n  step 10 ms\n  let speed : m/s = if time > 55 ms then 4 m/s else 1 m/s\n"
           "  sensor v { of speed  every 20 ms" +
           extra + " }\n}\nscenario s {\n  hold 60 ms\n  hold 100 ms\n}\n";
  };
  for (const std::string extra : {"  noise 0.1 m/s", "  filter 50 ms", "  filter 50 ms  noise 0.2 m/s"}) {
    INFO(extra);
    Seen jumps(program_of(jumping(extra)), {"v", "speed"}), same(program_of(smooth(extra)), {"v", "speed"});
    run_bench(jumps, first_scenario());
    run_bench(same, first_scenario());
    REQUIRE(jumps.values[1] == same.values[1]);
    CHECK(jumps.values[0] == same.values[0]);
  }
}

TEST_CASE("A sensor whose sample depends at once on itself is a loop, and is printed") {
  const std::string said = diagnostics_of(
      "bench B {\n  step 1 ms\n  let pull : m = 2 * seen\n  let place : m = 1 m - pull\n"
      "  sensor seen { of place  every 1 ms }\n}\n");
  CHECK_THAT(said, Catch::Contains("algebraic-loop") && Catch::Contains("seen"));
  // With a state between them it is none.
  CHECK(load_text(
            "bench B {\n  step 1 ms\n  output state place : m = 1 m\n  let pull : m/s = seen / 1 s\n  place' = -pull\n"
            "  sensor seen { of place  every 1 ms }\n}\n")
            .program != nullptr);
}

TEST_CASE("Sensors give the same bits by interpreter and by native code, and samples come from the start") {
  for (const bool native : {false, true}) {
    INFO(native);
    Seen seen(program_of(kTankWithSensor), {"lt", "low", "again", "pump.runs", "fired", "counter.seen", "level"});
    bench::RunPlan plan;
    plan.longest = time_from_seconds(6);
    if (native) {
      plan.native = test_compiler();
      plan.wait_for_native = true;
    }
    run_bench(seen, plan);
    static std::vector<std::vector<double>> before;
    if (native) CHECK(seen.values == before);
    before = seen.values;
    CHECK(seen.last("counter.seen") > 100);
    CHECK(seen.last("fired") == 1);
  }
}

TEST_CASE("A filter and a counter of pulses see what passes between two samples") {
  // On for the first 10 ms of every 20 ms, sampled every 20 ms when it has just gone on: half of it passes.
  const char* text =
      "bench B {\n  step 1 ms\n  let phase : s = time - 20 ms * floor(time / 20 ms + 1e-9)\n"
      "  let flow : m^3/s = if phase < 9.5 ms then 2 m^3/s else 0 m^3/s\n"
      "  sensor meter { of flow  pulses 1000 per m^3  word 16 bit  every 20 ms }\n"
      "  sensor mean { of flow  every 20 ms  filter 2 s }\n}\n";
  Seen seen(program_of(text), {"meter.counts", "mean"});
  run_for(seen, 20);
  double sum = 0;
  for (std::size_t i = 0; i < seen.times.size(); i += 20) sum += seen.values[0][i];
  CHECK(sum == Approx(20 * 1000).epsilon(0.01));         // 1 m^3/s on average, not 2
  CHECK(seen.last("mean") == Approx(1.0).margin(0.02));  // neither
}

TEST_CASE("The filter is exact for a straight line, however often it is sampled") {
  // y' = (u - y) / tau, u = t: y = t - tau + tau e^(-t/tau).
  Seen seen(
      program_of("bench B {\n  step 1 ms\n  let u : s = time\n  sensor y { of u  every 50 ms  filter 200 ms }\n}\n"),
      {"y"});
  run_for(seen, 1);
  for (std::size_t i = 0; i < seen.times.size(); i += 50) {
    const double t = to_seconds(seen.times[i]);
    CHECK(seen.values[0][i] == Approx(t - 0.2 + 0.2 * std::exp(-t / 0.2)).margin(1e-12));
  }
}

TEST_CASE("Wires that a fault has swapped show each other's quantity of the same instant") {
  Seen seen(
      program_of("bench B {\n  step 10 ms\n  let a : m = time * 1 m/s\n  let b : m = 10 m - time * 1 m/s\n"
                 "  sensor sa { of a  every 20 ms }\n  sensor sb { of b  every 20 ms }\n  let seen_a : m = sa\n}\n"
                 "fault crossed { on sa  swap with sb  from 100 ms }\n"),
      {"a", "b", "sa", "sb", "seen_a"});
  bench::RunPlan plan;
  plan.faults = {0};
  plan.longest = time_from_seconds(0.5);
  run_bench(seen, plan);
  for (std::size_t i = 0; i < seen.times.size(); i += 2) {
    const bool crossed = i >= 10;
    CHECK(seen.values[2][i] == seen.values[crossed ? 1 : 0][i]);
    CHECK(seen.values[3][i] == seen.values[crossed ? 0 : 1][i]);
    CHECK(seen.values[4][i] == seen.values[2][i]);
  }
}
