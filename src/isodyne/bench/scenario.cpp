#include "isodyne/bench/scenario.h"

namespace isodyne::bench {

using Kind = model::ScenarioStep::Kind;

ScenarioPlayer::ScenarioPlayer(const model::Program& program, std::int32_t scenario)
    : program_(program), scenario_(scenario) {
  if (scenario == model::kNone) return;
  const auto& steps = program.scenarios[static_cast<std::size_t>(scenario)].steps;
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const model::ScenarioStep& s = steps[i];
    if (s.kind == Kind::start) {
      const auto value = model::fold(program, s.value, [](model::VarId) { return std::nullopt; });
      start_values_.emplace_back(s.target, value.value_or(0));
      continue;
    }
    steps_.push_back(
        {s, static_cast<std::int32_t>(i), engine::Evaluator(program, {s.value}), program.writable(s.target)});
  }
  planned_.reserve(steps_.size() + 1);
  planned_events_.reserve(2 * steps_.size() + 1);
}

void ScenarioPlayer::begin(const double* image, Time next) {
  Step& s = steps_[step_];
  begun_ = true;
  since_ = next;
  s.value.evaluate(image);
  to_ = s.value.value(0);
  if (s.step.kind == Kind::ramp) from_ = image[s.write_to];
  if (s.step.kind == Kind::set) write(s, to_);
  planned_events_.push_back({next, EventKind::action, s.index, scenario_, to_});
}

bool ScenarioPlayer::is_over(const double* image, Time next) {
  Step& s = steps_[step_];
  const Time elapsed = next - since_;
  switch (s.step.kind) {
    case Kind::start:
    case Kind::set:
      return true;
    case Kind::hold:
      return elapsed >= s.step.duration;
    case Kind::ramp: {
      const double share = std::min(1.0, to_seconds(elapsed) / to_seconds(s.step.duration));
      write(s, elapsed >= s.step.duration ? to_ : from_ + share * (to_ - from_));
      return elapsed >= s.step.duration;
    }
    case Kind::wait:
      s.value.evaluate(image);
      if (s.value.value(0) != 0) return true;
      if (elapsed > s.step.duration) timed_out_ = &s.step;
      return false;
  }
  return true;
}

void ScenarioPlayer::plan(const double* image, Time next) {
  planned_.clear();
  planned_events_.clear();
  while (!finished() && timed_out_ == nullptr) {
    if (!begun_) begin(image, next);
    if (!is_over(image, next)) return;
    ++step_;
    begun_ = false;
  }
}

void ScenarioPlayer::apply(engine::PlantState& state, Observer& observer) {
  for (const Planned& p : planned_) state[p.target] = p.value;
  for (const Event& e : planned_events_) observer.event(e);
  planned_.clear();
  planned_events_.clear();
}

}  // namespace isodyne::bench
