#include "isodyne/bench/door.h"

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

Door::Door(const program::Program& program, engine::PlantState& state, FaultPlayer& faults, CommandInbox& inbox,
           std::vector<Command> planned, bool lockstep)
    : program_(program),
      state_(state),
      faults_(faults),
      inbox_(inbox),
      planned_(std::move(planned)),
      tables_(engine::tables_of(program)),
      lockstep_(lockstep) {
  pending_.reserve(kMostPending);
  moving_.reserve(kMostMoving);
}

void Door::prepare(const program::Scenario* scenario) {
  if (scenario == nullptr) return;
  for (const program::ScenarioStep& s : scenario->steps) {
    if (s.tap == program::kNone || held(s.target) != nullptr) continue;
    held_.push_back({s.target, s.tap, engine::add_tap(state_, static_cast<std::size_t>(s.tap))});
  }
}

Door::Held* Door::held(program::VarId target) {
  const auto found = std::find_if(held_.begin(), held_.end(), [&](const Held& h) { return h.target == target; });
  return found == held_.end() ? nullptr : &*found;
}

void Door::write(program::VarId target, double value) {
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

void Door::let_go(program::VarId target) {
  const Held* channel = held(target);
  if (channel == nullptr) return;
  state_.taps[channel->slot].on = false;
  engine::refresh_tap(state_, static_cast<std::size_t>(channel->tap));
}

void Door::carry_out(const std::vector<Command>& of_scenario) {
  for (const Command& c : of_scenario) {
    if (c.kind == CommandKind::release)
      let_go(c.target);
    else
      write(c.target, c.value);
  }
}

void Door::carry_out() {
  for (; planned_done_ < planned_.size() && planned_[planned_done_].when <= state_.now; ++planned_done_)
    about_plant(planned_[planned_done_]);
  fetch();
  if (pending_.empty()) return move();
  const auto due = [&](const Command& c) { return !observe::about_course(c.kind) && c.when <= state_.now; };
  for (const Command& c : pending_) {
    if (due(c)) about_plant(c);
  }
  std::erase_if(pending_, due);
  move();
}

/// What came meanwhile waits here until it is its turn.
void Door::fetch() {
  if (!inbox_.any()) return;
  Command c;
  while (inbox_.take(c)) {
    if (pending_.size() < kMostPending)
      pending_.push_back(c);
    else
      answer(c, Refusal::too_many);
  }
}

void Door::about_plant(const Command& c) {
  const Refusal refusal = try_plant(c);
  answer(c, refusal);
  if (refusal != Refusal::none) return;
  if (c.kind == CommandKind::set) {
    observer_->event({state_.now, observe::EventKind::change, c.target, 0, c.value});
    if (lockstep_) changes_.push_back({state_.now, c.target, c.value});
    return;
  }
  if (c.kind == CommandKind::load) {  // each value is a change as if it had been set alone
    for (const auto& [id, value] : c.values->values) {
      observer_->event({state_.now, observe::EventKind::change, id, 0, value});
      if (lockstep_) changes_.push_back({state_.now, id, value});
    }
    return observer_->event(observe::event_of(c, state_.now));
  }
  more_than_sets_ = more_than_sets_ || c.kind != CommandKind::mark;
  observer_->event(observe::event_of(c, state_.now));
}

Refusal Door::try_plant(const Command& c) {
  switch (c.kind) {
    case CommandKind::set:
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
      return try_fault(c);
    default:
      return Refusal::none;  // a mark is its event
  }
}

/// All of them or none.
Refusal Door::loadable(const Command& c) const {
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

Refusal Door::try_load(const Command& c) {
  if (const Refusal refusal = loadable(c); refusal != Refusal::none) return refusal;
  for (const auto& [id, value] : c.values->values) {
    stop_moving(id);
    write(id, value);
  }
  return Refusal::none;
}

Refusal Door::try_fault(const Command& c) {
  if (c.index < 0 || static_cast<std::size_t>(c.index) >= program_.faults.size()) return Refusal::unknown;
  const bool inject = c.kind == CommandKind::inject;
  // Others look at their own condition: they would be told to begin, and not do so.
  if (inject && at(program_.faults, c.index).when != program::Fault::When::by_hand) return Refusal::not_by_hand;
  return faults_.command(c.index, inject, state_.now) ? Refusal::none : Refusal::not_chosen;
}

Refusal Door::settable(const Command& c) const {
  if (c.target <= program::kSeed || static_cast<std::size_t>(c.target) >= program_.variables.size())
    return Refusal::unknown;
  const program::Variable& v = program_.variable(c.target);
  if (v.role != program::Role::input && v.role != program::Role::param) return Refusal::not_settable;
  if (c.kind != CommandKind::set && v.type.kind != program::Type::Kind::real) return Refusal::not_of_type;
  return c.kind == CommandKind::play ? playable(c) : fits(program_, v, c.value);
}

/// Between its points a table is never beyond them, so these and the ends of what is played tell whether all fits.
Refusal Door::playable(const Command& c) const {
  if (c.index < 0 || static_cast<std::size_t>(c.index) >= program_.tables.size()) return Refusal::unknown;
  const program::Table& table = at(program_.tables, c.index);
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
    const bool played = table.x[i] <= last || table.outside == program::Table::Outside::repeated;
    if (!played) continue;
    if (const Refusal refusal = fits(program_, v, table.z[i]); refusal != Refusal::none) return refusal;
  }
  return Refusal::none;
}

void Door::answer(const Command& c, Refusal refusal) {
  const observe::CommandOutcome outcome{c, state_.now, refusal};
  if (c.who != observe::Giver::repeat) return inbox_.answer(outcome);
  if (refusal == Refusal::none) return;
  if (refused_++ == 0) first_refused_ = outcome;
}

void Door::move() {
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

bool Door::stop_moving(program::VarId target) {
  return std::erase_if(moving_, [&](const Moving& m) { return m.command.target == target; }) > 0;
}

std::vector<observe::Change> Door::changes(Time next) const {
  std::vector<observe::Change> all = changes_;
  const auto add = [&](const Command& c) {
    const Time at = std::max(next, c.when);
    if (c.kind == CommandKind::set && settable(c) == Refusal::none) all.push_back({at, c.target, c.value});
    if (c.kind != CommandKind::load || loadable(c) != Refusal::none) return;
    for (const auto& [id, value] : c.values->values) all.push_back({at, id, value});
  };
  std::for_each(planned_.begin() + static_cast<std::ptrdiff_t>(planned_done_), planned_.end(), add);
  std::for_each(pending_.begin(), pending_.end(), add);
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.at < b.at; });
  return all;
}

