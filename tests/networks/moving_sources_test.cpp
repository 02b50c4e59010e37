// Sources that move within a step of their network: against closed forms, and where they must not move.

#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/program/between.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr double kOmega = 2 * std::numbers::pi * 50;

Seen seen_of(const std::string& text, const std::vector<std::string>& signals, Time longest,
             const std::vector<std::int32_t>& faults = {}) {
  const auto p = program_of("use library \"circuits.dyne\"\n" + text);
  Seen seen(p, signals);
  bench::RunPlan plan;
  plan.longest = longest;
  plan.faults = faults;
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  return seen;
}

/// 100 V at their crest over 2 ohm and 10 mH, from rest on: the current at a time.
double exact(double t) {
  const double r = 2, l = 10e-3, x = kOmega * l, z2 = r * r + x * x;
  const auto steady = [&](double at) { return 100 * (r * std::sin(kOmega * at) - x * std::cos(kOmega * at)) / z2; };
  return steady(t) - steady(0) * std::exp(-t * r / l);
}

std::string sine(const std::string& source, const std::string& step) {
  return "bench B { step " + step +
         "\n  node a : electric\n  part s : VoltageSource between a, ground\n"
         "  part l : Inductor(inductance = 10 mH, resistance = 2 ohm) between a, ground\n" +
         source + "}\n";
}

double worst(const Seen& seen) {
  double most = 0;
  for (std::size_t i = 0; i < seen.times.size(); ++i)
    most = std::max(most, std::abs(seen.values[0][i] - exact(to_seconds(seen.times[i]))));
  return most;
}

}  // namespace

TEST_CASE("A sine goes on within a step, whatever it is written with") {
  const std::string of_time = "  s.voltage = 100 V * sin(2 * pi * 1 rad * 50 Hz * time)\n";
  const std::string of_state =
      "  part ref : SineReference\n  ref.depth = 1\n"
      "  s.voltage = 100 V * ref.reference[1] * 0 + 100 V * cos(ref.angle - 90 deg)\n";
  for (const std::string& source : {of_time, of_state}) {
    // What bends within a step is all that is missing: (w h)^2 / 12 of 27 A.
    for (const auto& [step, h] : {std::pair{"1 ms", 1e-3}, std::pair{"100 us", 1e-4}, std::pair{"10 us", 1e-5}}) {
      const Seen seen = seen_of(sine(source, step), {"l.i", "s.v"}, Time{40'000'000});
      INFO(source << step);
      CHECK(worst(seen) <= 1.3 * 27 * kOmega * kOmega * h * h / 12 + 1e-9);
      // And what the source shows at an instant is what it is there.
      for (std::size_t i = 0; i < seen.times.size(); ++i)
        REQUIRE(std::abs(seen.values[1][i] - 100 * std::sin(kOmega * to_seconds(seen.times[i]))) <= 1e-9);
    }
  }
}

TEST_CASE("A ramp of a source is exact, whatever the step, and so is the current source's") {
  const Seen seen = seen_of(
      "bench B { step 250 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n"
      "  part l : Inductor(inductance = 10 mH, resistance = 2 ohm) between a, ground\n"
      "  part j : CurrentSource between ground, b\n"
      "  part c : Capacitor(capacitance = 20 uF) between b, ground\n  part r : Resistor(resistance = 50 ohm) between "
      "b, ground\n"
      "  s.voltage = time * 1000 V / 1 s + 3 V\n  j.current = 2 A - time * 40 A / 1 s\n}\n",
      {"l.i", "c.v", "s.v"}, Time{20'000'000});
  for (std::size_t i = 0; i < seen.times.size(); ++i) {
    const double t = to_seconds(seen.times[i]), tau = 5e-3, rc = 1e-3;
    const double current = 500 * (t - tau * (1 - std::exp(-t / tau))) + 1.5 * (1 - std::exp(-t / tau));
    const double voltage = 50 * (2 * (1 - std::exp(-t / rc)) - 40 * (t - rc * (1 - std::exp(-t / rc))));
    REQUIRE(std::abs(seen.values[0][i] - current) <= 1e-12);
    REQUIRE(std::abs(seen.values[1][i] - voltage) <= 1e-10);
    REQUIRE(std::abs(seen.values[2][i] - (1000 * t + 3)) <= 1e-12);
  }
}

