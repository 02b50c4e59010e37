// What jumps at an instant: transitions of state machines, and `when` blocks.

#include <algorithm>

#include "isodyne/engine/plant.h"

namespace isodyne::engine {

using model::kNone;

/// Leaves the present mode: machines inside it first.
void Plant::leave(PlantState& state, std::size_t machine) {
  const model::StateMachine& m = program_->machines[machine];
  const int mode = static_cast<int>(state[m.mode]);
  for (const std::int32_t inner : machines_[machine].inner) {
    const model::StateMachine& inside = program_->machines[static_cast<std::size_t>(inner)];
    if (inside.outer_mode != mode || static_cast<int>(state[inside.mode]) == inside.inactive) continue;
    leave(state, static_cast<std::size_t>(inner));
    state[inside.mode] = inside.inactive;
    state[inside.entered] = to_seconds(state.now);
  }
  run_code(machines_[machine].exit[static_cast<std::size_t>(mode)], state);
}

/// Enters a mode, then the machines inside it.
void Plant::enter(PlantState& state, std::size_t machine, int mode) {
  const model::StateMachine& m = program_->machines[machine];
  state[m.mode] = mode;
  state[m.entered] = to_seconds(state.now);
  restarted_[machine] = 1;
  run_code(machines_[machine].entry[static_cast<std::size_t>(mode)], state);
  for (const std::int32_t inner : machines_[machine].inner) {
    if (program_->machines[static_cast<std::size_t>(inner)].outer_mode == mode)
      enter(state, static_cast<std::size_t>(inner), 0);
  }
}

/// At the start every machine enters the mode it starts in.
bool Plant::first_entry(PlantState& state) {
  if (state.entered) return false;
  state.entered = true;
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
bool Plant::take_transitions(PlantState& state) {
  changes_.clear();
  if (program_->machines.empty()) return false;
  std::fill(restarted_.begin(), restarted_.end(), 0);
  run_code(transition_code_, state);
  for (std::size_t m = 0; m < program_->machines.size(); ++m) {
    const model::StateMachine& machine = program_->machines[m];
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
    changes_.push_back({static_cast<std::int32_t>(m), static_cast<std::int32_t>(t)});
  }
  return !changes_.empty();
}

/// `when` blocks whose conditions have become true fire in the order of the text; then the equations are
/// solved again, until nothing fires any more.
bool Plant::fire_events(PlantState& state) {
  endless_events_ = false;
  if (program_->events.empty()) return false;
  bool any = false;
  for (int round = 0;; ++round) {
    firing_.clear();
    run_code(event_code_, state);
    for (std::size_t e = 0; e < event_conditions_.size(); ++e) {
      const bool now = state.values[static_cast<std::size_t>(event_conditions_[e])] != 0;
      if (now && state.event_was[e] == 0) firing_.push_back(static_cast<std::int32_t>(e));
      state.event_was[e] = now ? 1 : 0;
    }
    if (firing_.empty()) return any;
    if (round >= kMostRounds) {
      // The way round: everything that fired in the later half.
      endless_events_ = true;
      firing_.clear();
      for (std::size_t e = 0; e < fired_late_.size(); ++e) {
        if (fired_late_[e] != 0) firing_.push_back(static_cast<std::int32_t>(e));
      }
      return true;
    }
    for (const std::int32_t e : firing_) fired_late_[static_cast<std::size_t>(e)] = round > kMostRounds / 2 ? 1 : 0;
    any = true;
    for (const std::int32_t e : firing_) run_code(event_bodies_[static_cast<std::size_t>(e)], state);
    compute_equations(segments_, state, false);
  }
}

}  // namespace isodyne::engine
