#include "isodyne/bench/sensing.h"

#include <algorithm>
#include <bit>

#include "isodyne/core/step_times.h"
#include "isodyne/engine/gates.h"

namespace isodyne::bench {

Sensing::Sensing(const program::Program& program, const FaultPlayer& faults, std::uint64_t seed,
                 engine::PlantState& state)
    : program_(program), faults_(faults), state_(state) {
  for (const program::Sensor& s : program.sensors) {
    const io::SensorChannel channel(s, seed);
    Entry entry{channel, channel};
    entry.next = s.offset;
    if (s.at != program::kNone) entry.gate = program.gate_of(s.at);
    quick_ = quick_ || s.period < program.step;
    if (channel.sees_between()) between_.push_back(entries_.size());
    entries_.push_back(std::move(entry));
  }
  for (const program::Fault& f : program.faults) {
    if (f.other == program::kNone) continue;
    for (std::size_t i = 0; i < entries_.size(); ++i)
      entries_[i].swapped |= program.sensors[i].tap == f.tap || program.sensors[i].tap == f.other;
  }
}

/// Wires that a fault has swapped: sensors see each other's quantity.
void Sensing::see_swapped() {
  faults_.cross(state_, [&](std::int32_t t) {
    const auto found = std::find_if(program_.sensors.begin(), program_.sensors.end(), [&](const program::Sensor& s) {
      return s.value == program_.taps[static_cast<std::size_t>(t)].target;
    });
    return found == program_.sensors.end() ? program::kNone : found->truth;
  });
}

void Sensing::sample(std::int32_t sensor) {
  if (!measured_) return take(static_cast<std::size_t>(sensor));
  const auto begin = Stopwatch::now();
  take(static_cast<std::size_t>(sensor));
  took_ns_ += (Stopwatch::now() - begin).count();
}

/// Whether its gate rose after the instant before: at an edge between the two, or by what it is made of now.
bool Sensing::rose(const Entry& e, const program::Sensor& s) const {
  if (state_.now.count() == 0) return true;
  const bool is = state_[s.at] != 0;
  bool any = is && !e.was;
  if (e.gate != program::kNone) {
    engine::Gates::each(state_.network.gates[static_cast<std::size_t>(e.gate)], state_.now - s.period, state_.now,
                        [&](Time, bool to) { any = any || to; });
  }
  return any;
}

void Sensing::take(std::size_t i) {
  const program::Sensor& s = program_.sensors[i];
  if (!s.on) return;
  Entry& e = entries_[i];
  if (s.at != program::kNone && !rose(e, s)) return;
  const double truth = state_[s.truth];
  const bool same = e.pass == pass_ && std::bit_cast<std::uint64_t>(truth) == std::bit_cast<std::uint64_t>(e.truth);
  if (same && !e.swapped) return;
  if (e.asked)
    e.channel = e.before;
  else
    e.before = e.channel;
  e.asked = true;
  e.pass = pass_;
  e.truth = truth;
  if (e.swapped) see_swapped();
  const io::Sample got = e.channel.sample(truth, state_.now, {tap(s.tap), tap(s.signal_tap), tap(s.counts_tap)});
  state_[s.value] = got.value;
  if (s.signal != program::kNone) state_[s.signal] = got.signal;
  if (s.counts != program::kNone) state_[s.counts] = got.counts;
}

/// What a filter or a counter of pulses sees between its samples.
void Sensing::pass_by() {
  for (const std::size_t i : between_) {
    Entry& e = entries_[i];
    const program::Sensor& s = program_.sensors[i];
    if (e.asked || !s.on) continue;
    if (e.swapped) see_swapped();
    e.channel.pass_by(state_[s.truth], state_.now, {tap(s.tap), tap(s.signal_tap), nullptr});
  }
}

void Sensing::end_instant(observe::Observer& observer) {
  took_ns_ = 0;
  pass_by();
  if (!due(state_.now)) return;
  next_ = Time::max();
  for (std::size_t i = 0; i < entries_.size(); ++i) {
    Entry& e = entries_[i];
    if (e.asked && e.channel.saturation().now && !e.before.saturation().now)
      observer.event({state_.now, observe::EventKind::saturated, static_cast<std::int32_t>(i), 0,
                      state_[program_.sensors[i].value]});
    e.asked = false;
    if (e.next == state_.now) {
      const program::Sensor& s = program_.sensors[i];
      e.next += s.period;
      if (s.at != program::kNone) e.was = state_[s.at] != 0;
    }
    next_ = std::min(next_, e.next);
  }
}

}  // namespace isodyne::bench