TEST_CASE("Edges of gates and diodes within a step see the source where it is then") {
  // A switch closes at 3.7 us of a step of 10 us: the current of an inductor is the integral of a ramp from there on.
  const Seen gate = seen_of(
      "bench B { step 10 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n"
      "  part k : Switch(closed_resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between a, b\n"
      "  part l : Inductor(inductance = 1 mH) between b, ground\n  part r : Resistor(resistance = 1e9 ohm) between b, "
      "ground\n"
      "  part pwm : Modulator(frequency = 10 kHz, dead_time = 0 us)\n  pwm.reference = 0\n"
      "  k.close = delay(pwm.upper, 3700 ns)\n  s.voltage = time * 1e6 V / 1 s\n}\n",
      {"l.i"}, Time{100'000});
  // The upper gate is on until 25 us and from 75 us on, and all of that 3.7 us later; in between the current has
  // nowhere to go.
  const auto area = [](double from, double to) { return (to * to - from * from) / 2 * 1e6; };
  CHECK(std::abs(gate.values[0][2] - area(0, 20e-6) / 1e-3) <= 1e-6);
  CHECK(std::abs(gate.values[0][5]) <= 1e-6);
  CHECK(std::abs(gate.values[0][8] - area(78.7e-6, 80e-6) / 1e-3) <= 1e-6);
  CHECK(std::abs(gate.values[0].back() - area(78.7e-6, 100e-6) / 1e-3) <= 1e-6);
  // A diode without drop that begins where a sine passes zero between two instants.
  const Seen diode = seen_of(
      "bench B { step 30 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n"
      "  part d : Diode(drop = 0 V, resistance = 1 mohm) between a, b\n"
      "  part r : Resistor(resistance = 10 ohm) between b, ground\n"
      "  s.voltage = 100 V * sin(2 * pi * 1 rad * 50 Hz * time - 1 rad)\n}\n",
      {"r.v"}, Time{40'000'000});
  for (std::size_t i = 1; i < diode.times.size(); ++i) {
    const double v = 100 * std::sin(kOmega * to_seconds(diode.times[i]) - 1);
    REQUIRE(std::abs(diode.values[0][i] - std::max(0.0, v)) <= 0.02);
  }
}

TEST_CASE("A source never goes beyond its limits within a step, and neither beyond its crest nor its jumps") {
  const auto source = [](const std::string& what) {
    return "model Integrator { input u : V/s\n  output state y : V = 0 V limited -0.5 V .. 0.5 V\n  y' = u }\n"
           "bench B { step 1 ms\n  node a : electric\n  part s : VoltageSource between a, ground  step 100 us\n"
           "  part r : Resistor between a, ground  step 100 us\n  s.voltage = " +
           what +
           "\n  record s.v every 100 us\n  let quick : V = s.v  \n  part see : See  step 100 us\n  see.x = s.v\n}\n" +
           "model See { input x : V\n  output memory most : V = -1e9 V\n  output memory least : V = 1e9 V\n" +
           "  every 100 us { most := max(most, x)  \n    least := min(least, x) } }\n";
  };
  const auto range = [&](const std::string& what) {
    const Seen seen = seen_of(source(what), {"see.most", "see.least"}, Time{45'000'000});
    return std::pair{seen.values[0].back(), seen.values[1].back()};
  };
  CHECK(range("clamp(time * 1030 V / 1 s - 3 V, -2 V, 10 V)") == std::pair{10.0, -2.0});
  CHECK(range("min(time * 1030 V / 1 s, 10 V)").first == 10);
  CHECK(range("abs(10 V * sin(2 * pi * 1 rad * 50 Hz * time + 0.015 rad))").second >= 0);
  // A saw: to its end and not beyond it by more than the step in which it falls; an angle that falls by a turn.
  const auto saw = range("10 V * mod(time / 1 ms + 0.05, 1)");
  CHECK(saw.first <= 10.5 + 1e-9);
  CHECK(saw.second >= -1e-9);
  const auto angle = range(
      "1 V / 1 rad * atan2(sin(2 * pi * 1 rad * 50 Hz * time + 0.01 rad), cos(2 * pi * 1 rad * 50 Hz * time + 0.01 "
      "rad))");
  CHECK(angle.first <= std::numbers::pi + 2 * kOmega * 1e-4);
  CHECK(angle.second >= -std::numbers::pi - 1e-9);
  // A step of a table that is held comes at its instant, not on the way to it.
  const Seen held = seen_of("table t(x: s) -> V = [0 s: 1 V, 2 ms: 5 V, 4 ms: 2 V] hold\n" + source("t(time)"), {"s.v"},
                            Time{6'000'000});
  for (std::size_t i = 0; i < held.times.size(); ++i) {
    const double ms = to_seconds(held.times[i]) * 1e3;
    REQUIRE(held.values[0][i] == (ms <= 2 ? 1 : ms <= 4 ? 5 : 2));
  }
  // An integrator that is at its limit stays there.
  const auto limited =
      range("i.y\n  part i : Integrator  step 100 us\n  i.u = 300 V / 1 s * cos(2 * pi * 1 rad * 50 Hz * time)");
  CHECK(limited.first == 0.5);
  CHECK(limited.second == -0.5);
}

TEST_CASE("What jumps, and what nobody knows the rate of, is held: no step overshoots") {
  // A jump at 1 ms: behind it the source goes on with the slope that it has there, none.
  const Seen jump = seen_of(sine("  s.voltage = if time < 1 ms then time * 1e5 V / 1 s else 20 V\n", "100 us"), {"s.v"},
                            Time{2'000'000});
  for (std::size_t i = 11; i < jump.times.size(); ++i) REQUIRE(jump.values[0][i] == 20);
  // It follows from the network itself: held, as it was.
  const Seen own = seen_of(sine("  s.voltage = 10 V - 0.5 ohm * l.i\n", "100 us"), {"l.i"}, Time{1'000'000});
  double i = 0;
  const double decay = std::exp(-2 * 1e-4 / 10e-3);
  for (std::size_t k = 1; k < own.times.size(); ++k) {
    i = i * decay + (10 - 0.5 * i) / 2 * (1 - decay);
    REQUIRE(std::abs(own.values[0][k] - i) <= 1e-12);
  }
}

TEST_CASE("A fault on a source takes its slope as well, and before and after it nothing is otherwise") {
  const std::string source = "  part m : Half\n  s.voltage = m.out\n";
  const std::string model = "model Half { output out : V\n  out = 100 V * sin(2 * pi * 1 rad * 50 Hz * time) }\n";
  const std::string fault = "fault held { on m.out  force 30 V  from 5 ms lasting 3 ms }\n";
  const Seen bare = seen_of(model + sine(source, "100 us"), {"s.v", "l.i"}, Time{12'000'000});
  const Seen declared = seen_of(model + sine(source, "100 us") + fault, {"s.v", "l.i"}, Time{12'000'000});
  const Seen active = seen_of(model + sine(source, "100 us") + fault, {"s.v", "l.i"}, Time{12'000'000}, {0});
  CHECK(bare.values == declared.values);
  for (std::size_t i = 0; i < active.times.size(); ++i) {
    const bool before = active.times[i] <= Time{5'000'000};
    if (before) REQUIRE(active.values[1][i] == bare.values[1][i]);
    if (active.times[i] > Time{5'000'000} && active.times[i] <= Time{8'000'000}) REQUIRE(active.values[0][i] == 30);
  }
}

TEST_CASE("Between two instants of the bench a smooth source is what it was to come to, and any other is asked for") {
  const auto text = [](const std::string& source, const std::string& more = {}) {
    return "model Feed {\n  terminal top, earth : electric\n  input level : V = 0 V\n"
           "  output state angle : rad = 0 rad\n  state slow : V = 0 V\n  state bound : V = 0 V  limited 0 V .. 2 mV\n" +
           more +
           "  angle' = 2 * pi * 1 rad * 50 Hz\n  slow' = (level - slow) / 1 ms\n  bound' = 1 V / 1 s\n"
           "  part s : VoltageSource between top, earth\n  s.voltage = " +
           source +
           "\n  part l : Inductor(inductance = 10 mH, resistance = 2 ohm) between top, earth\n}\n"
           "bench B { step BENCH  method rk4\n  input level : V = 1 V\n  node top : electric\n"
           "  part feed : Feed between top, ground  step 1 us\n  feed.level = level\n}\n"
           "fault wrong { on feed.s.voltage  times 0.5  from 1 ms }\n";
  };
  struct Case {
    const char* source;
    bool glides;
    const char* more = "";
  };
  for (const Case& c : {Case{"100 V * sin(angle)", true},
                        {"level * 40 + 100 V * sin(2 * pi * 1 rad * 50 Hz * time)", true},
                        {"min(abs(100 V * sin(angle)), 30 V)", true},
                        {"100 V * sin(angle) + slow", false},   // it bends
                        {"100 V * sin(angle) + bound", false},  // it has an end
                        {"if time >= 123 us then 50 V else 100 V * sin(angle)", false},
                        {"100 V * mod(angle, 0.02 rad) / 1 rad", false},
                        {"100 V * sin(angle)", false, "  when time >= 123 us { angle := 1 rad }\n"},
                        {"100 V * sin(angle) + extra", false,
                         "  memory extra : V = 0 V\n  every 7 us { extra := extra + 1 mV }\n"}}) {
    CAPTURE(c.source, c.more);
    const auto with = [&](const char* step) {
      std::string all = text(c.source, c.more);
      return all.replace(all.find("BENCH"), 5, step);
    };
    std::string unfaulted = with("50 us");
    unfaulted.erase(unfaulted.find("fault"));
    const auto p = program_of("use library \"circuits.dyne\"\n" + unfaulted);
    CHECK(program::gliding_between(*p)[0].size() == (c.glides ? 1 : 0));
    // A source on which a fault may act is asked for.
    CHECK(program::gliding_between(*program_of("use library \"circuits.dyne\"\n" + with("50 us")))[0].empty());
    std::string often = with("1 us");
    often.erase(often.find("fault"));
    const Seen one = seen_of(unfaulted, {"feed.l.i"}, std::chrono::milliseconds(1)),
               two = seen_of(often, {"feed.l.i"}, std::chrono::milliseconds(1));
    for (std::size_t i = 0; i < one.times.size(); ++i) {
      REQUIRE(one.times[i] == two.times[50 * i]);
      CHECK(one.values[0][i] == Approx(two.values[0][50 * i]).epsilon(1e-12).margin(1e-12));
    }
  }
}
