// Circuits against what their equations say in closed form, at instants and between them.

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/networks/solvers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kUse = "use library \"circuits.dyne\"\n";

/// What a signal was at each instant of the bench.
std::vector<double> run_circuit(const std::string& text, const std::string& signal, double seconds,
                                const char* scenario = nullptr, std::vector<Time>* times = nullptr) {
  const auto p = program_of(kUse + text);
  Seen seen(p, {signal});
  bench::RunPlan plan;
  if (scenario != nullptr) plan.scenario = 0;
  plan.longest = Time(static_cast<std::int64_t>(std::llround(seconds * 1e9)));
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE((result.ending == observe::Ending::completed || result.ending == observe::Ending::cut_short));
  if (times != nullptr) *times = seen.times;
  return seen.values[0];
}

std::string why(const std::string& text) {
  const auto p = program_of(kUse + text);
  Seen seen(p, {});
  bench::RunPlan plan;
  plan.longest = std::chrono::milliseconds(1);
  return run_bench(seen, plan).explanation;
}

}  // namespace

TEST_CASE("A capacitor charges through a resistor as the exponential says, whatever the step") {
  for (const char* step : {"100 us", "10 us", "1 us"}) {
    std::vector<Time> times;
    const auto v = run_circuit(std::string("bench B { step ") + step +
                                   "\n  node top, out : electric\n  part s : VoltageSource between top, ground\n"
                                   "  s.voltage = 10 V\n  part r : Resistor(resistance = 1 kohm) between top, out\n"
                                   "  part c : Capacitor(capacitance = 0.1 uF, first = 2 V) between out, ground\n}\n",
                               "c.v", 2e-3, nullptr, &times);
    REQUIRE(v.size() > 20);
    for (std::size_t i = 0; i < v.size(); ++i)
      CHECK(v[i] == Approx(10 - 8 * std::exp(-to_seconds(times[i]) / 1e-4)).epsilon(1e-12));
  }
}

TEST_CASE("An oscillator without losses keeps its energy over a million steps") {
  const auto p = program_of(kUse +
                            "bench B { step 1 us\n  node top : electric\n"
                            "  part l : Inductor(inductance = 0.4 mH, first = 3 A) between top, ground\n"
                            "  part c : Capacitor(capacitance = 50 uF, first = 20 V) between top, ground\n}\n");
  Seen seen(p, {"l.i", "c.v"});
  bench::RunPlan plan;
  plan.longest = std::chrono::seconds(1);
  run_bench(seen, plan);
  REQUIRE(seen.values[0].size() == 1'000'001);
  const auto energy = [&](std::size_t i) {
    return 0.2e-3 * seen.values[0][i] * seen.values[0][i] + 25e-6 * seen.values[1][i] * seen.values[1][i];
  };
  double most = 0;
  for (std::size_t i = 0; i < seen.values[0].size(); ++i) most = std::max(most, std::abs(energy(i) / energy(0) - 1));
  CHECK(most < 1e-9);
  const double w = 1 / std::sqrt(0.4e-3 * 50e-6), z = std::sqrt(0.4e-3 / 50e-6);
  // v = v0 cos wt - z i0 sin wt, as the inductor's current leaves the node.
  CHECK(seen.last("c.v") == Approx(20 * std::cos(w) - z * 3 * std::sin(w)).epsilon(1e-6));
}

