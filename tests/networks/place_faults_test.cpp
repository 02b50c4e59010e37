// Faults of places: what is shorted and what comes off, against Ohm's law.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// 10 V behind 1 ohm, two loads of 18 ohm beside each other, each of two halves inside a part.
const std::string kTwoLoads =
    "use library \"circuits.dyne\"\n"
    "model Load {\n  terminal a, b : electric\n  node mid : electric\n"
    "  part one : Resistor(resistance = 9 ohm) between a, mid\n"
    "  part two : Resistor(resistance = 9 ohm) between mid, b\n}\n"
    "bench B { step 100 us\n  node top, out : electric\n  part s : VoltageSource between top, ground  step 10 us\n"
    "  s.voltage = 10 V\n  part inner : Resistor(resistance = 1 ohm) between top, out  step 10 us\n"
    "  part load[2] : Load between a = out, b = ground  step 10 us\n}\n"
    "fault whole { on out short to ground through 9 ohm  from 1 ms lasting 2 ms }\n"
    "fault half  { on load[1].mid short to load[1].b through 9 ohm  from 2 ms }\n"
    "fault off   { on load[1].a open  from 1 ms lasting 2 ms }\n"
    "fault inside { on load[2].two.a open  while time > 2.05 ms }\n"
    "fault both  { on load[1].a short to ground through 1 ohm  from 1 ms }\n"
    "scenario s { hold 5 ms }\n";

std::vector<double> with_faults(const std::vector<std::string>& faults, const std::string& signal,
                                const std::string& text = kTwoLoads) {
  const auto p = program_of(text);
  Seen seen(p, {signal});
  bench::RunPlan plan;
  plan.scenario = 0;
  for (const std::string& name : faults) {
    for (std::size_t f = 0; f < p->faults.size(); ++f) {
      if (p->faults[f].name == name) plan.faults.push_back(static_cast<std::int32_t>(f));
    }
  }
  REQUIRE(plan.faults.size() == faults.size());
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  return seen.values[0];
}

double parallel(double a, double b) {
  return a * b / (a + b);
}

}  // namespace

TEST_CASE("A short lies where it says, while it says, through what it says") {
  const auto healthy = with_faults({}, "inner.i"), whole = with_faults({"whole"}, "inner.i"),
             half = with_faults({"half"}, "inner.i");
  REQUIRE(healthy.size() == 51);
  for (std::size_t i = 0; i < healthy.size(); ++i) {
    INFO(i);
    CHECK(healthy[i] == Approx(10 / (1 + 9.0)).epsilon(1e-8));
    // A fault acts from its instant of the bench on; what it does is seen when the network has stepped.
    CHECK(whole[i] == Approx(10 / (1 + (i > 10 && i <= 30 ? parallel(9, 9) : 9.0))).epsilon(1e-8));
    CHECK(half[i] == Approx(10 / (1 + parallel(18, i > 20 ? 13.5 : 18.0))).epsilon(1e-8));
  }
}

TEST_CASE("What comes off carries nothing, at any depth, and comes back") {
  const auto off = with_faults({"off"}, "inner.i"), inside = with_faults({"inside"}, "inner.i"),
             there = with_faults({"inside"}, "load[2].two.v"), two = with_faults({"off", "inside"}, "out.v");
  for (std::size_t i = 0; i < off.size(); ++i) {
    INFO(i);
    CHECK(off[i] == Approx(10 / (1 + (i > 10 && i <= 30 ? 18.0 : 9.0))).epsilon(1e-8));
    CHECK(inside[i] == Approx(10 / (1 + (i > 22 ? 18.0 : 9.0))).epsilon(1e-8));
    CHECK(there[i] == Approx(i > 22 ? 0.0 : 4.5).margin(1e-7));
    if (i > 22 && i <= 30) CHECK(two[i] == Approx(10).epsilon(1e-7));
  }
}

TEST_CASE("A short at a terminal that comes off lies on the side of its part") {
  // Off alone leaves 18 ohm; the short is behind it, and draws nothing from the source.
  const auto source = with_faults({"both", "off"}, "inner.i"), alone = with_faults({"both"}, "inner.i");
  CHECK(source[20] == Approx(10.0 / 19).epsilon(1e-6));
  CHECK(alone[20] == Approx(10 / (1 + parallel(9, 1))).epsilon(1e-6));
  CHECK(source[40] == Approx(10 / (1 + parallel(9, 1))).epsilon(1e-6));
}

TEST_CASE("A declared fault that does not act changes nothing that could be measured") {
  std::string without = kTwoLoads;
  const std::size_t begin = without.find("fault whole");
  without.erase(begin, without.find("scenario s") - begin);
  const auto with = with_faults({}, "load[2].two.v"), plain = with_faults({}, "load[2].two.v", without);
  for (std::size_t i = 0; i < with.size(); ++i) CHECK(with[i] == Approx(plain[i]).epsilon(1e-8));
}

