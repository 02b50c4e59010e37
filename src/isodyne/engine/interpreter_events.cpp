// What jumps at an instant: transitions of state machines, and `when` blocks.

#include <algorithm>

#include "isodyne/engine/interpreter.h"

namespace isodyne::engine {

using program::kNone;

/// Leaves the present mode: machines inside it first.
void Interpreter::leave(const StateView& state, std::size_t machine) {
  const program::StateMachine& m = program_->machines[machine];
  const int mode = static_cast<int>(state[m.mode]);
  for (const std::int32_t inner : machines_[machine].inner) {
    const program::StateMachine& inside = program_->machines[static_cast<std::size_t>(inner)];
    if (inside.outer_mode != mode || static_cast<int>(state[inside.mode]) == inside.inactive) continue;
    leave(state, static_cast<std::size_t>(inner));
    state[inside.mode] = inside.inactive;
    state[inside.entered] = to_seconds(*state.now);
  }
  run_code(machines_[machine].exit[static_cast<std::size_t>(mode)], state);
}

/// Enters a mode, then the machines inside it.
void Interpreter::enter(const StateView& state, std::size_t machine, int mode) {
  const program::StateMachine& m = program_->machines[machine];
  state[m.mode] = mode;
  state[m.entered] = to_seconds(*state.now);
  restarted_[machine] = 1;
  run_code(machines_[machine].entry[static_cast<std::size_t>(mode)], state);
  for (const std::int32_t inner : machines_[machine].inner) {
    if (program_->machines[static_cast<std::size_t>(inner)].outer_mode == mode)
      enter(state, static_cast<std::size_t>(inner), 0);
  }
}

/// At the start every machine enters the mode it starts in.
bool Interpreter::first_entry(const StateView& state) {
  if (*state.entered != 0) return false;
  *state.entered = 1;
  bool acted = false;
  for (std::size_t m = 0; m < program_->machines.size(); ++m) {
    const auto mode = static_cast<std::size_t>(std::max(0.0, state[program_->machines[m].mode]));
    if (mode >= machines_[m].entry.size() || machines_[m].entry[mode].empty()) continue;
    run_code(machines_[m].entry[mode], state);
    acted = true;
  }
  return acted;
}

/// Every machine looks at the same image; outer machines come before those inside them.
bool Interpreter::take_transitions(const StateView& state, int due, ModeChanges& changes) {
  if (program_->machines.empty()) return false;
  bool any = false;
  std::fill(restarted_.begin(), restarted_.end(), 0);
  for (int rate = 0; rate < due; ++rate) run_code(transition_code_[static_cast<std::size_t>(rate)], state);
  for (std::size_t m = 0; m < program_->machines.size(); ++m) {
    const program::StateMachine& machine = program_->machines[m];
    if (plan_.rate_of(machine.mode) >= due) continue;
    const int mode = static_cast<int>(state[machine.mode]);
    std::size_t t = restarted_[m] != 0 || mode == machine.inactive ? machine.transitions.size() : 0;
    while (t < machine.transitions.size()) {
      const bool ready = state.values[static_cast<std::size_t>(machines_[m].conditions[t])] != 0;
      if (machine.transitions[t].from == mode && ready) break;
      ++t;
    }
    if (t == machine.transitions.size()) {
      state.reversals[m] = 0;
      continue;
    }
    ++state.reversals[m];
    leave(state, m);
    enter(state, m, machine.transitions[t].to);
    changes.list[static_cast<std::size_t>(changes.count++)] = {static_cast<std::int32_t>(m),
                                                               static_cast<std::int32_t>(t), state.now->count()};
    any = true;
  }
  return any;
}

/// `when` blocks whose conditions have become true fire in the order of the text; then the equations are
/// solved again, until nothing fires any more.
bool Interpreter::fire_events(const StateView& state, int due, Sampled sampled) {
  if (program_->events.empty()) return false;
  bool any = false;
  for (int round = 0;; ++round) {
    firing_.clear();
    for (int rate = 0; rate < due; ++rate) run_code(event_code_[static_cast<std::size_t>(rate)], state);
    for (std::size_t e = 0; e < event_conditions_.size(); ++e) {
      if (plan_.rate_of_group(program_->events[e].group) >= due) continue;
      const bool now = state.values[static_cast<std::size_t>(event_conditions_[e])] != 0;
      const bool fires = now && state.event_was[e] == 0;
      if (fires) firing_.push_back(static_cast<std::int32_t>(e));
      state.event_was[e] = now ? 1 : 0;
      state.event_late[e] = fires && round > kMostRounds / 2 ? 1 : round <= kMostRounds / 2 ? 0 : state.event_late[e];
    }
    if (firing_.empty()) return any;
    any = true;
    if (round >= kMostRounds) {
      *state.endless = 1;
      return true;
    }
    for (const std::int32_t e : firing_) run_code(event_bodies_[static_cast<std::size_t>(e)], state);
    compute(segments_, state, due, sampled);
  }
}

}  // namespace isodyne::engine
