// What the library makes of elements, against phasors and data sheets.

#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "library/phasors.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

using Complex = Phasor;
constexpr double kOmega = kMainsOmega;

/// The last 20 ms of signals.
struct Cycle {
  std::vector<Complex> phasors;
  std::vector<double> before, last;  ///< at its beginning and at its end
};

Cycle last_cycle(const std::string& text, const std::vector<std::string>& signals, double seconds) {
  const Seen seen = run_of_library("circuits.dyne", text, signals, seconds);
  Cycle cycle;
  for (std::size_t i = 0; i < signals.size(); ++i) {
    const auto& v = seen.values[i];
    cycle.phasors.push_back(phasor(seen, i));
    cycle.before.push_back(v[v.size() - 1 - last_cycle_of(seen)]);
    cycle.last.push_back(v.back());
  }
  return cycle;
}

}  // namespace

TEST_CASE("A grid of the data sheet gives the short-circuit current of its power, and its ratio") {
  const Cycle c = last_cycle(
      "bench B { step 1 us\n  node line : electric[3]\n"
      "  part grid : Grid(voltage = 10 kV, short_circuit_power = 100 MW, ratio = 5) between line = line, neutral = "
      "ground\n"
      "  part short[3] : Resistor(resistance = 0.000001 ohm) between line[index], ground\n}\n",
      {"short[1].i", "short[2].i"}, 0.3);
  const double peak = std::sqrt(2.0) * 100e6 / (std::sqrt(3.0) * 10e3);
  near(c.phasors[0], std::polar(peak, -std::atan(5.0)), 1e-3);
  near(c.phasors[1], std::polar(peak, -std::atan(5.0) - 2 * std::numbers::pi / 3), 1e-3);
}

TEST_CASE("Filters and loads behind mains are what their impedances say") {
  if (kSanitized) return;  // nothing but numbers, which the other build compares
  const Complex j(0, 1);
  const double u = std::sqrt(2.0 / 3) * 400;
  const Complex zl = 5e-3 + j * kOmega * 4e-3, zc = 0.1 + 1.0 / (j * kOmega * 500e-6), load = 3.0 + j * kOmega * 6e-3,
                mains = 0.2 + j * kOmega * 0.1e-3, outer = 5e-3 + j * kOmega * 1e-3;
  const auto parallel = [](Complex a, Complex b) { return a * b / (a + b); };
  const std::string grid =
      "bench B { step 1 us\n  node line, out, star : electric[3]\n"
      "  part mains : Mains(inductance = 0.1 mH, resistance = 0.2 ohm) between line = line, neutral = ground\n"
      "  part load : ThreePhaseLoad(resistance = 3 ohm, inductance = 6 mH) between line = out, star = ground\n";
  {
    std::string text = grid +
                       "  part filter : LCFilter(inductance = 4 mH, capacitance = 500 uF, capacitor_resistance = "
                       "100 mohm) between input_side = line, output_side = out, star = ground\n}\n";
    text.replace(text.find("out, star :"), 11, "out :");
    const Cycle c = last_cycle(text, {"load.phase[1].i", "mains.source[1].i"}, 0.4);
    const Complex behind = parallel(zc, load), all = mains + zl + behind;
    near(c.phasors[0], u / all * behind / load, 1e-3);
    near(c.phasors[1], -u / all, 1e-3);
  }
  std::string text = grid +
                     "  part filter : LCLFilter(inductance = 4 mH, second_inductance = 1 mH, capacitance = 500 uF, "
                     "capacitor_resistance = 100 mohm) between input_side = line, output_side = out, star = "
                     "ground\n}\n";
  text.replace(text.find("out, star :"), 11, "out :");
  const Cycle c = last_cycle(text, {"load.phase[1].i"}, 0.4);
  const Complex behind = parallel(zc, outer + load);
  near(c.phasors[0], u / (mains + zl + behind) * behind / (outer + load), 1e-3);
}

