// A run against the wall clock.

#include <algorithm>

#include "isodyne/bench/run.h"

namespace isodyne::bench {

/// The controllers are ready; from here on nothing on this thread allocates, locks or blocks.
void Run::begin_pace() {
  rights_ = take_rights(plan_.pace->core);
  for (Wired& c : controllers_) {
    if (c.port->pace() == ports::Pace::waits)
      c.courier = std::make_unique<ports::Courier>(*c.port, c.reads.size(), c.writes.size(), help_stepping_thread);
  }
  result_.timing = std::make_shared<Timing>();
  result_.timing->stretches.reserve(Timing::kMostStretches);
  pacer_->begin(state_.now);
}

void Run::finish_paced_step(Time at) {
  if (pacer_->done(at)) tell_stretch();
  progress_.overruns.store(pacer_->overruns(), std::memory_order_relaxed);
  progress_.worst_lateness_ns.store(pacer_->lateness().longest(), std::memory_order_relaxed);
}

void Run::tell_stretch() {
  const Stretch& s = pacer_->stretch();
  Timing& t = *result_.timing;
  ++t.all_stretches;
  if (t.stretches.size() < Timing::kMostStretches) t.stretches.push_back(s);
  const auto steps = static_cast<std::int32_t>(std::min<std::int64_t>(s.steps, INT32_MAX));
  seen_->event({s.first, EventKind::overrun, steps, 0, static_cast<double>(s.worst_ns)});
}

void Run::end_pace() {
  if (queue_) queue_->finish();
  if (!result_.timing) return;
  give_back_rights(rights_);
  Timing& t = *result_.timing;
  t.speed = plan_.pace->speed;
  t.rights = rights_;
  t.steps = pacer_->steps();
  t.overruns = pacer_->overruns();
  t.lateness = pacer_->lateness();
  t.execution = pacer_->execution();
  t.shares = times_;
  t.queue_room = queue_->room();
  t.queue_most = queue_->most_waiting();
  t.images_lost = queue_->images_lost();
  t.events_lost = queue_->events_lost();
  t.first_lost = queue_->first_lost();
}

}  // namespace isodyne::bench
