// `start settled` against operating points and phasors by hand, against two seconds of running in, and where nothing
// settles.

#include <cmath>
#include <complex>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

struct Begun {
  std::vector<std::vector<double>> values;
  bench::RunResult result;
};

Begun begin_run(const std::string& bench, const std::vector<std::string>& signals, Time span,
                std::int32_t scenario = 0) {
  const auto p = program_of("use library \"circuits.dyne\"\n" + bench);
  Seen seen(p, signals);
  bench::RunPlan plan;
  plan.scenario = scenario;
  plan.longest = span;
  Begun b;
  b.result = run_bench(seen, plan);
  b.values = seen.values;
  return b;
}

std::string why(const std::string& bench) {
  const Begun b = begin_run(bench, {}, 1ms);
  CHECK(b.result.ending != observe::Ending::completed);
  CHECK(b.values.empty());
  return b.result.explanation;
}

const std::string kGo = "scenario go {\n  start settled\n  hold 100 ms\n}\nscenario cold { hold 3 s }\n";

}  // namespace

TEST_CASE("Without anything that moves a circuit begins at its operating point") {
  const std::string bench =
      "bench B { step 100 us\n  node top, mid : electric\n  part s : VoltageSource between top, ground  step 10 us\n"
      "  s.voltage = 12 V\n  part l : Inductor(inductance = 100 mH, resistance = 2 ohm) between top, mid  step 10 us\n"
      "  part c : Capacitor(capacitance = 1000 uF) between mid, ground  step 10 us\n"
      "  part r : Resistor(resistance = 4 ohm) between mid, ground  step 10 us\n"
      "  state level : m = 3 m\n  level' = 1 m/s\n}\n";
  const Begun b = begin_run(bench + kGo, {"l.i", "c.v", "level"}, 10ms);
  REQUIRE(b.values[0].size() == 101);
  for (std::size_t k = 0; k < 101; ++k) {
    CHECK(b.values[0][k] == Approx(2.0).epsilon(1e-9));
    CHECK(b.values[1][k] == Approx(8.0).epsilon(1e-9));
  }
  CHECK(b.values[2][0] == 3);  // what is no network has not moved before
  REQUIRE(b.result.remarks.size() == 1);
  shows(b.result.remarks[0], "It began settled: an operating point, found in ");
  // What is given goes before it.
  const Begun given =
      begin_run(bench + "scenario go {\n  start settled\n  start c.v = 5 V\n  hold 1 ms\n}\n", {"l.i", "c.v"}, 1ms);
  CHECK(given.values[0][0] == Approx(2.0).epsilon(1e-9));
  CHECK(given.values[1][0] == 5);
}

TEST_CASE("On the mains a circuit begins in the steady state of its phasors, also where periods are no whole steps") {
  for (const double hertz : {50.0, 60.0, 16.7}) {
    INFO(hertz << " Hz");
    const Begun b = begin_run(
        fmt::format(
            "bench B {{ step 100 us\n  node line : electric[3]\n"
            "  part grid : Mains(voltage = 400 V, inductance = 2 mH, resistance = 0.1 ohm) between line = line, "
            "neutral = ground  step 10 us\n  grid.frequency = {} Hz\n"
            "  part load[3] : Resistor(resistance = 3 ohm) between line[index], ground  step 10 us\n}}\n",
            hertz) +
            kGo,
        {"grid.stretch[1].i", "grid.stretch[3].i"}, 40ms);
    REQUIRE(b.values[0].size() == 401);
    const double w = 2 * std::numbers::pi * hertz;
    const std::complex<double> i = 400 * std::sqrt(2.0 / 3) / std::complex<double>(3.1, w * 2e-3);
    for (std::size_t k = 0; k < 401; ++k) {
      const double t = 1e-4 * static_cast<double>(k);
      INFO("at " << t << " s");
      const auto phasor = [&](double angle) { return (i * std::polar(1.0, w * t + angle)).real(); };
      CHECK(b.values[0][k] == Approx(phasor(0)).margin(5e-4));  // (w h)^2 / 6 of 110 A
      CHECK(b.values[1][k] == Approx(phasor(-240 * std::numbers::pi / 180)).margin(5e-4));
    }
  }
}

TEST_CASE("A settled start is where running in leads, with modulators, diodes and a core") {
  const std::string converter =
      "bench B { step 100 us\n  node plus, mid, out : electric\n"
      "  part s : VoltageSource between plus, ground  step 1 us\n  s.voltage = 100 V + 10 V * cos(2 * pi * 1 rad * 100 "
      "Hz * "
      "time)\n"
      "  part leg : Leg between plus = plus, minus = ground, out = mid  step 1 us\n"
      "  part pwm : Modulator(frequency = 20 kHz, dead_time = 1 us)  step 1 us\n  pwm.reference = 0.2\n"
      "  pwm.enable = true\n  leg.upper = pwm.upper\n  leg.lower = pwm.lower\n"
      "  part l : Inductor(inductance = 1 mH, resistance = 0.2 ohm) between mid, out  step 1 us\n"
      "  part c : Capacitor(capacitance = 100 uF, resistance = 0.1 ohm) between out, ground  step 1 us\n"
      "  part r : Resistor(resistance = 20 ohm) between out, ground  step 1 us\n}\n";
  const std::string rectifier =
      "bench B { step 100 us\n  node line, core, plus : electric\n"
      "  part s : VoltageSource between line, ground  step 10 us\n"
      "  s.voltage = 300 V * sin(2 * pi * 1 rad * 50 Hz * time)\n"
      "  part l : Inductor(inductance = 5 mH, resistance = 2 ohm) between line, core  step 10 us\n"
      "  part m : KneeCore(inductance = 0.2 H, saturated = 0.02 H, knee = 0.8 Wb, loss_resistance = 1 kohm) between "
      "core, "
      "ground  step 10 us\n"
      "  part d : Diode between core, plus  step 10 us\n"
      "  part c : Capacitor(capacitance = 470 uF, resistance = 0.1 ohm) between plus, ground  step 10 us\n"
      "  part r : Resistor(resistance = 100 ohm) between plus, ground  step 10 us\n}\n";
  struct Case {
    const std::string* bench;
    std::vector<std::string> signals;
    Time run_in;
  };
  for (const Case& c : {Case{&converter, {"l.i", "c.v"}, 200ms}, Case{&rectifier, {"l.i", "c.v", "m.flux"}, 2s}}) {
    const Begun settled = begin_run(*c.bench + kGo, c.signals, 20ms);
    const Begun cold = begin_run(*c.bench + kGo, c.signals, c.run_in + Time(20ms), 1);
    INFO(settled.result.explanation);
    REQUIRE(settled.result.remarks.size() == 1);
    const auto first = static_cast<std::size_t>(c.run_in / Time(100us));
    for (std::size_t s = 0; s < c.signals.size(); ++s) {
      double rated = 0;
      for (const double v : cold.values[s]) rated = std::max(rated, std::abs(v));
      for (std::size_t k = 0; k <= 200; ++k) {
        INFO(c.signals[s] << " at " << 100 * k << " us");
        CHECK(std::abs(settled.values[s][k] - cold.values[s][first + k]) <= 1e-6 * rated);
      }
    }
  }
}

