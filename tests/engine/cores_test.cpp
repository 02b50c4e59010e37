// Parts on cores of their own: what they see of each other, and that threads change nothing.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/running_plant.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// y' = x, x' = 1, both in steps of 100 us, in a bench of 1 ms.
std::string chain(const char* first, const char* second) {
  return fmt::format(R"(
model Ramp {{
  output state x : 1 = 0
  x' = 1 / 1 s
}}
model Sum {{
  input u : 1
  output state y : s = 0 s
  y' = u
}}
bench B {{ step 1 ms  method euler
  part ramp : Ramp step 100 us {}
  part sum  : Sum step 100 us {}
  sum.u = ramp.x
}})",
                     first, second);
}

double sum_after(const std::string& text, int milliseconds) {
  engine::RunningPlant plant(program_of(text));
  engine::PlantState state = plant.start({});
  for (int k = 0; k < milliseconds; ++k) {
    plant.settle(state);
    REQUIRE(plant.step(state).kind == engine::PlantTrouble::Kind::none);
  }
  plant.settle(state);
  return state[plant.program().find("sum.y")];
}

}  // namespace

TEST_CASE("Between cores a quantity is held from instant to instant of the bench, whatever the steps are") {
  // Held for h, the sum of n steps of x = k h is h^2 n (n - 1) / 2.
  const int n = 50;
  const double bench = 1e-3 * 1e-3 * n * (n - 1) / 2, quick = 1e-4 * 1e-4 * 10 * n * (10 * n - 1) / 2;
  CHECK(sum_after(chain("", ""), n) == Approx(quick).epsilon(1e-12));
  CHECK(sum_after(chain("on core 1", "on core 1"), n) == Approx(quick).epsilon(1e-12));
  CHECK(sum_after(chain("on core 1", ""), n) == Approx(bench).epsilon(1e-12));
  CHECK(sum_after(chain("", "on core 1"), n) == Approx(bench).epsilon(1e-12));
  CHECK(sum_after(chain("on core 3", "on core 2"), n) == Approx(bench).epsilon(1e-12));
}

TEST_CASE("Where no step is quicker than that of the bench, cores give what groups give, to the bit") {
  const auto text = [](const char* where) {
    return fmt::format(R"(
model Tank {{
  input u : 1
  output state x : 1 = 0.3
  x' = (u - x^2) / 100 ms
}}
bench B {{ step 1 ms
  part a : Tank method rk4 {0}
  part b : Tank step 5 ms method heun {0}
  part c : Tank method implicit
  a.u = c.x + 0.2
  b.u = a.x
  c.u = b.x * sin(time / 30 ms)
}})",
                       where);
  };
  Seen one(program_of(text("")), {"a.x", "b.x", "c.x"}), two(program_of(text("on core 1")), {"a.x", "b.x", "c.x"});
  run_for(one, 0.5);
  run_for(two, 0.5);
  CHECK(one.values == two.values);
}

TEST_CASE("The reference is one system, whatever cores the parts are on") {
  std::vector<std::vector<double>> values;
  for (const char* where : {"", "on core 1"}) {
    Seen seen(program_of(chain(where, "")), {"ramp.x", "sum.y"});
    bench::RunPlan plan;
    plan.reference = true;
    plan.longest = time_from_seconds(0.05);
    run_bench(seen, plan);
    CHECK(seen.last("sum.y") == Approx(0.05 * 0.05 / 2).epsilon(1e-8));
    values.push_back(seen.values[1]);
  }
  CHECK(values[0] == values[1]);
}

TEST_CASE("Changes of mode on several cores are told in order of time, those of the first core first") {
  const auto program = program_of(R"(
model Blinker {
  modes light from dark {
    dark -> lit after 300 us
    lit -> dark after 300 us
  }
}
bench B { step 1 ms
  part a : Blinker step 100 us on core 1
  part b : Blinker step 100 us
})");
  engine::RunningPlant plant(program);
  const auto thread = GENERATE(0, 1);
  plant.start_crew(static_cast<std::size_t>(thread), nullptr, 0);
  engine::PlantState state = plant.start({});
  std::vector<std::pair<std::int64_t, int>> seen;
  const auto keep = [&](std::span<const engine::ModeChange> changes) {
    for (const auto& c : changes) seen.emplace_back(c.at_ns, c.machine);
  };
  for (int k = 0; k < 10; ++k) {
    keep(plant.settle(state));
    REQUIRE(plant.step(state).kind == engine::PlantTrouble::Kind::none);
    keep(plant.changes());
  }
  CHECK(std::is_sorted(seen.begin(), seen.end(), [](const auto& x, const auto& y) { return x.first < y.first; }));
  REQUIRE(seen.size() >= 60);
  // At 300 us, within a step of the bench: b is on the bench's core. At 3 ms everything is settled together.
  CHECK(seen[0].first == 300'000);
  CHECK(seen[1].first == 300'000);
  CHECK(seen[0].second == 1);
  CHECK(seen[1].second == 0);
}

TEST_CASE("Trouble on another core is found, with its part and its time") {
  const auto program = program_of(R"(
model Explosive {
  output state x : 1 = 1
  x' = x^3 / 1 ms
}
model Calm {
  output state y : 1 = 0
  y' = 1 / 1 s
}
bench B { step 1 ms
  part calm : Calm
  part loud : Explosive step 50 us method euler on core 1
})");
  engine::RunningPlant plant(program);
  plant.start_crew(1, nullptr, 0);
  engine::PlantState state = plant.start({});
  engine::PlantTrouble trouble;
  for (int k = 0; k < 100 && trouble.kind == engine::PlantTrouble::Kind::none; ++k) {
    plant.settle(state);
    trouble = plant.step(state);
  }
  REQUIRE(trouble.kind == engine::PlantTrouble::Kind::not_finite);
  CHECK(program->variable(program->states[static_cast<std::size_t>(trouble.index)].value).name == "loud.x");
  CHECK(std::isfinite(trouble.last_good));
  CHECK(state[program->find("loud.x")] == trouble.last_good);
  CHECK(state.now.count() % 1'000'000 != 0);
}

TEST_CASE("A crew is called again and again, also after it has gone to sleep, and ends when nobody calls") {
  std::atomic<int> worked{0};
  std::array<int, 3> prepared{};
  engine::Crew crew(
      3, [&](std::size_t) { ++worked; }, [&](std::size_t member) { prepared[member - 1] = 1; }, 20'000);
  for (int k = 1; k <= 200; ++k) {
    if (k % 50 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    crew.go(k % 3 == 0 ? monotonic_ns() + 100'000 : 0);
    crew.await();
    REQUIRE(worked == 3 * k);
  }
  CHECK(prepared == std::array<int, 3>{1, 1, 1});
}
