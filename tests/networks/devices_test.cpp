// Breakers, thyristors, arresters and saturating cores against closed forms and an integration of our own.

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/native.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr double kPi = std::numbers::pi;
const std::string kElements = "use library \"circuits.dyne\"\n";

struct DeviceRun {
  std::vector<double> times;
  std::vector<std::vector<double>> values;
  std::string explanation;
};

DeviceRun run_devices(const std::string& text, const std::vector<std::string>& signals, double seconds,
                      bool native = false) {
  const auto p = program_of(kElements + text);
  Seen seen(p, signals);
  bench::RunPlan plan;
  if (!p->scenarios.empty()) plan.scenario = 0;
  plan.longest = Time(static_cast<std::int64_t>(std::llround(seconds * 1e9)));
  if (native) plan.native = engine::NativeSettings::usual(), plan.wait_for_native = true;
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE((result.ending == observe::Ending::completed || result.ending == observe::Ending::cut_short));
  DeviceRun run;
  for (const Time t : seen.times) run.times.push_back(to_seconds(t));
  run.values = seen.values;
  return run;
}

/// The instant at which a function that changes its sign there is zero.
template <typename F>
double zero_of(F f, double low, double high) {
  for (int i = 0; i < 200; ++i) {
    const double middle = (low + high) / 2;
    ((f(low) > 0) == (f(middle) > 0) ? low : high) = middle;
  }
  return low;
}

}  // namespace

TEST_CASE("A breaker parts a time after its order, and ends its current at the next zero") {
  for (const char* step : {"1 us", "50 us", "1 ms"}) {
    INFO(step);
    // 10 V and 50 Hz behind 1 ohm and 5 mH; the charge that has passed tells when it ended.
    const DeviceRun r = run_devices(
        fmt::format("bench B {{ step 1 ms\n  input on : bool = true\n  node top, mid, low : electric\n"
                    "  part s : VoltageSource between top, ground  step {0}\n"
                    "  s.voltage = 10 V\n"
                    "  part l : Inductor(inductance = 5 mH, resistance = 1 ohm) between top, mid  step {0}\n"
                    "  part c : Capacitor(capacitance = 1000 uF) between mid, low  step {0}\n"
                    "  part pole : BreakerPole(closing = 3 ms, opening = 2.5 ms, closed_resistance = 0.001 mohm, "
                    "open_resistance = 1e6 Mohm) between low, ground  step {0}\n  pole.close = on\n}}\n"
                    "scenario s {{\n  hold 1 ms\n  set on = false\n  hold 29 ms\n  set on = true\n  hold 10 ms\n}}\n",
                    step),
        {"l.i", "c.v", "pole.closed"}, 40e-3);
    // The ring of R, L, C from rest: its current is first zero half a turn later.
    const double a = 1.000001 / (2 * 5e-3), w = std::sqrt(1 / (5e-3 * 1e-3) - a * a), ends = kPi / w;
    REQUIRE(ends > 3.5e-3);
    const double charged = 10 * (1 + std::exp(-a * ends));
    for (std::size_t i = 0; i < r.times.size(); ++i) {
      const double t = r.times[i];
      INFO(t);
      if (t < ends) CHECK(r.values[0][i] == Approx(10 / (w * 5e-3) * std::exp(-a * t) * std::sin(w * t)).epsilon(1e-6));
      if (t > ends && t < 33e-3) {
        CHECK(r.values[0][i] == Approx(0).margin(1e-9));
        CHECK(r.values[1][i] == Approx(charged).epsilon(1e-7));
      }
      CHECK(r.values[2][i] == (t < ends || t >= 33e-3 ? 1 : 0));
    }
    CHECK(std::abs(r.values[0][34]) > 0.1);  // it flows back
  }
}