TEST_CASE("A transformer has the short-circuit voltage, losses and magnetizing current of its data sheet") {
  const std::string head =
      "bench B {{ step 1 us\n  node top, low : electric\n  part s : VoltageSource between top, ground\n"
      "  s.voltage = {} V * sqrt(2) * cos(2 * pi * 1 rad * 50 Hz * time)\n"
      "  part t : Transformer(first_voltage = 10 kV, second_voltage = 0.4 kV, power = 100 kW, short_circuit_voltage = "
      "4 "
      "%, copper_losses = 1 %, magnetizing_current = 2 %, iron_losses = 0.4 %, residual = {}) between a1 = top, b1 = "
      "ground, a2 = low, b2 = ground\n  part load : Resistor(resistance = {} ohm) between low, ground\n}}\n";
  // At its short-circuit voltage a short takes the rated current, 10 A rms; of what flows little magnetizes.
  const Cycle shorted = last_cycle(fmt::format(fmt::runtime(head), 400, 0, 1e-6), {"load.i"}, 0.4);
  CHECK(std::abs(shorted.phasors[0]) == Approx(std::sqrt(2.0) * 250).epsilon(2e-3));
  CHECK(std::arg(shorted.phasors[0]) == Approx(-std::acos(0.25)).epsilon(2e-3));
  // Open, at the rated voltage: 2 % of 10 A behind, 0.4 % in phase. It begins at the flux that goes with its voltage.
  const Cycle open = last_cycle(fmt::format(fmt::runtime(head), 10'000, 0, 1e9), {"s.i"}, 0.1);
  near(-open.phasors[0], std::sqrt(2.0) * 10 * Complex(0.004, -0.02), 0.01);
}

TEST_CASE("Bridges give the levels that their gates say") {
  const Cycle two = last_cycle(
      "bench B { step 10 us\n  node plus : electric\n  node out : electric[3]\n"
      "  part s : VoltageSource between plus, ground\n  s.voltage = 600 V\n"
      "  part bridge : TwoLevel between plus = plus, minus = ground, out = out\n"
      "  bridge.upper = [true, false, true]\n  bridge.lower = [false, true, false]\n"
      "  part load : ThreePhaseLoad(resistance = 1000 ohm) between line = out, star = ground\n}\n",
      {"bridge.out[1].v", "bridge.out[2].v", "bridge.out[3].v"}, 0.02);
  CHECK(two.last[0] == Approx(600).epsilon(1e-4));
  CHECK(two.last[1] == Approx(0).margin(0.01));
  CHECK(two.last[2] == Approx(600).epsilon(1e-4));
  const Cycle full = last_cycle(
      "bench B { step 10 us\n  node plus, one, two : electric\n"
      "  part s : VoltageSource between plus, ground\n  s.voltage = 600 V\n"
      "  part bridge : FullBridge between plus = plus, minus = ground, first = one, second = two\n"
      "  bridge.gate = [false, true, true, false]\n"
      "  part load : Resistor(resistance = 1000 ohm) between one, two\n}\n",
      {"load.v"}, 0.02);
  CHECK(full.last[0] == Approx(-600).epsilon(1e-4));
  for (const double sign : {1.0, -1.0}) {
    for (const auto& [gates, level] :
         {std::pair("true, true, false, false", 300.0), std::pair("false, true, true, false", 0.0),
          std::pair("false, false, true, true", -300.0)}) {
      INFO(gates << " " << sign);
      const Cycle three = last_cycle(
          fmt::format("bench B {{ step 10 us\n  node plus, minus, out : electric\n"
                      "  part high : VoltageSource between plus, ground\n  high.voltage = 300 V\n"
                      "  part low : VoltageSource between ground, minus\n  low.voltage = 300 V\n"
                      "  part leg : ThreeLevelLeg between plus = plus, middle = ground, minus = minus, out = out\n"
                      "  leg.gate = [{}]\n  part load : CurrentSource between out, ground\n  load.current = {} A\n}}\n",
                      gates, sign * 10),
          {"leg.out.v"}, 0.02);
      CHECK(three.last[0] == Approx(level).margin(1));  // its drops
    }
  }
}

TEST_CASE("Three modulators with a sine reference give a fundamental of half the link times the depth") {
  const Cycle c = last_cycle(
      "model Hull {\n  terminal earth : electric\n  input upper, lower : gate[3]\n  node plus, minus : electric\n"
      "  node out : electric[3]\n  part high : VoltageSource between plus, earth\n  high.voltage = 300 V\n"
      "  part low : VoltageSource between earth, minus\n  low.voltage = 300 V\n"
      "  part bridge : TwoLevel(diode_drop = 0 V, resistance = 0.01 mohm) between plus = plus, minus = minus, out = "
      "out\n"
      "  bridge.upper = upper\n  bridge.lower = lower\n"
      "  part load : ThreePhaseLoad(resistance = 10 ohm, inductance = 20 mH) between line = out, star = earth\n}\n"
      "bench B { step 1 us\n  part sine : SineReference  step 50 us\n  sine.depth = 0.9\n"
      "  part pwm[3] : Modulator(frequency = 10 kHz, dead_time = 0 us, update = both)  step 50 us\n"
      "  part hull : Hull at ground\n"
      "  for k in 1 .. 3 {\n    pwm[k].reference = sine.reference[k]\n    hull.upper[k] = pwm[k].upper\n"
      "    hull.lower[k] = pwm[k].lower\n  }\n}\n",
      {"hull.load.phase[1].i", "hull.load.phase[3].i"}, 0.1);
  const Complex z(10, kOmega * 20e-3);
  // Taken over twice a period and held: 25 us late on the mean.
  const Complex v = 0.9 * 300 * std::polar(1.0, -kOmega * 25e-6);
  near(c.phasors[0], v / z, 2e-3);
  near(c.phasors[1], v * std::polar(1.0, 2 * std::numbers::pi / 3) / z, 2e-3);
}

TEST_CASE("Two bridges with an inductor between them carry the power that their shift says") {
  for (const double deg : {-60.0, 20.0, 90.0}) {
    INFO(deg);
    const Cycle c = last_cycle(
        fmt::format(
            "model Link {{\n  terminal earth : electric\n  input lead, lag : gate[4]\n"
            "  node one, two, a, b, c, d : electric\n  part store : Capacitor(capacitance = 1e7 uF, first = 400 V) "
            "between one, earth\n"
            "  part s2 : VoltageSource between two, earth\n  s2.voltage = 300 V\n"
            "  part primary : FullBridge(diode_drop = 0 V, resistance = 0.1 mohm) between plus = one, minus = "
            "earth, first = a, second = b\n"
            "  part secondary : FullBridge(diode_drop = 0 V, resistance = 0.1 mohm) between plus = two, minus = "
            "earth, first = c, second = d\n"
            "  part l : Inductor(inductance = 0.02 mH, resistance = 5 mohm) between a, e\n  node e : electric\n"
            "  part turns : Ideal(turns = [1, 1]) between [e, c], [b, d]\n"
            "  primary.gate = lead\n  secondary.gate = lag\n"
            "}}\n"
            "bench B {{ step 20 us\n  part shifter : PhaseShift(frequency = 50 kHz, dead_time = 0 us)\n"
            "  shifter.shift = {} deg\n  part link : Link at ground  step 100 ns\n"
            "  link.lead = shifter.lead\n  link.lag = shifter.lag\n}}\n",
            deg),
        {"link.store.v"}, 0.06);
    const double x = deg / 180, should = 400 * 300 * x * (1 - std::abs(x)) / (2 * 50e3 * 20e-6);
    // What the store gives, of 10 F at 400 V: the charge is exact, whatever the instants.
    CHECK(400 * 10 * (c.before[0] - c.last[0]) / 20e-3 == Approx(should).epsilon(3e-3));
  }
}

TEST_CASE("A current transformer is true below its knee, a voltage transformer is by its turns") {
  const auto with = [](double amperes, const std::string& more) {
    return "bench B { step 1 us\n  node top, low : electric\n  part s : CurrentSource between ground, top\n" +
           fmt::format("  s.current = {} A * cos(2 * pi * 1 rad * 50 Hz * time)\n", amperes) +
           "  part ct : CurrentTransformer(ratio = 100, burden = 1 ohm, knee = 0.1 Wb, saturated = 0.0001 H) between a "
           "= "
           "top, b = low, earth = ground\n  part load : Resistor(resistance = 10 ohm) between low, ground\n" +
           more + "}\n";
  };
  // 1 ohm and 0.1 Wb carry 31.4 V at 50 Hz: 31.4 A of the secondary, 3142 A of the primary.
  const Cycle small = last_cycle(with(3000, ""), {"ct.secondary", "ct.primary"}, 0.1);
  near(small.phasors[0], 30, 3e-3);
  near(small.phasors[1], 3000, 2e-4);
  const Cycle large = last_cycle(with(6000, ""), {"ct.secondary"}, 0.1);
  CHECK(std::abs(large.phasors[0]) < 50);
  CHECK(std::abs(large.phasors[0]) > 20);
  const Cycle v = last_cycle(
      "bench B { step 1 us\n  node top : electric\n  part s : VoltageSource between top, ground\n"
      "  s.voltage = 14142 V * cos(2 * pi * 1 rad * 50 Hz * time)\n"
      "  part vt : VoltageTransformer(burden = 100 kohm) between a = top, b = ground, earth = ground\n}\n",
      {"vt.v"}, 0.04);
  near(v.phasors[0], 141.42, 1e-3);
}
