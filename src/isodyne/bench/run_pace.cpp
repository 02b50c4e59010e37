// A run against the wall clock.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/bench/run.h"

namespace isodyne::bench {

/// Threads for the parts on other cores, as far as there are any.
void Run::start_crew() {
  const int asked = static_cast<int>(plant_.cores());
  const int most = plan_.cores > 0 ? plan_.cores : plan_.pace ? asked : 1;
  const int threads = std::min({most, usable_cores(), asked}) - 1;
  if (plan_.pace) {
    std::vector<std::int32_t> wanted;
    for (int i = 1; i <= threads; ++i) wanted.push_back(plant_.plan(static_cast<std::size_t>(i)).core);
    privileges_ = take_privileges(plan_.pace->core, wanted);
    crew_times_.resize(privileges_.crew.size());
    if (most >= asked && privileges_.crew.size() + 1 < plant_.cores()) {
      privileges_.lacking.push_back(
          fmt::format("the bench asks for {} cores and gets {}: parts on different cores step one after the other",
                      plant_.cores(), privileges_.crew.size() + 1));
    }
    const auto prepare = [](std::size_t member) { step_beside(static_cast<int>(member)); };
    plant_.start_crew(privileges_.crew.size(), prepare, pacer_->step_ns() * 2 / 5);
  } else if (threads > 0) {
    plant_.start_crew(static_cast<std::size_t>(threads), nullptr, 0);
  }
}

/// Observers sit behind a queue, and steps are measured.
void Run::prepare_pace() {
  plan_.time_steps = true;
  pacer_ = std::make_unique<Pacer>(program_->step, plan_.pace->speed);
  const std::size_t variables = program_->variables.size(), rows = quick_.most_numbers();
  const auto step_ns = static_cast<std::int64_t>(static_cast<double>(program_->step.count()) / plan_.pace->speed);
  queue_ = std::make_unique<observe::ObserverQueue>(observer_, variables,
                                                    observe::ObserverQueue::usual_room(variables + rows, step_ns),
                                                    keep_away_from_stepping_thread, rows, gate_edges_.most());
  seen_ = queue_.get();
}

/// The controllers are ready; from here on nothing on this thread allocates, locks or blocks.
void Run::begin_pace() {
  controllers_.keep_beside(help_stepping_thread);
  result_.timing = std::make_shared<Timing>();
  result_.timing->stretches.reserve(Timing::kMostStretches);
  pacer_->begin(state_.now);
}

void Run::finish_paced_step(Time at) {
  if (pacer_->done(at)) tell_stretch();
  for (std::size_t i = 0; i < crew_times_.size(); ++i) crew_times_[i].add(plant_.crew()->took_ns(i + 1));
}

void Run::tell_stretch() {
  const OverrunSeries& s = pacer_->stretch();
  Timing& t = *result_.timing;
  ++t.all_stretches;
  if (t.stretches.size() < Timing::kMostStretches) t.stretches.push_back(s);
  const auto steps = static_cast<std::int32_t>(std::min<std::int64_t>(s.steps, INT32_MAX));
  seen_->event({s.first, observe::EventKind::overrun, steps, 0, static_cast<double>(s.worst_ns)});
}

Timing Run::timing() const {
  Timing t;
  t.speed = plan_.pace->speed;
  t.privileges = privileges_;
  t.steps = pacer_->steps();
  t.overruns = pacer_->overruns();
  t.lateness = pacer_->lateness();
  t.execution = pacer_->execution();
  t.crew = crew_times_;
  t.shares = clock_.all();
  return t;
}

void Run::end_pace() {
  if (queue_) queue_->finish();
  if (!result_.timing) return;
  give_back(privileges_);
  Timing& t = *result_.timing;
  Timing now = timing();
  now.stretches = std::move(t.stretches);
  now.all_stretches = t.all_stretches;
  t = std::move(now);
  t.queue_room = queue_->room();
  t.queue_most = queue_->most_waiting();
  t.images_lost = queue_->images_lost();
  t.events_lost = queue_->events_lost();
  t.first_lost = queue_->first_lost();
}

}  // namespace isodyne::bench
