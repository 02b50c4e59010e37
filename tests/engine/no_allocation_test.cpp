// The stepping path must not allocate: every allocation of a thread is counted here. The sanitizers
// bring their own allocation, which must not be replaced, so there is nothing to count under them.
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)

#include <atomic>
#include <cstdlib>
#include <new>

#include <catch2/catch.hpp>

#include "isodyne/bench/door.h"
#include "isodyne/bench/fault_player.h"
#include "isodyne/bench/scenario_player.h"
#include "support.h"
#include "twins.h"

namespace {
// Of each thread: what a run's helpers do is none of the stepping thread's business.
thread_local long t_allocations = 0;
}  // namespace

long allocations_here();
long allocations_here() {
  return t_allocations;
}

void* operator new(std::size_t bytes) {
  ++t_allocations;
  if (void* p = std::malloc(bytes == 0 ? 1 : bytes)) return p;
  throw std::bad_alloc();
}
void operator delete(void* p) noexcept {
  std::free(p);
}
void operator delete(void* p, std::size_t) noexcept {
  std::free(p);
}

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr const char* kBusy = R"(
model Tank {
  input inflow : m/s
  output state level : m = 1 m  limited 0 m .. 9 m
  output count : int
  modes valve from shut {
    shut -> open when level > 1.2 m
    open -> shut when level < 1.1 m
  }
  level' = if valve is open then -0.1 m/s else inflow
  every 10 ms { count := count + 1 }
}
bench B { step 1 ms
  input demand : m/s = 0 m/s
  part tank : Tank
  tank.inflow = demand
  sensor level { of tank.level  range 0 m .. 10 m  counts 0 .. 1000  every 5 ms  noise 1 mm  filter 20 ms }
}
fault drifting { on level  drift 1 mm/s  while tank.level > 1.15 m }
scenario s {
  ramp demand to 1 m/s over 500 ms
  wait until tank.level > 1.19 m  within 10 s
  hold 5 s
}
requirement R-1 { always (tank.valve is open implies tank.level > 1 m) }
requirement R-2 { whenever drifting becomes active then within 1 s tank.level < 1.15 m }
)";

/// Counts nothing itself and keeps nothing.
struct Quiet : observe::Observer {};

}  // namespace

TEST_CASE("A plant settles and steps without one allocation") {
  const auto program = program_of(kBusy);
  engine::RunningPlant plant(program);
  engine::PlantState state = plant.start({});
  const long before = t_allocations;
  for (int i = 0; i < 5000; ++i) {
    plant.apply_input_taps(state);
    plant.settle(state);
    REQUIRE_FALSE(plant.step(state).kind != engine::PlantTrouble::Kind::none);
  }
  // Catch's assertions may allocate; what they did is measured by a loop of them alone.
  const long with_steps = t_allocations - before;
  const long begin = t_allocations;
  for (int i = 0; i < 5000; ++i) REQUIRE_FALSE(i < 0);
  CHECK(with_steps == t_allocations - begin);
}

TEST_CASE("Native code settles and steps without one allocation") {
  const auto program = program_of(kBusy);
  engine::RunningPlant plant(program);
  std::string remark;
  const std::atomic<bool> stop{false};
  const auto code = engine::NativeCode::make(*program, plant.plan(), test_compiler(), remark, stop);
  REQUIRE(code);
  engine::NativePlant native(*program, *code);
  engine::PlantState state = plant.start({});
  plant.adopt(&native);
  bool good = true;
  const long before = t_allocations;
  for (int i = 0; i < 5000; ++i) {
    plant.apply_input_taps(state);
    plant.settle(state);
    good = good && plant.step(state).kind == engine::PlantTrouble::Kind::none;
  }
  CHECK(t_allocations - before == 0);
  CHECK(good);
  CHECK(plant.adopted());
}

TEST_CASE("Scenario, commands, faults, sensors and judge work through an instant without one allocation") {
  const auto program = program_of(kBusy);
  engine::RunningPlant plant(program);
  bench::ScenarioPlayer scenario(*program, 0);
  bench::FaultPlayer faults(*program, {0}, 1);
  judge::Judge judge(program);
  io::SensorChannel sensor(program->sensors[0], 1);
  Quiet quiet;
  engine::PlantState state = plant.start(scenario.start_values());
  bench::CommandInbox inbox;
  bench::Door door(*program, state, faults, inbox, {}, false);
  door.tell(quiet);
  door.prepare(&program->scenarios[0]);
  observe::Command command;
  command.kind = observe::CommandKind::ramp;  // of nothing that there is: refused, which costs as much
  observe::CommandOutcome outcome;
  plant.solve(state);
  const long before = t_allocations;
  bool good = true;
  for (int i = 0; i < 8000; ++i) {
    scenario.plan(state.values.data(), state.now);
    faults.plan(state.values.data(), state.now, {});
    inbox.put(command);
    door.carry_out();
    door.carry_out(scenario.writes());
    inbox.outcome(outcome);
    faults.apply(state, quiet);
    plant.apply_input_taps(state);
    plant.settle(state);
    const program::Sensor& s = program->sensors[0];
    state[s.value] = sensor.sample(state[s.truth], state.now, {&state.taps[0], nullptr, nullptr}).value;
    judge.image({state.now, state.values.data()});
    door.shown();
    good = good && plant.step(state).kind == engine::PlantTrouble::Kind::none;
  }
  CHECK(t_allocations - before == 0);
  CHECK(good);
  CHECK(outcome.refusal == observe::Refusal::unknown);
  CHECK(scenario.finished());  // it did get through ramp, wait and hold
}

#endif
