#include <algorithm>
#include <cmath>

#include <catch2/catch.hpp>

#include "isodyne/io/channel.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {
constexpr const char* kChannels = R"(
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
  Seen seen(program_of(kChannels), {"plain", "flag"});
  run_for(seen, 2);
  CHECK(seen.values[0][99] == 2);
  CHECK(seen.values[0][100] == 3);
  CHECK(seen.values[1][99] == 0);
  CHECK(seen.values[1][100] == 1);
}

TEST_CASE("The filter follows the exact first-order step response") {
  Seen seen(program_of(kChannels), {"slow"});
  run_for(seen, 2);
  // Between two instants of the bench the quantity goes along a straight line: up by 1 m within the last 10 ms before 1
  // s.
  const double h = 0.01 / 0.2, first = 3 - (1 - std::exp(-h)) / h;
  for (const int n : {0, 1, 5, 20}) {  // samples since then
    const double expected = 3 - (3 - first) * std::exp(-0.02 * n / 0.2);
    CHECK(seen.values[0][100 + 2 * static_cast<std::size_t>(n)] == Approx(expected).epsilon(1e-12));
  }
}

TEST_CASE("Counts round to the nearest and saturate at the ends with an event") {
  Seen seen(program_of(kChannels), {"coarse", "coarse.counts", "small", "small.counts"});
  run_for(seen, 2);
  CHECK(seen.values[1][10] == 20);
  CHECK(seen.values[0][10] == 2.0);
  CHECK(seen.values[3][10] == 800);
  CHECK(seen.last("small") == 2.5);
  CHECK(seen.last("small.counts") == 1000);
  REQUIRE(seen.events.size() == 2);  // saturated once, and the end
  CHECK(seen.events[0].kind == observe::EventKind::saturated);
  CHECK(seen.events[0].at == Time{1'000'000'000});
}

TEST_CASE("Noise comes from the seed and has the declared size") {
  const auto program = program_of(kChannels);
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
  std::string more = kChannels;
  more.insert(more.find("sensor plain"), "sensor extra { of water  every 20 ms  noise 1 cm }\n  ");
  Seen a(program_of(kChannels), {"noisy"}), b(program_of(more), {"noisy"});
  run_for(a, 5);
  run_for(b, 5);
  CHECK(a.values == b.values);
}

TEST_CASE("An actuator's answer goes through its counts") {
  program::Actuator actuator;
  actuator.to_counts = program::Linear{0, 1, 0, 100};
  actuator.word = {0, false, false, 0, 100};
  io::ActuatorChannel channel(actuator);
  io::Sample got;
  CHECK(channel.pass(0.333, Time{}, {}, got) == Approx(0.33));
  CHECK(got.counts == 33);
  CHECK_FALSE(channel.saturation().now);
  CHECK(channel.pass(1.7, Time{5}, {}, got) == 1.0);
  CHECK(channel.pass(-1, Time{6}, {}, got) == 0.0);
  CHECK(channel.pass(std::nan(""), Time{7}, {}, got) == 0.0);
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
                                       [](const auto& e) { return e.kind == observe::EventKind::saturated; });
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
  CHECK(seen.values[0][0] == 0);  // nothing has passed at the start
  double sum = 0;
  for (std::size_t i = 2; i <= 10'000; i += 2) {
    const double pulses = seen.values[0][i];
    REQUIRE((pulses == 111 || pulses == 112));
    sum += pulses;
  }
  CHECK(sum == Approx(0.01234 * 450000 * 100).margin(1));
  CHECK(seen.values[1][2] == Approx(111 / 450000.0 / 0.02));
}

TEST_CASE("Samples may be taken off the beat, and the first one is there from the start") {
  Seen seen(program_of("bench B { step 10 ms\n  let t = time / 1 s\n  sensor s { of t  every 50 ms offset 20 ms }\n}"),
            {"s"});
  run_for(seen, 0.2);
  const std::vector<double> expected{0, 0, 0.02, 0.02, 0.02, 0.02, 0.02, 0.07, 0.07, 0.07, 0.07, 0.07, 0.12};
  for (std::size_t i = 0; i < expected.size(); ++i) CHECK(seen.values[0][i] == Approx(expected[i]));
}

TEST_CASE("What is no number reads as the lowest count, and is said") {
  const auto p = program_of(
      "bench B { step 10 ms\n  let x : m = 0 m\n  sensor s { of x  range 0 m .. 1 m  counts 7 .. 100  every 10 ms "
      "}\n}");
  io::SensorChannel channel(p->sensors[0], 1);
  CHECK(channel.sample(std::nan(""), Time{}, {}).counts == 7);
  CHECK(channel.saturation().count == 1);
}

TEST_CASE("The word of a counter is its count modulo the size of the word, whatever the value") {
  RandomStream random(11, "words");
  for (int i = 0; i < 20'000; ++i) {
    program::Sensor sensor;
    sensor.period = Time{1'000'000};
    const int bits = 1 + static_cast<int>(random.uniform() * 40);
    const bool is_signed = random.uniform() < 0.5;
    const std::int64_t size = std::int64_t{1} << bits, lowest = is_signed ? -size / 2 : 0;
    const std::int64_t per = 1 + static_cast<std::int64_t>(random.uniform() * 5000);
    sensor.to_counts = program::Linear{0, 1, 0, static_cast<double>(per)};
    sensor.word = {bits, is_signed, true, static_cast<double>(lowest), static_cast<double>(lowest + size - 1)};
    // Sixteenths of a count, so that the count itself can be told in whole numbers; halves are left out.
    std::int64_t sixteenths = static_cast<std::int64_t>((random.uniform() - 0.5) * 1e12);
    if (((sixteenths % 16) + 16) % 16 == 8) ++sixteenths;
    const double x = static_cast<double>(sixteenths) / 16 / static_cast<double>(per);
    const double count = x * static_cast<double>(per);
    if (std::abs(count * 16 - static_cast<double>(sixteenths)) > 1) continue;  // beyond what a double can tell
    const std::int64_t nearest = (sixteenths + (sixteenths >= 0 ? 8 : -8)) / 16;
    const std::int64_t expected = ((nearest - lowest) % size + size) % size + lowest;
    io::SensorChannel channel(sensor, 1);
    const io::Sample got = channel.sample(x, Time{}, {});
    INFO(bits << " bits" << (is_signed ? " signed" : "") << ", " << per << " per unit, " << sixteenths << "/16");
    REQUIRE(got.counts == static_cast<double>(expected));
    REQUIRE(channel.saturation().count == 0);  // wrapping is what a counter is for
  }
}

TEST_CASE("A fault on the counts stays within the word, and one on the quantity goes through the whole chain") {
  Seen seen(program_of("bench B { step 10 ms\n  let turns : 1 = 3\n"
                       "  sensor turn { of turns  counts 100 per 1  word 8 bit  every 10 ms }\n}\n"
                       "fault high { on turn.counts  offset 1000  from 1 s to 2 s }\n"
                       "fault twice { on turn  times 0.5  from 3 s }"),
            {"turn.counts", "turn"});
  bench::RunPlan plan;
  plan.faults = {0, 1};
  plan.longest = time_from_seconds(4);
  run_bench(seen, plan);
  CHECK(seen.values[0][50] == 255);   // 300 does not fit 8 bits
  CHECK(seen.values[0][150] == 255);  // nor does 1255
  CHECK(seen.values[0][350] == 150);
  CHECK(seen.values[1][350] == 1.5);
}

TEST_CASE("One odd sample does not stay in the filter") {
  const auto p = program_of(
      "bench B { step 10 ms\n  let x = 2\n"
      "  sensor s { of x  range 0 .. 10  counts 0 .. 1000  every 10 ms  filter 50 ms }\n}");
  io::SensorChannel channel(p->sensors[0], 1);
  const auto at = [&](int i, double truth) { return channel.sample(truth, i * Time{10'000'000}, {}).counts; };
  for (int i = 0; i < 5; ++i) CHECK(at(i, 2) == 200);
  CHECK(at(5, std::nan("")) == 0);
  CHECK(at(6, 2) == 200);
}

TEST_CASE("An actuator's counts stand for what it gives from the first instant on") {
  Seen seen(program_of("bench B { step 10 ms\n  actuator gap : mm { counts 100 per mm  word 12 bit  start 5 mm }\n}"),
            {"gap", "gap.counts"});
  run_for(seen, 0.1);
  CHECK(seen.values[0][0] == 5e-3);
  CHECK(seen.values[1][0] == 500);
}
