#include "isodyne/io/channel.h"

#include <algorithm>
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
  actuator.word = {0, false, false, 0, 100};
  io::ActuatorChannel channel(actuator);
  double counts = 0;
  CHECK(channel.pass(0.333, Time{}, nullptr, counts) == Approx(0.33));
  CHECK(counts == 33);
  CHECK_FALSE(channel.saturation().now);
  CHECK(channel.pass(1.7, Time{5}, nullptr, counts) == 1.0);
  CHECK(channel.pass(-1, Time{6}, nullptr, counts) == 0.0);
  CHECK(channel.pass(std::nan(""), Time{7}, nullptr, counts) == 0.0);
  CHECK(channel.saturation().count == 3);
  CHECK(channel.saturation().first == Time{5});
}

TEST_CASE("The electrical form is a signal of its own, with the limits of the transmitter, and can be cut") {
  Seen seen(program_of("bench B { step 10 ms\n  let water : m = time * 1 m/s\n"
                       "  sensor level { of water  range 0 m .. 10 m  as 4 mA .. 20 mA  limits 3.8 mA .. 20.5 mA\n"
                       "    counts 0 .. 16000  word 16 bit signed  every 10 ms }\n}\n"
                       "fault cut { on level.signal  force 0 mA  from 5 s to 6 s }"),
            {"level", "level.signal", "level.counts"});
  bench::RunPlan plan;
  plan.faults = {0};
  plan.longest = time_from_seconds(12);
  run_bench(seen, plan);
  CHECK(seen.values[1][250] == Approx(8e-3).epsilon(1e-12));  // 2.5 m
  CHECK(seen.values[2][250] == 4000);
  CHECK(seen.values[1][550] == 0);      // cut
  CHECK(seen.values[2][550] == -4000);  // below the live zero, as a signed word shows it
  CHECK(seen.values[0][550] == Approx(-2.5));
  CHECK(seen.values[1][1150] == 20.5e-3);  // 11.5 m is more than the transmitter can say
  CHECK(seen.values[2][1150] == 16500);
  const auto saturated = std::count_if(seen.events.begin(), seen.events.end(),
                                       [](const auto& e) { return e.kind == bench::EventKind::saturated; });
  CHECK(saturated == 1);
}

TEST_CASE("A scale by its factor, in words that saturate or wrap") {
  // An encoder of 4096 counts a turn into 12 bits; two turns and a half.
  const auto at_end = [](const std::string& word, const char* name) {
    Seen seen(program_of("bench B { step 10 ms\n  let angle : rad = time * 5 rad/s * pi\n"
                         "  sensor turn { of angle  counts 4096 per rev  " +
                         word + "  every 10 ms }\n}"),
              {name});
    run_for(seen, 1);
    return seen.values[0].back();
  };
  CHECK(at_end("word 12 bit wraps", "turn.counts") == 2048);
  CHECK(at_end("word 12 bit wraps", "turn") == Approx(M_PI));
  CHECK(at_end("word 12 bit signed wraps", "turn.counts") == -2048);
  CHECK(at_end("word 13 bit", "turn.counts") == 8191);
  CHECK(at_end("word 32 bit signed", "turn.counts") == 10240);
  CHECK(at_end("word 32 bit signed", "turn") == Approx(5 * M_PI));
}

TEST_CASE("Pulses are counted between samples, and none is lost over time") {
  // 12.34 l/s at 450 pulses a litre, sampled every 20 ms: 111.06 a sample, so 111 and now and then 112.
  Seen seen(program_of("bench B { step 10 ms\n  let flow : m^3/s = 0.01234 m^3/s\n"
                       "  sensor meter { of flow  pulses 450000 per m^3  word 8 bit  every 20 ms }\n}"),
            {"meter.counts", "meter"});
  run_for(seen, 100);
  double sum = 0;
  for (std::size_t i = 0; i < 10'000; i += 2) {
    const double pulses = seen.values[0][i];
    REQUIRE((pulses == 111 || pulses == 112));
    sum += pulses;
  }
  CHECK(sum == Approx(0.01234 * 450000 * 100).margin(1));
  CHECK(seen.values[1][0] == Approx(111 / 450000.0 / 0.02));
}

