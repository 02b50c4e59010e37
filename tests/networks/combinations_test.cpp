// The memory of a circuit's solver: what made room for others is made anew as it was.

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/networks/solvers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr int kContacts = 12;

/// A ladder with contacts across it, and a transistor that is switched within steps: 8192 combinations and more.
std::string ladder() {
  std::string text = fmt::format(
      "use library \"circuits.dyne\"\nbench B {{\n  step 7 us\n  input on : bool[{0}] = false\n"
      "  part pwm : Modulator(frequency = 31 kHz, dead_time = 0 us)\n  pwm.reference = 0.3\n"
      "  part rungs : Rungs at ground  step 7 us\n  rungs.on = on\n  rungs.gate = pwm.upper\n}}\n"
      "model Rungs {{\n  terminal earth : electric\n  input on : gate[{0}]\n  input gate : gate\n"
      "  node top, n : electric[{1}]\n  part s : VoltageSource between top[1], earth\n  s.voltage = 10 V\n"
      "  part l[{1}] : Inductor(inductance = 0.1 mH, resistance = 10 mohm) between top[index], n[index]\n"
      "  part c[{1}] : Capacitor(capacitance = 10 uF, resistance = 10 mohm) between n[index], earth\n"
      "  part r[{0}] : Resistor(resistance = 0.1 ohm) between n[index], top[index + 1]\n"
      "  part k[{0}] : Switch between n[index], top[index + 1]\n"
      "  part t : Transistor(diode_drop = 0.7 V) between n[1], earth\n  t.gate = gate\n",
      kContacts, kContacts + 1);
  for (int i = 1; i <= kContacts; ++i) text += fmt::format("  k[{0}].close = on[{0}]\n", i);
  return text + "}\n";
}

void step(engine::RunningPlant& plant, engine::PlantState& state) {
  plant.settle(state);
  REQUIRE(plant.step(state).kind == engine::PlantTrouble::Kind::none);
}

}  // namespace

TEST_CASE("A combination that made room for others is made anew as it was, to the bit") {
  const auto p = program_of(ladder());
  std::size_t electric = 0;
  while (p->networks[electric].kind != "electric") ++electric;
  engine::RunningPlant plant(p, networks::solvers());
  engine::PlantState state = plant.start({});
  plant.solve(state);
  std::vector<program::VarId> on;
  for (int i = 1; i <= kContacts; ++i) on.push_back(p->find(fmt::format("on[{}]", i)));
  RandomStream random(5, "patterns");
  for (int k = 0; k < 4000; ++k) {
    // Some come again soon, most do not.
    const auto pattern = static_cast<unsigned>(random.uniform() * (k % 3 == 0 ? 64 : 1 << kContacts));
    for (int i = 0; i < kContacts; ++i)
      state.values[static_cast<std::size_t>(on[static_cast<std::size_t>(i)])] = pattern >> i & 1;
    if (k % 400 != 399) {
      step(plant, state);
      continue;
    }
    // Whoever goes on from here without any memory comes to the same.
    engine::RunningPlant fresh(p, networks::solvers());
    engine::PlantState begins = fresh.start({});
    fresh.solve(begins);
    engine::PlantState copy = state;
    copy.networks = begins.networks;
    step(plant, state);
    step(fresh, copy);
    REQUIRE(copy.values.size() == state.values.size());
    for (std::size_t i = 0; i < p->variables.size(); ++i) {
      INFO(p->variables[i].name);
      REQUIRE(copy.values[i] == state.values[i]);
    }
    CHECK(copy.network.numbers == state.network.numbers);
  }
  const engine::NetworkAccount account = plant.networks().account(static_cast<std::int32_t>(electric));
  CHECK(account.forgotten > 1000);
  CHECK(account.eventful > 2000);
  CHECK(account.first_visits - account.forgotten < 4000);
}