TEST_CASE("Inductors that meet at a node depend on each other, and so do capacitors around a loop") {
  // Three in star, fed by 10 V against two at ground: two of 2 mH beside each other, in series with one of 1 mH.
  const std::string star =
      "bench B { step 10 us\n  node a, star : electric\n  part s : VoltageSource between a, ground\n"
      "  s.voltage = 10 V\n  part one : Inductor(inductance = 1 mH) between a, star\n"
      "  part two : Inductor(inductance = 2 mH) between star, ground\n"
      "  part three : Inductor(inductance = 2 mH) between star, ground\n}\n";
  CHECK(run_circuit(star, "one.i", 1e-3).back() == Approx(10 / 2e-3 * 1e-3));
  CHECK(run_circuit(star, "two.i", 1e-3).back() == Approx(10 / 2e-3 * 1e-3 / 2));
  CHECK(run_circuit(star, "star.v", 1e-3)[50] == Approx(5));
  // A divider of capacitors that a resistor discharges: 3 uF in series with 6 uF is 2 uF.
  const std::string loop =
      "bench B { step 10 us\n  node a, b : electric\n"
      "  part one : Capacitor(capacitance = 3 uF, first = 10 V) between a, b\n"
      "  part two : Capacitor(capacitance = 6 uF, first = 5 V) between b, ground\n"
      "  part both : Capacitor(capacitance = 1 uF, first = 15 V) between a, ground\n"
      "  part r : Resistor(resistance = 100 ohm) between a, ground\n}\n";
  CHECK(run_circuit(loop, "both.v", 1e-3).back() == Approx(15 * std::exp(-1e-3 / (100 * 3e-6))));
  CHECK(has(why("bench B { step 10 us\n  node a, star : electric\n"
                "  part one : Inductor(first = 1 A) between a, star\n  part two : Inductor between star, ground\n"
                "  part r : Resistor between a, ground\n}\n"),
            "do not add up"));
}

TEST_CASE("An inductor that is switched off goes on through a diode, to the instant at which it ends") {
  // 5 A in 1 mH against 1 V + 1 ohm: i(t) = 6 exp(-t R / L) - 1, zero at L / R ln 6 = 1.79 ms.
  const std::string text =
      "bench B { step 100 us\n  input on : bool = true\n  node feed, out : electric\n"
      "  part s : VoltageSource between feed, ground\n  s.voltage = 10 V\n"
      "  part sw : Switch(closed_resistance = 1 mohm, open_resistance = 1000 Mohm) between feed, out\n  sw.close = on\n"
      "  part l : Inductor(inductance = 1 mH, resistance = 0.999 ohm, first = 5 A) between out, ground\n"
      "  part d : Diode(resistance = 1 mohm, open_resistance = 1000 Mohm, drop = 1 V) between ground, out\n}\n"
      "scenario s {\n  set on = false\n  hold 3 ms\n}\n";
  std::vector<Time> times;
  const auto i = run_circuit(text, "l.i", 3e-3, "s", &times);
  for (std::size_t k = 0; k < i.size(); ++k) {
    const double expected = std::max(0.0, 6 * std::exp(-to_seconds(times[k]) * 1000) - 1);
    INFO(to_seconds(times[k]));
    CHECK(std::abs(i[k] - expected) < 1e-6);
  }
  const auto conducts = run_circuit(text, "d.conducts", 3e-3, "s");
  CHECK(conducts[1] == 1);
  CHECK(conducts[17] == 1);
  CHECK(conducts[18] == 0);
}

TEST_CASE("A rectifier conducts exactly where its source is above its load") {
  // Half-wave onto a resistor, without anything that stores: v = V sin(wt) - drop, where that is positive.
  const std::string text =
      "use library \"sources.dyne\"\nbench B { step 10 us\n  node a, b : electric\n"
      "  part wave : Sine(Q: V, amplitude = 10 V, frequency = 1 kHz)\n"
      "  part s : VoltageSource between a, ground\n  s.voltage = wave.y\n"
      "  part d : Diode(resistance = 1 ohm, open_resistance = 1000000 Mohm, drop = 0.5 V) between a, b\n"
      "  part r : Resistor(resistance = 9 ohm) between b, ground\n}\n";
  std::vector<Time> times;
  const auto i = run_circuit(text, "r.i", 1e-3, nullptr, &times);
  for (std::size_t k = 1; k < i.size(); ++k) {
    const double v = 10 * std::sin(2 * std::numbers::pi * 1e3 * to_seconds(times[k]));
    CHECK(i[k] == Approx(std::max(0.0, (v - 0.5) / 10)).margin(1e-9));
  }
}

