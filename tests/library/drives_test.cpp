// Machines, batteries, lines and divided windings of the library, against equivalent circuits and closed forms.

#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "library/phasors.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr double kTurn = 2 * std::numbers::pi, kW = kMainsOmega;
const Phasor kJ(0, 1);

Seen of_drive(const std::string& text, const std::vector<std::string>& signals, double seconds) {
  return run_of_library("drives.dyne", text, signals, seconds);
}

}  // namespace

TEST_CASE("A direct-current machine rises to its current by its time constant, and turns it into torque") {
  const Seen seen = of_drive(
      "bench B { step 10 us\n  node p : electric\n  part s : VoltageSource between p, ground\n  s.voltage = 100 V\n"
      "  part m : DcMachine(resistance = 0.5 ohm, inductance = 5 mH, constant = 0.8 Wb) between plus = p, minus = "
      "ground\n"
      "  m.speed = 1000 rpm\n}\n",
      {"m.i", "m.torque", "m.induced.p"}, 0.05);
  const double speed = 1000 * kTurn / 60, end = (100 - 0.8 * speed) / 0.5;
  for (const std::size_t i : {std::size_t{1}, std::size_t{777}, std::size_t{5000}}) {
    const double should = end * (1 - std::exp(-to_seconds(seen.times[i]) / 0.01));
    CHECK(seen.values[0][i] == Approx(should).epsilon(1e-9));
    CHECK(seen.values[1][i] == Approx(0.8 * should).epsilon(1e-9));
    CHECK(seen.values[2][i] == Approx(seen.values[1][i] * speed).epsilon(1e-9));  // nothing of the power is lost
  }
}

TEST_CASE("An induction machine has the current and torque of its equivalent circuit, as motor and as generator") {
  const double rs = 0.5, rr = 0.4, xs = kW * 2e-3, xr = kW * 2e-3, xm = kW * 80e-3, u = 400 * std::sqrt(2.0 / 3);
  for (const double slip : {0.03, 1.0, -0.02}) {
    const Seen seen =
        of_drive(fmt::format("bench B {{ step 5 us\n  node line : electric[3]\n"
                             "  part grid : Mains(inductance = 0.000001 mH) between line, ground\n"
                             "  part m : InductionMachine between line, ground\n  m.speed = {} * 1500 rpm\n}}\n",
                             1 - slip),
                 {"m.i[1]", "m.i[3]", "m.torque"}, 1.2);
    INFO(slip);
    const Phasor rotor = rr / slip + kJ * xr, behind = kJ * xm * rotor / (kJ * xm + rotor),
                 current = u / (rs + kJ * xs + behind), through = current * behind / rotor;
    near(phasor(seen, 0), current, 2e-3);
    near(phasor(seen, 1), current * std::polar(1.0, 2 * std::numbers::pi / 3), 2e-3);
    const double torque = 1.5 * std::norm(through) * rr / slip / (kW / 2);
    CHECK(mean(seen, 2) == Approx(torque).epsilon(3e-3));
  }
}

TEST_CASE("A magnet machine that is shorted and turned brakes with what its windings take") {
  const Seen seen = of_drive(
      "bench B { step 20 us\n  node line : electric[3]\n"
      "  part m : MagnetMachine(resistance = 0.2 ohm, inductance = 1.5 mH, flux = 0.25 Wb, pole_pairs = 4) between "
      "line, ground\n"
      "  part short[3] : Resistor(resistance = 0.000001 ohm) between line[index], ground\n  m.speed = 750 rpm\n}\n",
      {"m.i[1]", "m.torque", "m.angle"}, 0.2);
  // 750 rpm and four pole pairs: 50 Hz.
  const Phasor z(0.2, kW * 1.5e-3), induced = kJ * kW * 0.25;
  near(phasor(seen, 0), -induced / z, 1e-3);
  CHECK(mean(seen, 1) == Approx(-1.5 * std::norm(induced / z) * 0.2 / (kW / 4)).epsilon(1e-3));
  CHECK(seen.values[2].back() == Approx(0.2 * 750 * kTurn / 60).epsilon(1e-9));
}