TEST_CASE("Samples may be taken off the beat, and the first one is there from the start") {
  Seen seen(program_of("bench B { step 10 ms\n  let t = time / 1 s\n  sensor s { of t  every 50 ms offset 20 ms }\n}"),
            {"s"});
  run_for(seen, 0.2);
  const std::vector<double> expected{0, 0, 0.02, 0.02, 0.02, 0.02, 0.02, 0.07, 0.07, 0.07, 0.07, 0.07, 0.12};
  for (std::size_t i = 0; i < expected.size(); ++i) CHECK(seen.values[0][i] == Approx(expected[i]));
}

TEST_CASE("What is no number reads as the lowest count, and is said") {
  Seen seen(program_of("bench B { step 10 ms\n  input a : 1 = -1\n  let odd : m = sqrt(a) * 1 m\n"
                       "  sensor s { of odd  range 0 m .. 1 m  counts 7 .. 100  every 10 ms }\n}"),
            {"s.counts"});
  run_for(seen, 0.1);
  CHECK(seen.values[0].back() == 7);
  CHECK(seen.events[0].kind == bench::EventKind::saturated);
}

TEST_CASE("Mistakes in channels are found before the run") {
  const auto report = [](const std::string& channel) {
    return diagnostics_of("bench B { step 10 ms\n  let water : m = 1 m\n  let wet : bool = true\n  " + channel + "\n}");
  };
  const auto says = [&](const std::string& channel, const std::string& words) {
    INFO(report(channel));
    return report(channel).find(words) != std::string::npos;
  };
  CHECK(says("sensor s { of water  range 0 m .. 1 m  counts 0 .. 32000  word 12 bit  every 10 ms }",
             "do not fit this word, which holds 0 .. 4095"));
  CHECK(says("sensor s { of water  counts 100 per m  every 10 ms }", "does not say how wide its word is"));
  CHECK(says("sensor s { of water  counts 100 per s  word 8 bit  every 10 ms }", "counts per s do not fit"));
  CHECK(says("sensor s { of water  pulses 100 per m  word 8 bit  every 10 ms }", "counts per m do not fit"));
  CHECK(says("sensor s { of water  counts 0 per m  word 8 bit  every 10 ms }", "a factor of 0"));
  CHECK(says("sensor s { of water  counts 100 per m  word 60 bit  every 10 ms }", "1 bit .. 52 bit"));
  CHECK(says("sensor s { of water  word 8 bit  every 10 ms }", "has a word but no counts"));
  CHECK(says("sensor s { of water  counts 0 .. 100  every 10 ms }", "has counts but no range"));
  CHECK(says("sensor s { of water  range 0 m .. 1 m  limits 3 mA .. 21 mA  every 10 ms }",
             "has limits of an electrical form that it does not have"));
  CHECK(says("sensor s { of water  range 0 m .. 1 m  as 4 mA .. 20 mA  limits 5 mA .. 21 mA  every 10 ms }",
             "the limits of the transmitter are within its range"));
  CHECK(says("sensor s { of water  range 0 m .. 1 m  as 4 mA .. 10 V  every 10 ms }", "need the same unit"));
  CHECK(says("sensor s { of water  every 20 ms offset 20 ms }", "is not smaller than the period"));
  CHECK(says("sensor s { of water  every 20 ms offset 5 ms }", "is not a whole multiple of the step"));
  CHECK(says("sensor s { of wet  word 8 bit  every 10 ms }", "are for real quantities"));
  CHECK(says("actuator a : m { word 8 bit }", "has a word but no counts"));
  CHECK(says("actuator a : m { counts 0 .. 300 as 0 m .. 3 m  word 8 bit }", "do not fit this word"));
  CHECK(says("actuator a : bool { counts 100 per m }", "only real values have counts"));
}