TEST_CASE("An ideal transformer and coupled windings are what they say") {
  // 2 : 1, loaded with 10 ohm: 40 ohm for the source.
  const std::string ideal =
      "bench B { step 10 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n  s.voltage = 8 V\n"
      "  part t : Ideal(turns = [2, 1]) between [a, b], [ground, ground]\n"
      "  part r : Resistor(resistance = 10 ohm) between b, ground\n}\n";
  CHECK(run_circuit(ideal, "r.v", 1e-4).back() == Approx(4));
  CHECK(run_circuit(ideal, "s.i", 1e-4).back() == Approx(-0.2));
  CHECK(run_circuit(ideal, "t.i[2]", 1e-4).back() == Approx(-0.4));
  // Two windings on one core, the second shorted: L1 (1 - k^2).
  const std::string coupled =
      "bench B { step 10 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n  s.voltage = 1 V\n"
      "  part t : Coupled(inductance = [4 mH, 1.8 mH, 1.8 mH, 1 mH]) between [a, b], [ground, ground]\n"
      "  part short : Resistor(resistance = 0.000001 ohm) between b, ground\n}\n";
  CHECK(run_circuit(coupled, "t.i[1]", 1e-3).back() == Approx(1e-3 / (4e-3 * (1 - 0.81))).epsilon(1e-4));
  CHECK(has(why("bench B { step 10 us\n  node a, b : electric\n"
                "  part t : Coupled(inductance = [4 mH, 2.1 mH, 2.1 mH, 1 mH]) between [a, b], [ground, ground]\n"
                "  part r : Resistor between a, b\n  part q : Resistor between b, ground\n}\n"),
            "more than all of their flux"));
}

TEST_CASE("What flows through a terminal of a part is what its elements take") {
  const std::string text =
      "model Pair {\n  terminal a, b : electric\n  part one : Resistor(resistance = 2 ohm) between a, b\n"
      "  part two : Resistor(resistance = 3 ohm) between a, b\n}\n"
      "model Around {\n  terminal p, q : electric\n  part pair : Pair between p, q\n"
      "  part more : Resistor(resistance = 6 ohm) between p, q\n}\n"
      "bench B { step 10 us\n  node a : electric\n  part s : VoltageSource between a, ground\n  s.voltage = 6 V\n"
      "  part around : Around between a, ground\n  part beside : Resistor between a, ground\n"
      "  part tail : Resistor between around.p, ground\n}\n";
  CHECK(run_circuit(text, "around.p.i", 1e-4).back() == Approx(6));
  CHECK(run_circuit(text, "around.q.i", 1e-4).back() == Approx(-6));
  CHECK(run_circuit(text, "around.pair.a.i", 1e-4).back() == Approx(5));
  CHECK(run_circuit(text, "around.pair.a.v", 1e-4).back() == Approx(6));
  CHECK(run_circuit(text, "s.i", 1e-4).back() == Approx(-18));
}

TEST_CASE("A bridge rectifier charges its capacitor to the crest, and never beyond") {
  const std::string text =
      "use library \"sources.dyne\"\nbench B { step 20 us\n  node a, b, plus, minus : electric\n"
      "  part wave : Sine(Q: V, amplitude = 100 V, frequency = 50 Hz)\n"
      "  part s : VoltageSource between a, ground\n  s.voltage = wave.y\n"
      "  part inner : Resistor(resistance = 0.1 ohm) between a, b\n"
      "  part d1 : Diode between b, plus\n  part d2 : Diode between ground, plus\n"
      "  part d3 : Diode between minus, b\n  part d4 : Diode between minus, ground\n"
      "  part c : Capacitor(capacitance = 1000 uF) between plus, minus\n"
      "  part load : Resistor(resistance = 100 ohm) between plus, minus\n}\n";
  std::vector<Time> times;
  const auto v = run_circuit(text, "c.v", 0.1, nullptr, &times);
  double most = 0;
  for (const double x : v) most = std::max(most, x);
  CHECK(most < 98.6);
  CHECK(most > 96.5);
  // Between crests it decays by the load alone.
  for (std::size_t k = 0; k + 1 < v.size(); ++k) {
    const double ms = to_seconds(times[k]) * 1e3;
    if (ms > 76 && ms < 82) CHECK(v[k + 1] / v[k] == Approx(std::exp(-20e-6 / 0.1)).epsilon(1e-6));
  }
}