TEST_CASE("What has no steady state is told by name, and the run does not begin") {
  const auto circuit = [](const std::string& voltage, const std::string& more) {
    return "bench B { step 100 us\n  node top : electric\n  part s : VoltageSource between top, ground  step 10 us\n"
           "  s.voltage = " +
           voltage + "\n" + more + "}\n" + kGo;
  };
  const std::string resistor = "  part r : Resistor(resistance = 4 ohm) between top, ground  step 10 us\n";
  const std::string coil = "  part l : Inductor(inductance = 100 mH) between top, ground  step 10 us\n";
  shows(why(circuit("1 V/s * time", coil)),
        "start settled: `s.voltage` comes again with no period of whole steps of 100");
  shows(why(circuit("sin(time * 1 rad/s) * 1 V", resistor + coil)), "`s.voltage` comes again with no period");
  shows(why(circuit("12 V", coil)), "start settled: `l.i` never settles: it moves on by 1.2 A every 10 ms");
  shows(why("bench B { step 100 us\n  node line : electric[3]\n"
            "  part grid : Mains between line = line, neutral = ground  step 10 us\n"
            "  grid.frequency = 50 Hz + 0.1 Hz * sin(time * 1 rad/s)\n"
            "  part load[3] : Resistor(resistance = 3 ohm) between line[index], ground  step 10 us\n}\n" +
            kGo),
        "`grid.angle` moves by itself, but at no steady rate");
  // Nothing drives it on: it stays as it begins, and says how far it could tell.
  const Begun still = begin_run(circuit("0 V", coil), {"l.i"}, 1ms);
  CHECK(still.result.ending != observe::Ending::diverged);
  CHECK(still.values[0].front() == 0);
}

TEST_CASE(
    "A pulse that comes seldom and a source as quick as the bench are seen before the start, and what stays is told") {
  const auto bench = [](const std::string& voltage) {
    return "bench B { step 100 us\n  node top : electric\n  part s : VoltageSource between top, ground  step 10 us\n"
           "  s.voltage = " +
           voltage +
           "\n  part l : Inductor(inductance = 100 mH, resistance = 1 ohm) between top, ground  step 10 us\n"
           "  state charge : V = 12 V\n  charge' = -0.1 V/(A*s) * l.i\n}\n" +
           kGo;
  };
  // 1 ms of each half second: what is left of it at time 0, 100 ms behind its end, with 0.1 s as the time constant.
  const Begun pulse =
      begin_run(bench("if mod(time, 0.5 s) > 0.399 s and mod(time, 0.5 s) < 0.4 s then 100 V else 0 V"), {"l.i"}, 1ms);
  INFO(pulse.result.explanation);
  REQUIRE(pulse.result.remarks.size() == 1);
  shows(pulse.result.remarks[0], "comes again every 500 ms");
  const double after = 100 * (1 - std::exp(-0.01)) / (1 - std::exp(-5.0));
  CHECK(pulse.values[0][0] == Approx(after * std::exp(-1.0)).epsilon(0.03));  // its edges are held over 10 us
  // At instants of the bench it is always 0.
  const Begun quick = begin_run(bench("10 V * sin(2 * pi * 1 rad * 10 kHz * time)"), {"l.i"}, 1ms);
  INFO(quick.result.explanation);
  REQUIRE(quick.result.remarks.size() == 1);
  shows(quick.result.remarks[0], "a steady state that comes again");
  // i(k+1) = i(k) + h / 2 (u(k) + u(k+1)) / L with u(k) = 10 V sin(w h k), and no mean.
  const double h = 1e-5, w = 2 * std::numbers::pi * 1e4;
  const std::complex<double> turn = std::polar(1.0, w * h), i = 10.0 * h / 2 * (1.0 + turn) / 0.1 / (turn - 1.0);
  CHECK(quick.values[0][0] == Approx(i.imag()).epsilon(1e-3));
  const Begun held = begin_run(bench("charge"), {"l.i", "charge"}, 1ms);
  REQUIRE(held.result.remarks.size() == 2);
  shows(held.result.remarks[1], "Before the start `charge` stayed as given");
  CHECK(held.values[0][0] == Approx(12).epsilon(1e-6));
  CHECK(held.values[1][0] == 12);
}
