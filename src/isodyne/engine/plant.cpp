#include "isodyne/engine/plant.h"

namespace isodyne::engine {

using model::FaultKind;
using model::kNone;

double through_tap(TapState& tap, double value, double now) {
  if (!tap.active) return value;
  switch (tap.kind) {
    case FaultKind::offset:
      return value + tap.amount;
    case FaultKind::drift:
      return value + tap.amount * (now - tap.since);
    case FaultKind::freeze:
      if (!tap.holding) {
        tap.holding = true;
        tap.held = value;
      }
      return tap.held;
    case FaultKind::force:
      return tap.amount;
    case FaultKind::times:
      return value * tap.amount;
  }
  return value;
}

Plant::Plant(std::shared_ptr<const model::Program> program)
    : program_(std::move(program)), plan_(*program_), interpreter_(program_, plan_) {
  // A machine changes at most once an instant, and twice where a machine around it starts it anew.
  const auto instants = static_cast<std::size_t>(plan_.instants_per_step);
  changes_.list.resize(2 * program_->machines.size() * instants);
}

void Plant::solve(PlantState& state) {
  execution_->solve(state);
}

std::span<const ModeChange> Plant::settle(PlantState& state) {
  // Acquire: what the other thread has made ready is seen with the pointer.
  if (Execution* offered = offered_.load(std::memory_order_acquire); offered != nullptr) execution_ = offered;
  changes_.count = 0;
  execution_->settle(state, changes_);
  return changes();
}

PlantTrouble Plant::step(PlantState& state) {
  changes_.count = 0;
  return execution_->step(state, changes_);
}

void Plant::apply_input_taps(PlantState& state) const {
  const double now = to_seconds(state.now);
  for (std::size_t i = 0; i < program_->taps.size(); ++i) {
    const model::Tap& tap = program_->taps[i];
    if (tap.healthy != kNone) state[tap.target] = through_tap(state.taps[i], state[tap.healthy], now);
  }
}

std::vector<std::int32_t> endless(const PlantState& state) {
  std::vector<std::int32_t> events;
  for (std::size_t e = 0; e < state.event_late.size(); ++e) {
    if (state.event_late[e] != 0) events.push_back(static_cast<std::int32_t>(e));
  }
  return events;
}

}  // namespace isodyne::engine