TEST_CASE("A leg whose current passes zero goes through its open piece and does not come and go for ever") {
  // The current is a difference of two large ones, and the open piece is 0.16 uA wide.
  const std::string text =
      "model HalfLeg {\n  terminal plus, minus, out : electric\n  input upper : bool\n"
      "  part high : Transistor(resistance = 3 mohm, drop = 0.9 V) between plus, out\n"
      "  part low : Transistor(resistance = 3 mohm, drop = 0.9 V) between out, minus\n"
      "  high.gate = upper\n  low.gate = not upper\n}\n"
      "bench B { step 1 us\n  node plus, star : electric\n  node out : electric[3]\n"
      "  part s : VoltageSource between plus, ground\n  s.voltage = 700 V\n"
      "  part leg[3] : HalfLeg between plus = plus, minus = ground, out = out[index]\n"
      "  part choke[3] : Inductor(inductance = 0.4 mH, resistance = 1 ohm) between out[index], star\n"
      "  let tri = abs(2 * mod(time / 50 us, 1) - 1) * 2 - 1\n"
      "  for k in 1 .. 3 { leg[k].upper = 0.8 * cos(2 * pi * 1 rad * 500 Hz * time - (k - 1) * 120 deg) > tri }\n}\n";
  const auto one = run_circuit(text, "choke[1].i", 4e-3), two = run_circuit(text, "choke[2].i", 4e-3),
             three = run_circuit(text, "choke[3].i", 4e-3);
  double most = 0;
  for (std::size_t k = 0; k < one.size(); ++k) {
    most = std::max(most, std::abs(one[k]));
    CHECK(std::abs(one[k] + two[k] + three[k]) < 1e-9);
  }
  // 280 V across 1 ohm and 1.26 ohm of reactance.
  CHECK(most == Approx(280 / std::hypot(1.0, 2 * std::numbers::pi * 500 * 0.4e-3)).epsilon(0.12));
}

TEST_CASE("Two diodes beside each other begin at one instant") {
  const std::string text =
      "bench B { step 10 us\n  node top : electric\n  part l : Inductor(inductance = 1 mH, first = -1 A) between top, "
      "ground\n"
      "  part c : Capacitor(capacitance = 1 uF, first = -5 V) between top, ground\n"
      "  part one : Diode between top, ground\n  part two : Diode between top, ground\n}\n";
  const auto one = run_circuit(text, "one.i", 200e-6), two = run_circuit(text, "two.i", 200e-6);
  CHECK(*std::max_element(one.begin(), one.end()) > 0.1);
  for (std::size_t k = 0; k < one.size(); ++k) CHECK(one[k] == two[k]);
}

TEST_CASE("What is not read between two instants of the bench is the same as where all of it is") {
  const std::string model =
      "model Ring {\n  terminal top, earth : electric\n  node mid : electric\n"
      "  part l : Inductor(inductance = 0.1 mH, resistance = 1 ohm) between top, mid\n"
      "  part c : Capacitor(capacitance = 1 uF) between mid, earth\n}\n"
      "bench B { step 50 us\n  node feed : electric\n  part s : VoltageSource between feed, ground  step 1 us\n"
      "  s.voltage = 10 V\n  part ring : Ring between feed, ground  step 1 us\n";
  const auto slow = run_circuit(model + "}\n", "ring.mid.v", 1e-3);
  const auto quick = run_circuit(model + "  record ring.* every 1 us\n}\n", "ring.mid.v", 1e-3);
  CHECK(slow == quick);
  const double w = 1 / std::sqrt(0.1e-3 * 1e-6), d = 1 / (2 * 0.1e-3), r = std::sqrt(w * w - d * d), t = 50e-6;
  CHECK(slow[1] == Approx(10 - 10 * std::exp(-d * t) * (std::cos(r * t) + d / r * std::sin(r * t))).epsilon(1e-9));
}