TEST_CASE("An order that is taken back before the contacts moved is forgotten, and a direct current never ends") {
  const DeviceRun r = run_devices(
      "bench B { step 1 ms\n  input on : bool = true\n  node top, low : electric\n"
      "  part s : VoltageSource between top, ground\n  s.voltage = 10 V\n"
      "  part load : Resistor(resistance = 10 ohm) between top, low\n"
      "  part pole : BreakerPole(closing = 5 ms, opening = 5 ms) between low, ground\n  pole.close = on\n}\n"
      "scenario s {\n  hold 2 ms\n  set on = false\n  hold 4 ms\n  set on = true\n  hold 10 ms\n  set on = false\n"
      "  hold 20 ms\n}\n",
      {"load.i", "pole.closed"}, 36e-3);
  for (std::size_t i = 1; i < r.times.size(); ++i) {
    CHECK(r.values[0][i] == Approx(1).epsilon(1e-3));
    CHECK(r.values[1][i] == 1);  // the arc goes on, as nothing makes its current zero
  }
}

TEST_CASE("A thyristor conducts from its gate to the end of its current") {
  for (const double deg : {30.0, 90.0, 150.0}) {
    INFO(deg);
    // One rise of the gate, 100 us long; the load has an inductance, so that it conducts beyond the zero of the
    // voltage.
    const double f = 50, at = deg / 360 / f;
    const DeviceRun r = run_devices(
        fmt::format(
            "bench B {{ step 10 us\n  node top, mid : electric\n"
            "  part s : VoltageSource between top, ground  step 1 us\n"
            "  s.voltage = 100 V * sin(2 * pi * 1 rad * 50 Hz * time)\n"
            "  part t : Thyristor(drop = 0 V, resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between top, "
            "mid  step 1 us\n  t.gate = time + 1 ns > {0} s and time + 1 ns < {0} s + 100 us\n"
            "  part load : Inductor(inductance = 10 mH, resistance = 5 ohm) between mid, ground  step 1 us\n}}\n",
            at),
        {"load.i", "t.conducts"}, 40e-3);
    const double w = 2 * kPi * f, z = std::hypot(5, w * 10e-3), phi = std::atan2(w * 10e-3, 5.0);
    const auto i_of = [&](double t) {
      return 100 / z * (std::sin(w * t - phi) - std::sin(w * at - phi) * std::exp(-(t - at) * 5 / 10e-3));
    };
    const double ends = zero_of(i_of, 10e-3, 19e-3);
    for (std::size_t i = 0; i < r.times.size(); ++i) {
      const double t = r.times[i];
      INFO(t);
      const bool on = t > at && t < ends;
      CHECK(r.values[0][i] == Approx(on ? i_of(t) : 0).margin(100 / z * 2e-4));
      if (std::abs(t - at) > 1e-6 && std::abs(t - ends) > 1e-6) CHECK(r.values[1][i] == (on ? 1 : 0));
    }
  }
}

TEST_CASE("An arrester limits the voltage either way, and conducts no more below") {
  const DeviceRun r = run_devices(
      "bench B { step 10 us\n  node top, mid : electric\n  part s : VoltageSource between top, ground\n"
      "  s.voltage = 3 kV * sin(2 * pi * 1 rad * 50 Hz * time)\n"
      "  part line : Resistor(resistance = 100 ohm) between top, mid\n"
      "  part a : Arrester(voltage = 1 kV, resistance = 10 ohm, open_resistance = 1e6 Mohm) between mid, ground\n}\n",
      {"a.v", "a.conducts", "s.v"}, 40e-3);
  for (std::size_t i = 0; i < r.times.size(); ++i) {
    const double v = r.values[2][i], over = std::max(std::abs(v) - 1000, 0.0);
    const double limited = std::copysign(std::abs(v) - over + over * 10 / 110, v);
    CHECK(r.values[0][i] == Approx(limited).epsilon(1e-6).margin(1e-3));
    if (std::abs(over) > 1 || std::abs(v) < 999) CHECK(r.values[1][i] == (over > 0 ? 1 : 0));
  }
}

