#include "isodyne/bench/plant_commands.h"

#include <algorithm>
#include <cmath>

#include "isodyne/program/tables.h"

namespace isodyne::bench {

using observe::Command;
using observe::CommandKind;
using observe::Refusal;

Refusal fits(const program::Program& program, const program::Variable& v, double value) {
  if (!std::isfinite(value)) return Refusal::not_a_number;
  using Kind = program::Type::Kind;
  const bool whole = value == std::floor(value);
  if (v.type.kind != Kind::real && !whole) return Refusal::not_of_type;
  if (v.type.kind == Kind::boolean && value != 0 && value != 1) return Refusal::not_of_type;
  if (v.type.kind == Kind::choice) {
    const auto labels = static_cast<double>(at(program.choices, v.type.choice).labels.size());
    if (value < 0 || value >= labels) return Refusal::not_of_type;
  }
  if (v.limits && (value < v.limits->first || value > v.limits->second)) return Refusal::outside_limits;
  return Refusal::none;
}

PlantCommands::PlantCommands(const program::Program& program, engine::PlantState& state, FaultPlayer& faults)
    : program_(program), state_(state), faults_(faults), tables_(engine::tables_of(program)) {
  moving_.reserve(kMostMoving);
}

void PlantCommands::prepare(const program::Scenario* scenario) {
  if (scenario == nullptr) return;
  for (const program::ScenarioStep& s : scenario->steps) {
    if (s.tap == program::kNone || held(s.target) != nullptr) continue;
    held_.push_back({s.target, s.tap, engine::add_tap(state_, static_cast<std::size_t>(s.tap))});
  }
}

PlantCommands::Held* PlantCommands::held(program::VarId target) {
  const auto found = std::find_if(held_.begin(), held_.end(), [&](const Held& h) { return h.target == target; });
  return found == held_.end() ? nullptr : &*found;
}

void PlantCommands::write(program::VarId target, double value) {
  const Held* channel = held(target);
  if (channel == nullptr) {
    state_[program_.writable(target)] = value;
    return;
  }
  engine::TapState& tap = state_.taps[channel->slot];
  if (!tap.on) tap.begin(program::FaultKind::force, to_seconds(state_.now));
  tap.amount = value;
  engine::refresh_tap(state_, static_cast<std::size_t>(channel->tap));
}

void PlantCommands::let_go(program::VarId target) {
  const Held* channel = held(target);
  if (channel == nullptr) return;
  state_.taps[channel->slot].on = false;
  engine::refresh_tap(state_, static_cast<std::size_t>(channel->tap));
}

void PlantCommands::carry_out(const std::vector<Command>& of_scenario) {
  for (const Command& c : of_scenario) {
    if (c.kind == CommandKind::release)
      let_go(c.target);
    else
      write(c.target, c.value);
  }
}

Refusal PlantCommands::carry_out(const Command& c) {
  switch (c.kind) {
    case CommandKind::set:
    case CommandKind::press:
      if (const Refusal refusal = settable(c); refusal != Refusal::none) return refusal;
      stop_moving(c.target);
      write(c.target, c.value);
      return Refusal::none;
    case CommandKind::load:
      return try_load(c);
    case CommandKind::ramp:
    case CommandKind::play:
      if (const Refusal refusal = settable(c); refusal != Refusal::none) return refusal;
      stop_moving(c.target);
      if (moving_.size() == kMostMoving) return Refusal::too_many;
      moving_.push_back({c, state_.now, state_[program_.writable(c.target)]});
      return Refusal::none;
    case CommandKind::release:
      return stop_moving(c.target) ? Refusal::none : Refusal::not_moving;
    case CommandKind::inject:
    case CommandKind::clear:
    case CommandKind::arm:
    case CommandKind::disarm:
      return try_fault(c);
    default:
      return Refusal::none;  // a mark is its event
  }
}

Refusal PlantCommands::refusal_of(const Command& c) const {
  return c.kind == CommandKind::load ? loadable(c) : settable(c);
}

/// All of them or none.
Refusal PlantCommands::loadable(const Command& c) const {
  if (c.values == nullptr) return Refusal::unknown;
  Command one = c;
  one.kind = CommandKind::set;
  for (const auto& [id, value] : c.values->values) {
    one.target = id;
    one.value = value;
    if (const Refusal refusal = settable(one); refusal != Refusal::none) return refusal;
  }
  return Refusal::none;
}

Refusal PlantCommands::try_load(const Command& c) {
  if (const Refusal refusal = loadable(c); refusal != Refusal::none) return refusal;
  for (const auto& [id, value] : c.values->values) {
    stop_moving(id);
    write(id, value);
  }
  return Refusal::none;
}

Refusal PlantCommands::try_fault(const Command& c) {
  if (c.index < 0 || static_cast<std::size_t>(c.index) >= program_.faults.size()) return Refusal::unknown;
  const program::Fault& fault = at(program_.faults, c.index);
  // Others look at their own condition: they would be told to begin, and not do so.
  if (c.kind == CommandKind::inject && fault.when != program::Fault::When::by_hand) return Refusal::not_by_hand;
  const bool trigger = c.kind == CommandKind::arm || c.kind == CommandKind::disarm;
  if (trigger && fault.when != program::Fault::When::once) return Refusal::no_trigger;
  return faults_.command(c.index, c.kind, state_.now);
}

Refusal PlantCommands::settable(const Command& c) const {
  if (c.target <= program::kSeed || static_cast<std::size_t>(c.target) >= program_.variables.size())
    return Refusal::unknown;
  const program::Variable& v = program_.variable(c.target);
  if (v.role != program::Role::input && v.role != program::Role::param) return Refusal::not_settable;
  const bool moves = c.kind == CommandKind::ramp || c.kind == CommandKind::play;
  if (moves && v.type.kind != program::Type::Kind::real) return Refusal::not_of_type;
  if (c.kind == CommandKind::press && v.type.kind != program::Type::Kind::boolean) return Refusal::not_of_type;
  return c.kind == CommandKind::play ? playable(c) : fits(program_, v, c.value);
}

/// Between its points a table is never beyond them, so these and the ends of what is played tell whether all fits.
Refusal PlantCommands::playable(const Command& c) const {
  if (c.index < 0 || static_cast<std::size_t>(c.index) >= program_.tables.size()) return Refusal::unknown;
  const program::LookupTable& table = at(program_.tables, c.index);
  if (!table.y.empty()) return Refusal::unknown;
  const program::Variable& v = program_.variable(c.target);
  const double last = to_seconds(c.over);
  const auto value = [&](double seconds) {
    return program::look_up(program::Op::table1, tables_[static_cast<std::size_t>(c.index)], seconds, 0);
  };
  for (const double ends : {0.0, last}) {
    if (const Refusal refusal = fits(program_, v, value(ends)); refusal != Refusal::none) return refusal;
  }
  for (std::size_t i = 0; i < table.x.size(); ++i) {
    const bool played = table.x[i] <= last || table.outside == program::LookupTable::Outside::repeated;
    if (!played) continue;
    if (const Refusal refusal = fits(program_, v, table.z[i]); refusal != Refusal::none) return refusal;
  }
  return Refusal::none;
}

void PlantCommands::move() {
  if (moving_.empty()) return;
  for (const Moving& m : moving_) {
    const Time elapsed = state_.now - m.since;
    const Command& c = m.command;
    if (c.kind == CommandKind::play) {
      write(c.target,
            program::look_up(program::Op::table1, tables_[static_cast<std::size_t>(c.index)], to_seconds(elapsed), 0));
      continue;
    }
    const bool there = elapsed >= c.over;
    write(c.target, there ? c.value : m.from + to_seconds(elapsed) / to_seconds(c.over) * (c.value - m.from));
  }
  std::erase_if(moving_, [&](const Moving& m) { return state_.now - m.since >= m.command.over; });
}

bool PlantCommands::stop_moving(program::VarId target) {
  return std::erase_if(moving_, [&](const Moving& m) { return m.command.target == target; }) > 0;
}

}  // namespace isodyne::bench