TEST_CASE("A resistance that changes while it runs") {
  const std::string text =
      "bench B { step 10 us\n  node top : electric\n  part r : Resistor(resistance = 100 ohm) between top, ground\n"
      "  part c : Capacitor(capacitance = 1 uF, first = 8 V) between top, ground\n}\n"
      "scenario s {\n  hold 100 us\n  set r.resistance = VALUE\n  hold 100 us\n}\n";
  const auto with = [&](const std::string& value) {
    std::string changed = text;
    return changed.replace(changed.find("VALUE"), 5, value);
  };
  CHECK(run_circuit(with("50 ohm"), "c.v", 200e-6, "s").back() == Approx(8 * std::exp(-1.0 - 2.0)).epsilon(1e-9));
  CHECK(run_circuit(with("100 ohm"), "c.v", 200e-6, "s").back() == Approx(8 * std::exp(-2.0)).epsilon(1e-9));
}

TEST_CASE("A scenario begins with other currents and voltages, and not with what follows from them") {
  const std::string text =
      "bench B { step 10 us\n  node top : electric\n  part r : Resistor(resistance = 100 ohm) between top, ground\n"
      "  part c : Capacitor(capacitance = 1 uF, first = 8 V) between top, ground\n}\n";
  CHECK(run_circuit(text + "scenario s {\n  start c.v = 3 V\n  hold 100 us\n}\n", "r.v", 100e-6, "s").front() == 3);
  CHECK(has(diagnostics_of(kUse + text + "scenario s {\n  start r.v = 3 V\n}\n"), "cannot be set"));
}

TEST_CASE(
    "A node is read at the step of its network, and two networks that share only ground have steps of their own") {
  const std::string text =
      "bench B { step 50 us\n  node fast, slow : electric\n  record fast.v every 10 us\n"
      "  part q : Resistor(resistance = 100 ohm) between fast, ground  step 10 us\n"
      "  part c : Capacitor(capacitance = 1 uF, first = 8 V) between fast, ground  step 10 us\n"
      "  part r : Resistor(resistance = 10 ohm) between slow, ground\n"
      "  part l : Inductor(inductance = 1 mH, first = 2 A) between slow, ground\n}\n"
      "condition low = fast.v < 5 V\n";
  std::vector<Time> times;
  const auto fast = run_circuit(text, "fast.v", 200e-6, nullptr, &times);
  const auto slow = run_circuit(text, "l.i", 200e-6);
  for (std::size_t k = 0; k < times.size(); ++k) {
    CHECK(fast[k] == Approx(8 * std::exp(-to_seconds(times[k]) / 1e-4)).epsilon(1e-9));
    CHECK(slow[k] == Approx(2 * std::exp(-to_seconds(times[k]) / 1e-4)).epsilon(1e-9));
  }
  const auto p = program_of(kUse + text);
  CHECK(p->networks.size() == 2);
  CHECK(p->group_of(p->find("fast.v")).step == std::chrono::microseconds(10));
  CHECK(p->group_of(p->find("low")).step == std::chrono::microseconds(10));
}

TEST_CASE("What flows into ground through a terminal is one sum, whatever hangs together inside") {
  const std::string text =
      "model Two {\n  terminal a, b, earth : electric\n  part one : Resistor(resistance = 2 ohm) between a, earth\n"
      "  part two : Resistor(resistance = 3 ohm) between b, earth\n}\n"
      "bench B { step 10 us\n  node a, b : electric\n  part s : VoltageSource between a, ground\n  s.voltage = 6 V\n"
      "  part t : VoltageSource between b, ground\n  t.voltage = 6 V\n"
      "  part two : Two between a = a, b = b, earth = ground\n}\n";
  CHECK(run_circuit(text, "two.earth.i", 1e-4).back() == Approx(-5));
  CHECK(run_circuit(text, "two.earth.v", 1e-4).back() == 0);
}