TEST_CASE("A battery gives its charge, and its voltage falls at once and then slowly") {
  const Seen seen = of_drive(
      "bench B { step 10 ms\n  node q : electric\n"
      "  part b : BatteryPack(capacity = 2 Ah, first_charge = 70 %) between plus = q, minus = ground\n"
      "  part load : CurrentSource between q, ground\n  load.current = 60 A\n}\n",
      {"b.v", "b.charge", "b.i"}, 60);
  for (const std::size_t i : {std::size_t{1}, std::size_t{3000}, std::size_t{6000}}) {
    const double t = to_seconds(seen.times[i]), charge = 0.7 - 60 * t / 7200;
    CHECK(seen.values[1][i] == Approx(charge).epsilon(1e-9));
    CHECK(seen.values[2][i] == Approx(60).epsilon(1e-9));
    CHECK(seen.values[0][i] ==
          Approx(600 + 100 * charge - 60 * 0.05 - 60 * 0.02 * (1 - std::exp(-t / 30))).epsilon(2e-6));
  }
}

TEST_CASE("A divided transformer is a whole one until its turns are shorted, and then what phasors say") {
  const auto text = [](const std::string& more) {
    return "bench B { step 10 us\n  node top, low, one, two, three, four : electric\n"
           "  part s : VoltageSource between top, ground\n  s.voltage = 14142.135623731 V * cos(2 * pi * 1 rad * 50 Hz "
           "* time)\n"
           "  part t : DividedTransformer(first_taps = [0.4, 0.5], second_taps = [0.2, 0.6], knee = 5) between a1 = "
           "top, "
           "b1 = ground, a2 = low, b2 = ground, first_tap = [one, two], second_tap = [three, four]\n"
           "  part load : Resistor(resistance = 1.6 ohm) between low, ground\n"
           "  part k1 : Resistor(resistance = 1e8 ohm) between one, ground\n" +
           more + "}\n";
  };
  // Seen from the first side: 1 Mohm, copper 1 %, leakage sqrt(5^2 - 1) %, core 100 ohm / 1 %, losses 0.5 %, load 1000
  // ohm.
  const double rated = 1e3;  // 10 kV squared over 100 kW
  const Phasor leakage = rated * (0.01 + kJ * std::sqrt(0.05 * 0.05 - 0.01 * 0.01)),
               core = 1.0 / (1.0 / (kJ * rated / 0.01) + 1.0 / (rated / 0.005));
  const double u = 10e3 * std::sqrt(2.0);
  const auto with = [&](Phasor load) {
    const Phasor behind = 1.0 / (1.0 / core + 1.0 / load);
    return u * behind / (leakage + behind);
  };
  const Phasor load = 1.6 * 625.0;
  {
    const Seen whole = of_drive(text(""), {"low.v", "one.v", "two.v", "three.v", "four.v"}, 0.4);
    const Phasor inner = with(load);
    near(phasor(whole, 0), inner / 25.0, 1e-3);
    near(phasor(whole, 1), inner * 0.6, 1e-3);
    near(phasor(whole, 2), inner * 0.5, 1e-3);
    near(phasor(whole, 3), inner / 25.0 * 0.8, 1e-3);
    near(phasor(whole, 4), inner / 25.0 * 0.4, 1e-3);
  }
  {  // turn to turn: a tenth of the first winding over 2 ohm is 200 ohm beside the whole of it
    const Seen turns =
        of_drive(text("  part f : Resistor(resistance = 2 ohm) between one, two\n"), {"f.i", "s.i"}, 0.4);
    const Phasor inner = with(1.0 / (1.0 / load + 1.0 / 200.0));
    near(phasor(turns, 0), inner * 0.1 / 2.0, 2e-3);
    near(phasor(turns, 1), -(u - inner) / leakage, 2e-3);
  }
  {  // turn to ground: the lower half of the winding
    const Seen earth = of_drive(text("  part f : Resistor(resistance = 50 ohm) between two, ground\n"), {"f.i"}, 0.4);
    near(phasor(earth, 0), with(1.0 / (1.0 / load + 1.0 / 200.0)) * 0.5 / 50.0, 2e-3);
  }
  {  // winding to winding: half of the first over what is 0.016 of it
    const Seen both = of_drive(text("  part f : Resistor(resistance = 60 ohm) between two, four\n"), {"f.i"}, 0.4);
    const double part = 0.5 - 0.4 / 25;
    near(phasor(both, 0), with(1.0 / (1.0 / load + part * part / 60.0)) * part / 60.0, 2e-3);
  }
}