TEST_CASE("The inrush of a core is what another integration gives, whatever the angle and the flux that stayed") {
  for (const double deg : {0.0, 45.0, 90.0, 200.0}) {
    for (const double stayed : {-0.6, 0.0, 0.8}) {
      INFO(deg << ", " << stayed);
      const double v0 = 325, w = 2 * kPi * 50, rated = v0 / w, ls = 10e-3, rs = 0.5, l0 = 20, l1 = 0.05, rc = 2000;
      const double knee = 1.2 * rated;
      const DeviceRun r = run_devices(
          fmt::format("bench B {{ step 1 us\n  node top, mid : electric\n  part s : VoltageSource between top, ground\n"
                      "  s.voltage = 325 V * sin(2 * pi * 1 rad * 50 Hz * time + {} deg)\n"
                      "  part leak : Inductor(inductance = 10 mH, resistance = 0.5 ohm) between top, mid\n"
                      "  part core : KneeCore(inductance = 20 H, saturated = 0.05 H, knee = {} Wb, loss_resistance = 2 "
                      "kohm, first = {} Wb) between mid, ground\n}}\n",
                      deg, knee, stayed * rated),
          {"leak.i", "core.flux", "core.i", "core.v"}, 40e-3);
      double i = 0, flux = stayed * rated, peak = 0;
      const double h = 1e-6;
      const auto magnet = [&](double x) {
        return std::abs(x) <= knee ? x / l0 : std::copysign(knee / l0 + (std::abs(x) - knee) / l1, x);
      };
      const auto rates = [&](double t, double ii, double ff, double& di, double& df) {
        df = rc * (ii - magnet(ff));
        di = (v0 * std::sin(w * t + deg * kPi / 180) - rs * ii - df) / ls;
      };
      for (std::size_t k = 0; k < r.times.size(); ++k) {
        peak = std::max(peak, std::abs(i));
        if (k % 500 == 0) {
          INFO(r.times[k]);
          CHECK(r.values[0][k] == Approx(i).margin(1e-3));
          CHECK(r.values[1][k] == Approx(flux).margin(1e-6));
          CHECK(r.values[2][k] == Approx(i).margin(1e-3));
          CHECK(r.values[3][k] == Approx(rc * (i - magnet(flux))).margin(0.05));
        }
        double a1, b1, a2, b2, a3, b3, a4, b4;
        const double t = r.times[k];
        rates(t, i, flux, a1, b1);
        rates(t + h / 2, i + h / 2 * a1, flux + h / 2 * b1, a2, b2);
        rates(t + h / 2, i + h / 2 * a2, flux + h / 2 * b2, a3, b3);
        rates(t + h, i + h * a3, flux + h * b3, a4, b4);
        i += h / 6 * (a1 + 2 * a2 + 2 * a3 + a4);
        flux += h / 6 * (b1 + 2 * b2 + 2 * b3 + b4);
      }
      const double most = std::abs(*std::max_element(r.values[0].begin(), r.values[0].end(),
                                                     [](double x, double y) { return std::abs(x) < std::abs(y); }));
      CHECK(most == Approx(peak).epsilon(1e-3));
    }
  }
}

TEST_CASE("Devices that remember go on in native code and in a copied state to the bit") {
  const std::string text =
      "model Yard {\n  terminal earth : electric\n  input on, fire : gate\n  node top, mid, low : electric\n"
      "  part s : VoltageSource between top, earth\n  s.voltage = 325 V * sin(2 * pi * 1 rad * 50 Hz * time)\n"
      "  part pole : BreakerPole(closing = 2 ms, opening = 3 ms) between top, mid\n  pole.close = on\n"
      "  part leak : Inductor(inductance = 10 mH, resistance = 0.5 ohm) between mid, low\n"
      "  part core : KneeCore(inductance = 20 H, saturated = 0.05 H, knee = 1.1 Wb, first = 0.5 Wb) between low, "
      "earth\n"
      "  part t : Thyristor between low, earth\n  t.gate = fire\n}\n"
      "bench B { step 100 us\n  input on : bool = true\n  part pwm : Modulator(frequency = 1 kHz)\n"
      "  pwm.reference = -0.8\n  part yard : Yard at ground  step 2 us\n  yard.on = on\n"
      "  yard.fire = delay(pwm.upper, 1234 ns)\n}\n"
      "scenario s {\n  hold 10 ms\n  set on = false\n  hold 20 ms\n  set on = true\n  hold 20 ms\n}\n";
  const std::vector<std::string> all = {"yard.leak.i", "yard.core.flux", "yard.t.i", "yard.pole.v", "yard.pole.closed"};
  const DeviceRun one = run_devices(text, all, 50e-3), two = run_devices(text, all, 50e-3, true);
  CHECK(one.values == two.values);
  CHECK(one.values[0][250] != 0);
}