TEST_CASE("A diode that begins and ends within one step is not overlooked") {
  // 0.2 us of ringing, clamped on one side; a step of 10 us sees fifty periods of it.
  const auto with = [](const std::string& step) {
    return "bench B { step 10 us\n  node top : electric\n"
           "  part l : Inductor(inductance = 0.001 mH, first = -1 A) between top, ground  step " +
           step +
           "\n"
           "  part c : Capacitor(capacitance = 0.001 uF) between top, ground  step " +
           step +
           "\n"
           "  part r : Resistor(resistance = 5 kohm) between top, ground  step " +
           step +
           "\n"
           "  part d : Diode(resistance = 10 ohm, drop = 20 V) between top, ground  step " +
           step + "\n}\n";
  };
  const auto rare = run_circuit(with("10 us"), "c.v", 100e-6), often = run_circuit(with("10 ns"), "c.v", 100e-6);
  REQUIRE(rare.size() == often.size());
  for (std::size_t k = 0; k < rare.size(); ++k) CHECK(rare[k] == Approx(often[k]).margin(1e-5));
  CHECK(has(why("bench B { step 1 ms\n  node top : electric\n"
                "  part l : Inductor(inductance = 0.000001 mH, first = -1 A) between top, ground\n"
                "  part c : Capacitor(capacitance = 0.001 uF) between top, ground\n"
                "  part d : Diode between top, ground\n}\n"),
            "too rarely for its diodes"));
}

TEST_CASE("A part with terminals is nothing alone: neither in a harness nor as a rated case") {
  const std::string text =
      "use library \"circuits.dyne\"\nmodel Load {\n  terminal a, b : electric\n  output power : W\n"
      "  part r : Resistor(resistance = 10 ohm) between a, b\n  power = r.p\n"
      "  rated { expect power = 10 W within 1 % }\n}\n"
      "bench B {\n  step 1 ms\n  node top : electric\n  part s : VoltageSource between top, ground\n"
      "  s.voltage = 10 V\n  part load : Load between top, ground\n  let twice = top.v * 2\n}\n"
      "harness alone of load { }\ncondition high = top.v > 5 V\n";
  const TestFolder folder;
  folder.write("bench.dyne", text);
  const Output alone = run_isodyne("run bench.dyne --harness alone --for 1ms", folder.path());
  CHECK(alone.status == 2);
  shows(alone.err, "`load` has terminals, and nothing lies at them in a harness");
  const Output rated = run_isodyne("check --rated bench.dyne", folder.path());
  CHECK(rated.status == 2);
  shows(rated.err, "`Load` has terminals, and nothing lies at them in a rated case");
}

TEST_CASE("A node at which no element lies is an error: it would be at 0 V for ever") {
  shows(diagnostics_of("bench B { step 1 ms\n  node lone : electric\n  let x = lone.v * 2\n}\n"),
        "no element lies at `lone`");
}

TEST_CASE("What a circuit is made of can be asked: nodes, who gives a quantity, and who reads one") {
  const TestFolder folder;
  folder.write("bench.dyne",
               kUse +
                   "bench B {\n  step 1 ms\n  node top : electric\n  part s : VoltageSource between top, ground\n"
                   "  s.voltage = 10 V\n  part load : Resistor between top, ground\n}\n");
  shows(run_isodyne("list bench.dyne nodes", folder.path()).out, "top   electric  1 ms  s, load");
  folder.write("three.dyne",
               kUse +
                   "bench B {\n  step 1 ms\n  node top : electric[3]\n"
                   "  part s[3] : VoltageSource between top[index], ground\n  s[*].voltage = [1 V, 2 V, 3 V]\n}\n"
                   "fault three { on top short through 1 ohm  from 1 s }\n");
  shows(run_isodyne("list three.dyne nodes", folder.path()).out, "electric  1 ms  s[1], fault three\n");
  shows(run_isodyne("list bench.dyne load.i", folder.path()).out, "given by  the network of top, every 1 ms");
  shows(run_isodyne("list bench.dyne load.resistance", folder.path()).out, "read by   the network of top, every 1 ms");
  CHECK(run_isodyne("draw bench.dyne --out b.svg", folder.path()).status == 0);
  const std::string drawn = slurp(folder / "b.svg");
  shows(drawn, "lines: joined at a node");
  shows(drawn, "ground node&#45;&gt;load");
}