TEST_CASE("A stretch of cable is its pi") {
  const Seen seen = of_drive(
      "bench B { step 10 us\n  node a, b : electric\n  part s : VoltageSource between a, m\n  node m : electric\n"
      "  part r : Resistor(resistance = 0.5 ohm) between m, ground\n  s.voltage = 100 V * cos(2 * pi * 1 rad * 50 Hz * "
      "time)\n"
      "  part line : PiSection(length = 40 km, capacitance = 3 uF) between a = a, b = b, earth = ground\n"
      "  part load : Resistor(resistance = 80 ohm) between b, ground\n}\n",
      {"b.v", "line.i"}, 0.5);
  const Phasor c = 0.01 + 1.0 / (kJ * kW * 60e-6), end = 1.0 / (1.0 / c + 1 / 80.0),
               along = 8.0 + kJ * kW * 16e-3 + end, in = 1.0 / (1.0 / along + 1.0 / c), begin = 100.0 * in / (in + 0.5);
  near(phasor(seen, 0), begin * end / along, 2e-4);
  near(phasor(seen, 1), begin / along, 2e-4);
}

TEST_CASE("Waves come out of a line after its travel time, and come back from an open end twice as high") {
  const Seen seen = of_drive(
      "bench B { step 1 us\n  node a, b, x : electric\n  part s : VoltageSource between x, ground\n"
      "  part r : Resistor(resistance = 100 ohm) between x, a\n"
      "  s.voltage = if time < 5 us then 0 V else 90 V\n"
      "  part line : TravellingLine(travel = 10 us, impedance = 50 ohm) between a = a, b = b, earth = ground\n"
      "  part load : Resistor(resistance = 1e9 ohm) between b, ground\n}\n",
      {"a.v", "b.v", "line.i_a", "line.i_b"}, 200e-6);
  // A third of 90 V goes in; the open end doubles it; a third of what comes back goes on, as 100 ohm to 50 say.
  const auto at = [&](std::size_t signal, int us) { return seen.values[signal][static_cast<std::size_t>(us)]; };
  CHECK(at(0, 5) == Approx(0).margin(1e-9));
  CHECK(at(0, 14) == Approx(30).epsilon(1e-6));
  CHECK(at(1, 14) == Approx(0).margin(1e-9));
  CHECK(at(1, 18) == Approx(60).epsilon(1e-6));
  CHECK(at(2, 14) == Approx(0.6).epsilon(1e-6));
  CHECK(at(0, 24) == Approx(30).epsilon(1e-6));
  CHECK(at(0, 30) == Approx(30 + 30 + 10).epsilon(1e-6));
  CHECK(at(1, 40) == Approx(60 + 20).epsilon(1e-6));
  CHECK(at(1, 199) == Approx(90).epsilon(1e-3));
  CHECK(at(3, 199) == Approx(0).margin(1e-6));
}

