#include "isodyne/bench/channels.h"

namespace isodyne::bench {

Channels::Channels(const program::Program& program, engine::PlantState& state, observe::Observer& observer)
    : program_(program), state_(state), observer_(&observer) {
  for (const program::Actuator& a : program.actuators) {
    gates_.emplace_back();
    if (a.gate) gates_.back().emplace(program, actuators_.size());
    actuators_.emplace_back(a);
  }
  for (const program::Frame& f : program.frames) frames_.emplace_back(f);
}

void Channels::start() {
  for (std::size_t i = 0; i < actuators_.size(); ++i) {
    const program::Actuator& a = program_.actuators[i];
    io::Sample got;
    io::ActuatorChannel(a).pass(a.start, state_.now, {}, got);
    if (a.counts != program::kNone) state_[a.counts] = actuators_[i].counts_of(a.start);
    if (a.signal != program::kNone) state_[a.signal] = got.signal;
  }
}

void Channels::drive_gate(std::size_t a, bool on, std::span<const double> edges) {
  if (!program_.actuators[a].on) return;
  gates_[a]->drive(state_, on, edges);
  if (gates_[a]->saturation().now) saturates(channel_of_actuator(program_, a), on ? 1 : 0);
}

double Channels::pass(std::size_t a, double answer, bool in_frame) {
  const program::Actuator& actuator = program_.actuators[a];
  const program::VarId to = program_.writable(actuator.value);
  const bool before = actuators_[a].saturation().now;
  const io::ActuatorChannel::Taps taps{tap(actuator.signal_tap), tap(actuator.counts_tap)};
  io::Sample got;
  state_[to] =
      in_frame ? actuators_[a].take(answer, state_.now, taps, got) : actuators_[a].pass(answer, state_.now, taps, got);
  if (actuator.counts != program::kNone) state_[actuator.counts] = got.counts;
  if (actuator.signal != program::kNone) state_[actuator.signal] = got.signal;
  if (actuators_[a].saturation().now && !before) saturates(channel_of_actuator(program_, a), state_[to]);
  return state_[to];
}

void Channels::take_frame(std::size_t f) {
  frames_[f].arrive(state_);
  for (const program::FrameField& field : program_.frames[f].fields) {
    if (field.actuator != program::kNone) drive(static_cast<std::size_t>(field.actuator), state_[field.raw], true);
  }
}

void Channels::gather_frame(std::size_t f) {
  frames_[f].gather(state_, [&](std::size_t i) {
    saturates(channel_of_field(program_, f, i), state_[program_.frames[f].fields[i].raw]);
  });
}

void Channels::saturates(std::int32_t channel, double value) {
  observer_->event({state_.now, observe::EventKind::saturated, channel, 0, value});
}

void Channels::list_saturated(std::vector<RunResult::Saturated>& all) const {
  const auto list = [&](const std::string& name, const io::Saturation& s, bool pulses = false) {
    if (s.count > 0) all.push_back({name, s.first, s.count, pulses});
  };
  for (std::size_t i = 0; i < actuators_.size(); ++i) {
    list(program_.actuators[i].name, actuators_[i].saturation());
    if (gates_[i]) list(program_.actuators[i].name, gates_[i]->saturation(), true);
  }
  for (std::size_t f = 0; f < frames_.size(); ++f) {
    const auto& fields = program_.frames[f].fields;
    for (std::size_t i = 0; i < fields.size(); ++i)
      list(program_.variable(fields[i].raw).name, frames_[f].saturation(i));
  }
}

}  // namespace isodyne::bench