TEST_CASE("An inductor that comes off loses its current, and three phases are shorted with each other") {
  const std::string text =
      "use library \"circuits.dyne\"\n"
      "bench B { step 100 us\n  node line : electric[3]\n"
      "  part mains : Mains(voltage = 0.4 kV, inductance = 1 mH, resistance = 0.1 ohm) between line = line, neutral = "
      "ground\n  part load : ThreePhaseLoad(resistance = 10 ohm, inductance = 5 mH) between line = line, star = "
      "ground\n"
      "}\nfault off { on load.phase[2].a open  from 20 ms }\nfault three { on line short  from 0 ms }\n"
      "scenario s { hold 200 ms }\n";
  const auto off = with_faults({"off"}, "load.phase[2].i", text), other = with_faults({"off"}, "load.phase[1].i", text);
  CHECK(std::abs(off[150]) > 1);
  CHECK(off[202] == Approx(0).margin(1e-6));
  CHECK(*std::max_element(other.begin() + 1500, other.end()) > 20);
  // It is told of both inductors in this line, with what they lose; the other phases lose nothing.
  const auto p = program_of(text);
  Seen told(p, {"load.phase[2].i"});
  bench::RunPlan plan;
  plan.faults = {0};
  plan.longest = std::chrono::milliseconds(60);
  CHECK(run_bench(told, plan).ending == observe::Ending::completed);
  std::vector<observe::Event> lost;
  std::copy_if(told.events.begin(), told.events.end(), std::back_inserter(lost),
               [](const observe::Event& e) { return e.kind == observe::EventKind::lost; });
  REQUIRE(lost.size() == 2);
  for (const observe::Event& e : lost) {
    CHECK(e.at == std::chrono::milliseconds(20));
    CHECK(std::abs(e.value) == Approx(std::abs(told.values[0][200])).epsilon(1e-9));
  }
  CHECK(observe::subject_text(*p, lost[0]) == "mains.stretch[2].i");
  CHECK(observe::subject_text(*p, lost[1]) == "load.phase[2].i");
  CHECK(has(observe::event_text(*p, lost[0]), "to nothing at once"));
  // Three equal currents behind 0.1 ohm and 1 mH, after the beginning has died away.
  const auto three = with_faults({"three"}, "mains.stretch[1].i", text);
  double most = 0;
  for (std::size_t i = 1800; i < three.size(); ++i) most = std::max(most, std::abs(three[i]));
  CHECK(most == Approx(std::sqrt(2.0 / 3) * 400 / std::hypot(0.1, 2 * 3.14159265 * 50 * 1e-3)).epsilon(5e-3));
}

TEST_CASE("A terminal at which others lie comes off from all of them at once, and may do so by two faults") {
  const std::string text =
      "use library \"circuits.dyne\"\n"
      "model Feed {\n  terminal out : electric\n  terminal earth : electric\n  node top : electric\n"
      "  part s : VoltageSource between top, earth\n  s.voltage = 10 V\n"
      "  part inner : Resistor(resistance = 1 ohm) between top, out\n"
      "  part own : Resistor(resistance = 9 ohm) between out, earth\n}\n"
      "bench B { step 100 us\n  part feed : Feed between earth = ground  step 10 us\n"
      "  part one : Resistor(resistance = 18 ohm) between feed.out, ground  step 10 us\n"
      "  part two : Resistor(resistance = 18 ohm) between feed.out, ground  step 10 us\n"
      "  part spare : CurrentSource between feed.out, ground  step 10 us\n  spare.current = -0.9 A\n}\n"
      "fault off { on feed.out open  from 1 ms }\nfault again { on feed.out open  from 2 ms }\n"
      "fault touched { on feed.out short to ground through 9 ohm  from 3 ms }\nscenario s { hold 5 ms }\n";
  const auto inner = with_faults({"off"}, "feed.inner.i", text), one = with_faults({"off"}, "one.v", text);
  const auto both = with_faults({"again", "touched"}, "feed.inner.i", text);
  // With all: 10 V behind 1 ohm, 4.5 ohm and 0.9 A into it. Apart: 10 ohm here, and 9 ohm with 0.9 A there.
  const double joined = (10 - (10 + 0.9) / (1 / 1.0 + 1 / 4.5)) / 1;
  for (std::size_t i = 1; i < inner.size(); ++i) {
    INFO(i);
    CHECK(inner[i] == Approx(i <= 10 ? joined : 1.0).epsilon(1e-6));
    CHECK(one[i] == Approx(i <= 10 ? 10 - joined : 0.9 * 9).epsilon(1e-6));
    CHECK(both[i] == Approx(i <= 20 ? joined : i <= 30 ? 1.0 : 10 / (1 + parallel(9, 9))).epsilon(1e-6));
  }
}

TEST_CASE("A bench's own model goes before one of the library with the same name, but not within the library") {
  // FullBridge of the library is made of its own Leg.
  const auto p = program_of(
      "use library \"circuits.dyne\"\n"
      "model Leg {\n  terminal a, b : electric\n  part r : Resistor(resistance = 5 ohm) between a, b\n}\n"
      "bench B { step 1 ms\n  node plus, one, two : electric\n"
      "  part s : VoltageSource between plus, ground\n  s.voltage = 10 V\n  part load : Leg between plus, ground\n"
      "  part bridge : FullBridge between plus = plus, minus = ground, first = one, second = two\n"
      "  part r : Resistor between one, two\n  bridge.gate = [true, false, false, true]\n}\n");
  CHECK(p->find("load.r.i") != program::kNone);
  CHECK(p->find("bridge.one.high.i") != program::kNone);
  CHECK(p->find("bridge.one.r.i") == program::kNone);
}
