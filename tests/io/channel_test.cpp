#include "isodyne/io/channel.h"

#include <cmath>

#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {
constexpr const char* kBench = R"(
bench B { step 10 ms
  let water : m = if time < 1 s then 2 m else 3 m
  sensor plain { of water  every 20 ms }
  sensor slow { of water  every 20 ms  filter 200 ms }
  sensor coarse { of water  range 0 m .. 10 m  as 4 mA .. 20 mA  counts 0 .. 100  every 20 ms }
  sensor small { of water  range 0 m .. 2.5 m  counts 0 .. 1000  every 20 ms }
  sensor noisy { of water  every 20 ms  noise 5 cm }
  sensor flag { of water > 2.5 m  every 20 ms }
})";
}

TEST_CASE("A sensor samples at its period and holds between") {
  Seen seen(program_of(kBench), {"plain", "flag"});
  run_for(seen, 2);
  CHECK(seen.values[0][99] == 2);
  CHECK(seen.values[0][100] == 3);
  CHECK(seen.values[1][99] == 0);
  CHECK(seen.values[1][100] == 1);
}

TEST_CASE("The filter follows the exact first-order step response") {
  Seen seen(program_of(kBench), {"slow"});
  run_for(seen, 2);
  for (const int n : {1, 5, 20}) {  // samples after the step; the first one already moves by 1 - e^(-T/tau)
    const double expected = 3 - std::exp(-0.02 * n / 0.2);
    CHECK(seen.values[0][100 + 2 * static_cast<std::size_t>(n - 1)] == Approx(expected).epsilon(1e-12));
  }
}

TEST_CASE("Counts round to the nearest and saturate at the ends with an event") {
  Seen seen(program_of(kBench), {"coarse", "coarse.counts", "small", "small.counts"});
  run_for(seen, 2);
  CHECK(seen.values[1][10] == 20);
  CHECK(seen.values[0][10] == 2.0);
  CHECK(seen.values[3][10] == 800);
  CHECK(seen.last("small") == 2.5);
  CHECK(seen.last("small.counts") == 1000);
  REQUIRE(seen.events.size() == 2);  // saturated once, and the end
  CHECK(seen.events[0].kind == bench::EventKind::saturated);
  CHECK(seen.events[0].at == Time{1'000'000'000});
}

TEST_CASE("Noise comes from the seed and has the declared size") {
  const auto program = program_of(kBench);
  const auto noise = [&](std::uint64_t seed) {
    Seen seen(program, {"noisy"});
    bench::RunPlan plan;
    plan.seed = seed;
    plan.longest = time_from_seconds(100);
    run_bench(seen, plan);
    return seen.values[0];
  };
  const auto first = noise(1);
  CHECK(first == noise(1));
  CHECK(first != noise(2));
  double squares = 0;
  int n = 0;
  for (std::size_t i = 100; i < first.size(); i += 2, ++n) squares += (first[i] - 3) * (first[i] - 3);
  CHECK(std::sqrt(squares / n) == Approx(0.05).epsilon(5 / std::sqrt(2.0 * n)));
}

TEST_CASE("Adding a noisy sensor does not change another's noise") {
  std::string more = kBench;
  more.insert(more.find("sensor plain"), "sensor extra { of water  every 20 ms  noise 1 cm }\n  ");
  Seen a(program_of(kBench), {"noisy"}), b(program_of(more), {"noisy"});
  run_for(a, 5);
  run_for(b, 5);
  CHECK(a.values == b.values);
}

TEST_CASE("An actuator's answer goes through its counts") {
  model::Actuator actuator;
  actuator.to_counts = model::Linear{0, 1, 0, 100};
  CHECK(io::actuate(actuator, 0.333) == Approx(0.33));
  CHECK(io::actuate(actuator, 1.7) == 1.0);
  CHECK(io::actuate(actuator, -1) == 0.0);
}