TEST_CASE("More combinations than are kept change nothing but the time they take") {
  // Fourteen contacts that count: 16,384 combinations, one a step.
  std::string text =
      "bench B { step 10 us\n  node n : electric[15]\n  output memory count : int = 0\n"
      "  part s : VoltageSource between n[1], ground\n  s.voltage = 10 V\n"
      "  part r[14] : Resistor(resistance = index * 1 ohm) between n[index], n[index + 1]\n"
      "  part k[14] : Switch(closed_resistance = 100 mohm) between n[index], n[index + 1]\n"
      "  part c : Capacitor(capacitance = 10 uF) between n[15], ground\n"
      "  part l : Inductor(inductance = 0.1 mH, resistance = 3 ohm) between n[15], ground\n"
      "  every 10 us { count := count + 1 }\n";
  for (int k = 0; k < 14; ++k) text += fmt::format("  k[{}].close = mod(count, {}) >= {}\n", k + 1, 2 << k, 1 << k);
  const auto p = program_of(kUse + text + "}\n");
  engine::RunningPlant plant(p, networks::solvers()), other(p, networks::solvers());
  engine::PlantState state = plant.start({}), fresh = other.start({});
  plant.solve(state);
  other.solve(fresh);
  const auto steps = [&](engine::RunningPlant& which, engine::PlantState& s, int count) {
    for (int i = 0; i < count; ++i) {
      which.settle(s);
      REQUIRE(which.step(s).kind == engine::PlantTrouble::Kind::none);
    }
    which.settle(s);
    return s[p->find("c.v")];
  };
  steps(plant, state, 12'000);
  engine::PlantState copy = state;
  copy.networks = fresh.networks;  // who has met none of them
  const double once = steps(plant, state, 6'000);
  CHECK(once != 0);
  CHECK(steps(other, copy, 6'000) == once);
}

TEST_CASE(
    "A diode that what decays quickly takes beyond its end, and what decays slowly brings back, is not overlooked") {
  // A contact discharges one side of a diode within 30 ns. Stepped over, its current would be below nothing and back
  // before the end of the step, with a charge that came from nowhere.
  const auto with = [](const std::string& step) {
    return "bench B { step " + step +
           "\n  node n1, n2, n3, n4 : electric\n"
           "  part e0 : Inductor(inductance = 9.7499 mH, resistance = 0.041783 ohm) between n3, n1\n"
           "  part e1 : Switch(closed_resistance = 10 mohm, open_resistance = 0.1 Mohm) between ground, n4\n"
           "  e1.close = time >= 120 us\n"
           "  part e2 : Resistor(resistance = 285.102 ohm) between n2, ground\n"
           "  part e3 : CurrentSource between n1, n2\n  e3.current = -1.16145 A\n"
           "  part e4 : Capacitor(capacitance = 0.152757 uF, resistance = 0.140605 ohm) between ground, n4\n"
           "  part e5 : Resistor(resistance = 5.82103 ohm) between n2, n3\n"
           "  part e6 : Diode(resistance = 10 mohm, open_resistance = 0.1 Mohm, drop = 0.6 V) between n1, n2\n"
           "  part e7 : Capacitor(capacitance = 112.72 uF) between n2, ground\n"
           "  part e8 : Capacitor(capacitance = 1.49968 uF) between n1, ground\n"
           "  part e9 : Switch(closed_resistance = 10 mohm, open_resistance = 0.1 Mohm) between n1, n4\n"
           "  e9.close = time >= 40 us\n}\n";
  };
  // scipy, Radau with steps of 20 ns at most: -0.5202028227074 V, 1.1436997 A.
  for (const char* step : {"10 us", "20 us", "2.5 us", "0.5 us"}) {
    CHECK(run_circuit(with(step), "n3.v", 300e-6).back() == Approx(-0.5202028227074).epsilon(1e-9));
    CHECK(run_circuit(with(step), "n2.v", 300e-6).back() == Approx(-0.611395251).epsilon(1e-8));
  }
}
