#include "isodyne/engine/interpreter.h"

#include <algorithm>

namespace isodyne::engine {

using program::Item;
using program::kNone;
using program::VarId;

PlantState Interpreter::start(std::span<const std::pair<VarId, double>> overrides) const {
  PlantState state;
  state.values = first_registers_;
  state.next.resize(program_->states.size());
  state.taps.resize(program_->taps.size());
  state.reversals.resize(program_->machines.size());
  state.event_was.resize(program_->events.size());
  state.event_late.resize(program_->events.size());
  state.history.resize(rings_.empty() ? 0 : static_cast<std::size_t>(rings_.back().begin + rings_.back().size));
  state.remembered.resize(rings_.size());
  for (const auto& [target, code] : start_code_) {
    run_code(code, state);
    for (const auto& [id, value] : overrides) {
      if (id == target) state[id] = value;
    }
  }
  for (const program::StateMachine& m : program_->machines) {
    if (m.outer == kNone) continue;
    const program::StateMachine& outer = program_->machines[static_cast<std::size_t>(m.outer)];
    if (static_cast<int>(state[outer.mode]) == m.outer_mode && state[m.mode] == m.inactive) state[m.mode] = 0;
  }
  for (const program::Actuator& a : program_->actuators) state[a.line != program::kNone ? a.line : a.value] = a.start;
  for (const program::Tap& tap : program_->taps) {
    if (tap.healthy != kNone) state[tap.healthy] = state[tap.target];
  }
  for (const program::Edge& edge : program_->edges) state[edge.previous] = 0;
  return state;
}

/// Before the first instant everything was as it is then, so delays first give their inputs.
void Interpreter::solve(const StateView& state) {
  const IsoFlushed flushed;
  state[program::kTime] = to_seconds(*state.now);
  compute(segments_, state, plan_.all(), Sampled::sensors);
  if (rings_.empty() || state.remembered.front() > 0) return;
  for (const Code& code : delay_code_) run_code(code, state);
  for (std::size_t i = 0; i < rings_.size(); ++i)
    state[program_->delays[i].out] = state.values[static_cast<std::size_t>(ring_inputs_[i])];
  compute(segments_, state, plan_.all(), Sampled::sensors);
}

void Interpreter::compute(const std::vector<Segment>& segments, const StateView& state, int due, Sampled sampled) {
  double* registers = state.values.data();
  if (sampled == Sampled::sensors && state.sensors != nullptr && !state.sensors->due(*state.now))
    sampled = Sampled::nothing;
  const bool skips = due < plan_.all() && !state.computes_idle();
  for (const Segment& s : segments) {
    if (s.rate >= due || (s.idle && skips)) continue;
    run(code_.data() + s.begin, registers, tables_.data());
    if (s.has_item) after_segment(s, state, registers[program::kTime], sampled);
  }
}

void Interpreter::after_segment(const Segment& s, const StateView& state, double now, Sampled sampled) {
  const auto index = static_cast<std::size_t>(s.item.index);
  double& target = state.values[static_cast<std::size_t>(s.target)];
  switch (s.item.kind) {
    case Item::Kind::tap:
      if (state.taps[index].any_on) target = through_tap(state.taps[index], target, now);
      break;
    case Item::Kind::periodic_task:
      if (sampled == Sampled::all && program_->periodic_tasks[index].due(*state.now))
        run_code(task_code_[index], state);
      break;
    case Item::Kind::sensor:
      if (sampled != Sampled::nothing) sample(index, state);
      break;
    case Item::Kind::delay:
      recall(s, state, now);
      break;
    case Item::Kind::solve:
      solve_equation(solves_[static_cast<std::size_t>(s.operand)], state);
      break;
    case Item::Kind::equation:
      break;
  }
}

void Interpreter::sample(std::size_t index, const StateView& state) const {
  const program::Sensor& s = program_->sensors[index];
  if (!s.due(*state.now)) return;
  if (state.sensors != nullptr) return state.sensors->sample(static_cast<std::int32_t>(index));
  state[s.value] = state[s.truth];
}

bool Interpreter::task_due(const StateView& state, int due) const {
  return std::any_of(
      program_->periodic_tasks.begin(), program_->periodic_tasks.end(),
      [&](const program::PeriodicTask& s) { return plan_.rate_of_group(s.group) < due && s.due(*state.now); });
}

void Interpreter::settle(const StateView& state, ModeChanges& changes) {
  const IsoFlushed flushed;
  if (*state.entered == 0) solve(state);
  const int due = *state.entered == 0 ? plan_.all() : plan_.due(*state.now);
  settle_due(state, due, due, changes);
}

void Interpreter::settle_due(const StateView& state, int due, int remembered, ModeChanges& changes) {
  state[program::kTime] = to_seconds(*state.now);
  compute(segments_, state, due, Sampled::sensors);
  bool stale = *state.entered == 0 && first_entry(state);
  if (stale) compute(segments_, state, due, Sampled::sensors);
  if (!machines_.empty() && take_transitions(state, due, changes)) {
    compute(segments_, state, due, Sampled::sensors);
    stale = true;
  }
  if (!event_conditions_.empty() && fire_events(state, due, Sampled::sensors)) stale = true;
  if (stale || task_due(state, due)) compute(segments_, state, due, Sampled::all);
  remember(state, remembered);
}

void Interpreter::evaluate_at(const StateView& state, double seconds) {
  state[program::kTime] = seconds;
  compute(segments_, state, plan_.all(), Sampled::nothing);
}

void Interpreter::settle_all(const StateView& state, ModeChanges& changes) {
  if (*state.entered == 0) solve(state);
  settle_due(state, plan_.all(), *state.now == Time{} ? plan_.all() : plan_.due(*state.now), changes);
}

bool Interpreter::jump(const StateView& state, ModeChanges& changes) {
  const double seconds = state[program::kTime];
  bool any = take_transitions(state, plan_.all(), changes);
  if (any) evaluate_at(state, seconds);
  if (fire_events(state, plan_.all(), Sampled::nothing)) any = true;
  if (any) evaluate_at(state, seconds);
  return any;
}

namespace {
struct Residual {
  const Code& code;
  double* registers;
  const iso_table* tables;
  std::size_t x, residual, derivative, scale;
};

void evaluate_residual(void* context, double x, iso_residual* result) {
  const auto& r = *static_cast<const Residual*>(context);
  r.registers[r.x] = x;
  run(r.code, r.registers, r.tables);
  *result = {r.registers[r.residual], r.registers[r.derivative], r.registers[r.scale]};
}
}  // namespace

void Interpreter::solve_equation(const SolveCode& s, const StateView& state) {
  const auto at = [](std::int32_t r) { return static_cast<std::size_t>(r); };
  Residual residual{s.code,         state.values.data(), tables_.data(), at(s.x),
                    at(s.residual), at(s.derivative),    at(s.scale)};
  double x = state.values[at(s.x)], low = 0, high = 0;
  if (s.lowest != kNone) {
    run_code(s.code, state);
    low = state.values[at(s.lowest)];
    high = state.values[at(s.highest)];
  }
  const bool good = iso_solve(evaluate_residual, &residual, &x, s.lowest != kNone, low, high) != 0;
  state.values[at(s.x)] = x;
  if (!good && *state.unsolved == kNone) *state.unsolved = static_cast<std::int32_t>(s.index);
}

void Interpreter::recall(const Segment& segment, const StateView& state, double now) {
  const auto index = static_cast<std::size_t>(segment.item.index);
  if (state.remembered[index] == 0) return;  // given by hand before the first instant
  const program::Delay& d = program_->delays[index];
  state.values[static_cast<std::size_t>(segment.target)] =
      iso_recall(state.history.data() + rings_[index].begin, rings_[index].size, state.remembered[index], now,
                 to_seconds(program_->group_of(d.out).step), state.values[static_cast<std::size_t>(segment.operand)],
                 to_seconds(d.longest), d.held ? 1 : 0);
}

void Interpreter::remember(const StateView& state, int due) {
  if (rings_.empty()) return;
  for (int rate = 0; rate < due; ++rate) run_code(delay_code_[static_cast<std::size_t>(rate)], state);
  for (std::size_t i = 0; i < rings_.size(); ++i) {
    if (plan_.rate_of(program_->delays[i].out) >= due) continue;
    const std::int64_t at = rings_[i].begin + state.remembered[i] % rings_[i].size;
    state.history[static_cast<std::size_t>(at)] = state.values[static_cast<std::size_t>(ring_inputs_[i])];
    ++state.remembered[i];
  }
}

}  // namespace isodyne::engine