Door::Course Door::shown() {
  if (steps_left_ > 0 && --steps_left_ == 0) standing_ = true;
  return course();
}

Door::Course Door::course() {
  fetch();
  if (!pending_.empty()) heed_due();
  return ending_ ? Course::ends : standing_ ? Course::stands : Course::goes_on;
}

/// What is pending about the course of the run, and due.
void Door::heed_due() {
  const auto due = [&](const Command& c) { return observe::about_course(c.kind) && c.when <= state_.now; };
  for (const Command& c : pending_) {
    if (!due(c)) continue;
    const Refusal refusal = heed(c);
    answer(c, refusal);
    if (refusal == Refusal::none) observer_->event(observe::event_of(c, state_.now));
  }
  std::erase_if(pending_, due);
}

Refusal Door::heed(const Command& c) {
  if (c.kind == CommandKind::end) {
    ending_ = true;
    return Refusal::none;
  }
  if (!lockstep_) return Refusal::only_lockstep;
  if (c.kind == CommandKind::save) {
    if (more_than_sets_) return Refusal::not_storable;
    return save_ && c.text != nullptr && save_(c.text) ? Refusal::none : Refusal::failed;
  }
  if (c.kind == CommandKind::step && c.steps < 1) return Refusal::no_steps;
  standing_ = c.kind == CommandKind::pause;
  steps_left_ = c.kind == CommandKind::step ? c.steps : 0;
  return Refusal::none;
}

void Door::close() {
  inbox_.close();
  fetch();
  for (const Command& c : pending_) answer(c, Refusal::run_over);
  pending_.clear();
  for (; planned_done_ < planned_.size(); ++planned_done_) answer(planned_[planned_done_], Refusal::run_over);
}

}  // namespace isodyne::bench
