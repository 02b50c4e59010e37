#include "isodyne/bench/door.h"

#include <algorithm>

namespace isodyne::bench {

using observe::Command;
using observe::CommandKind;
using observe::Refusal;

Door::Door(const program::Program& program, engine::PlantState& state, FaultPlayer& faults, CommandInbox& inbox,
           std::vector<Command> planned, bool lockstep)
    : state_(state), plant_(program, state, faults), inbox_(inbox), planned_(std::move(planned)), lockstep_(lockstep) {
  pending_.reserve(kMostPending);
  pressed_.reserve(kMostPressed);
}

void Door::carry_out() {
  for (; planned_done_ < planned_.size() && planned_[planned_done_].when <= state_.now; ++planned_done_)
    about_plant(planned_[planned_done_]);
  let_go_due();
  fetch();
  if (pending_.empty()) return plant_.move();
  const auto due = [&](const Command& c) { return !observe::about_course(c.kind) && c.when <= state_.now; };
  for (const Command& c : pending_) {
    if (due(c)) about_plant(c);
  }
  std::erase_if(pending_, due);
  plant_.move();
}

/// A button that was pressed is let go as if somebody had set it, by whoever pressed it.
void Door::let_go_due() {
  for (std::size_t i = 0; i < pressed_.size();) {
    if (pressed_[i].when > state_.now) {
      ++i;
      continue;
    }
    const Command c = pressed_[i];
    pressed_.erase(pressed_.begin() + static_cast<std::ptrdiff_t>(i));
    if (plant_.carry_out(c) == Refusal::none) tell_change(c.target, c.value, c.who);
  }
}

void Door::tell_change(program::VarId target, double value, observe::Giver who) {
  observer_->event({state_.now, observe::EventKind::change, target, static_cast<std::int32_t>(who), value});
  if (lockstep_) changes_.push_back({state_.now, target, value});
}

/// One that is pressed already stays so for longer; `anew`: it was not.
Refusal Door::press(const Command& c, bool& anew) {
  const auto found =
      std::find_if(pressed_.begin(), pressed_.end(), [&](const Command& p) { return p.target == c.target; });
  anew = found == pressed_.end();
  if (anew && pressed_.size() == kMostPressed) return Refusal::too_many;
  if (anew) {
    if (const Refusal refusal = plant_.carry_out(c); refusal != Refusal::none) return refusal;
  }
  Command let_go = c;
  let_go.kind = CommandKind::set;
  let_go.value = 0;
  let_go.when = state_.now + c.over;
  if (anew)
    pressed_.push_back(let_go);
  else
    found->when = std::max(found->when, let_go.when);
  return Refusal::none;
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
  bool anew = true;
  const Refusal refusal = c.kind == CommandKind::press ? press(c, anew) : plant_.carry_out(c);
  answer(c, refusal);
  if (refusal != Refusal::none) return;
  if (c.kind == CommandKind::press) return anew ? tell_change(c.target, c.value, c.who) : void();
  // Whoever else says what it is has the last word.
  const auto drop = [&](program::VarId target) {
    std::erase_if(pressed_, [&](const Command& p) { return p.target == target; });
  };
  if (c.kind == CommandKind::set) return drop(c.target), tell_change(c.target, c.value, c.who);
  if (c.kind == CommandKind::load) {  // each value is a change as if it had been set alone
    for (const auto& [id, value] : c.values->values) drop(id), tell_change(id, value, c.who);
    return observer_->event(observe::event_of(c, state_.now));
  }
  more_than_sets_ = more_than_sets_ || c.kind != CommandKind::mark;
  observer_->event(observe::event_of(c, state_.now));
}

void Door::answer(const Command& c, Refusal refusal) {
  const observe::CommandOutcome outcome{c, state_.now, refusal};
  if (c.who != observe::Giver::repeat) return inbox_.answer(outcome);
  if (refusal == Refusal::none) return;
  if (refused_++ == 0) first_refused_ = outcome;
}

std::vector<observe::Change> Door::changes(Time next) const {
  std::vector<observe::Change> all = changes_;
  const auto add = [&](const Command& c) {
    const Time at = std::max(next, c.when);
    const bool sets = c.kind == CommandKind::set || c.kind == CommandKind::press, loads = c.kind == CommandKind::load;
    if ((!sets && !loads) || plant_.refusal_of(c) != Refusal::none) return;
    if (sets) all.push_back({at, c.target, c.value});
    if (c.kind == CommandKind::press) all.push_back({at + c.over, c.target, 0});
    if (!loads) return;
    for (const auto& [id, value] : c.values->values) all.push_back({at, id, value});
  };
  std::for_each(planned_.begin() + static_cast<std::ptrdiff_t>(planned_done_), planned_.end(), add);
  std::for_each(pending_.begin(), pending_.end(), add);
  std::for_each(pressed_.begin(), pressed_.end(), add);
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