TEST_CASE("A line that is too short for its step is refused, and one of a fraction of steps is not rounded") {
  const auto text = [](const std::string& travel) {
    return "use library \"circuits.dyne\"\nbench B { step 1 us\n  node a, b : electric\n"
           "  part s : CurrentSource between ground, a\n  s.current = time * 1 A / 1 us\n"
           "  part line : TravellingLine(travel = " +
           travel +
           ", impedance = 50 ohm) between a = a, b = b, earth = ground\n"
           "  part load : Resistor(resistance = 50 ohm) between b, ground\n}\n";
  };
  const TestFolder folder;
  folder.write("short.dyne", text("1.9 us"));
  const Output refused = run_isodyne("check short.dyne", folder.path());
  CHECK(refused.status == 2);
  CHECK(has(refused.err, "is shorter than the step (1 µs)"));
  // Matched: a ramp comes out as it went in, later by the travel time, within the step over which waves are held.
  const auto p = program_of(text("3.5 us"));
  Seen seen(p, {"load.i"});
  bench::RunPlan plan;
  plan.longest = Time{20'000};
  REQUIRE(run_bench(seen, plan).ending == observe::Ending::completed);
  for (std::size_t i = 6; i < seen.times.size(); ++i)
    CHECK(seen.values[0][i] == Approx(to_seconds(seen.times[i]) * 1e6 - 3.5).margin(0.51));
}

TEST_CASE("A cut is an inductor between two networks that see each other a step later") {
  const auto text = [](const std::string& part) {
    return "bench B { step 1 us\n  node a, b : electric\n  part c : Capacitor(capacitance = 100 uF, first = 100 V) "
           "between a, ground\n"
           "  part d : Capacitor(capacitance = 100 uF, resistance = 0.1 ohm) between b, ground\n  part k : " +
           part + "\n}\n";
  };
  const Seen whole =
      of_drive(text("Inductor(inductance = 1 mH, resistance = 0.5 ohm) between a, b"), {"k.i", "d.v"}, 5e-3);
  const Seen cut =
      of_drive(text("Cut(inductance = 1000 uH, resistance = 0.5 ohm) between a = a, b = b, earth = ground"),
               {"k.i", "d.v"}, 5e-3);
  for (std::size_t i = 0; i < whole.times.size(); ++i) {
    REQUIRE(std::abs(whole.values[0][i] - cut.values[0][i]) <= 0.15);  // of 18 A
    REQUIRE(std::abs(whole.values[1][i] - cut.values[1][i]) <= 0.7);
  }
}

TEST_CASE("A core with a curve is the one with a knee where both say the same, and follows its points") {
  const std::string head =
      "table knee(i: A) -> Wb = [-10 A: -1.9 Wb, -1 A: -1 Wb, 1 A: 1 Wb, 10 A: 1.9 Wb] linear outside extended\n"
      "bench B { step 50 us\n  node a : electric\n  part s : VoltageSource between a, ground\n"
      "  s.voltage = 500 V * sin(2 * pi * 1 rad * 50 Hz * time)\n  part r : Resistor(resistance = 1000 ohm) between a, "
      "ground\n";
  const Seen curve = of_drive(head + "  part core : Saturable(curve = knee, first = 0.4 Wb) between a, ground\n}\n",
                              {"core.i", "core.flux"}, 0.1);
  const Seen three = of_drive(
      head +
          "  part core : KneeCore(inductance = 1 H, saturated = 0.1 H, knee = 1 Wb, loss_resistance = 1e9 kohm, first "
          "= 0.4 Wb) between a, ground\n}\n",
      {"core.i", "core.flux"}, 0.1);
  for (std::size_t i = 0; i < curve.times.size(); ++i) {
    const double flux = curve.values[1][i], t = to_seconds(curve.times[i]);
    REQUIRE(std::abs(curve.values[0][i] - three.values[0][i]) <= 1e-6);
    // The flux is the integral of the voltage, and the current what the curve says of it.
    REQUIRE(std::abs(flux - (0.4 + 500 / kW * (1 - std::cos(kW * t)))) <= 2e-4);
    const double current = std::abs(flux) <= 1 ? flux : std::copysign(1 + (std::abs(flux) - 1) / 0.1, flux);
    REQUIRE(std::abs(curve.values[0][i] - current) <= 1e-9 * std::max(1.0, std::abs(current)));
  }
  // Many points, of which the first is not in the middle of anything.
  const Seen many = of_drive(
      "table c(i: A) -> Wb = [-8 A: -2 Wb, -3 A: -1.5 Wb, -1 A: -1 Wb, 0 A: 0 Wb, 0.5 A: 0.8 Wb, 1 A: 1.2 Wb, 2 A: 1.5 "
      "Wb, 5 A: 1.8 Wb, 9 A: 2 Wb] linear outside extended\n"
      "bench B { step 20 us\n  node a : electric\n  part s : VoltageSource between a, ground\n"
      "  s.voltage = 700 V * cos(2 * pi * 1 rad * 50 Hz * time)\n  part core : Saturable(curve = c, first = -0.3 Wb) "
      "between a, ground\n  let should : A = unc(core.flux)\n}\n"
      "table unc(f: Wb) -> A = [-2 Wb: -8 A, -1.5 Wb: -3 A, -1 Wb: -1 A, 0 Wb: 0 A, 0.8 Wb: 0.5 A, 1.2 Wb: 1 A, 1.5 "
      "Wb: 2 "
      "A, 1.8 Wb: 5 A, 2 Wb: 9 A] linear outside extended\n",
      {"core.i", "should", "core.flux"}, 0.06);
  for (std::size_t i = 0; i < many.times.size(); ++i)
    REQUIRE(std::abs(many.values[0][i] - many.values[1][i]) <= 1e-8 * (1 + std::abs(many.values[1][i])));
}
