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
}

void Door::carry_out() {
  for (; planned_done_ < planned_.size() && planned_[planned_done_].when <= state_.now; ++planned_done_)
    about_plant(planned_[planned_done_]);
  fetch();
  if (pending_.empty()) return plant_.move();
  const auto due = [&](const Command& c) { return !observe::about_course(c.kind) && c.when <= state_.now; };
  for (const Command& c : pending_) {
    if (due(c)) about_plant(c);
  }
  std::erase_if(pending_, due);
  plant_.move();
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
  const Refusal refusal = plant_.carry_out(c);
  answer(c, refusal);
  if (refusal != Refusal::none) return;
  if (c.kind == CommandKind::set) {
    observer_->event({state_.now, observe::EventKind::change, c.target, static_cast<std::int32_t>(c.who), c.value});
    if (lockstep_) changes_.push_back({state_.now, c.target, c.value});
    return;
  }
  if (c.kind == CommandKind::load) {  // each value is a change as if it had been set alone
    for (const auto& [id, value] : c.values->values) {
      observer_->event({state_.now, observe::EventKind::change, id, static_cast<std::int32_t>(c.who), value});
      if (lockstep_) changes_.push_back({state_.now, id, value});
    }
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
    const bool sets = c.kind == CommandKind::set, loads = c.kind == CommandKind::load;
    if ((!sets && !loads) || plant_.refusal_of(c) != Refusal::none) return;
    if (sets) all.push_back({at, c.target, c.value});
    if (!loads) return;
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
