#include "isodyne/engine/plant.h"

#include <algorithm>
#include <cmath>

namespace isodyne::engine {

using model::FaultKind;
using model::Item;
using model::kNone;
using model::VarId;

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
    : program_(std::move(program)),
      rk4_(program_->states.size()),
      x_(program_->states.size()),
      before_(program_->states.size()),
      k1_(program_->states.size()) {
  CodeMaker maker(*program_);
  for (const model::Assignment& a : program_->start) {
    maker.forget();
    start_code_.emplace_back(a.target, Code{});
    maker.assign(a.target, a.value, start_code_.back().second);
  }
  maker.forget();
  for (const model::State& s : program_->states) {
    Limits limits;
    if (s.lowest != kNone) {
      limits.lowest = maker.compute(s.lowest, limit_code_);
      limits.highest = maker.compute(s.highest, limit_code_);
    }
    limits_.push_back(limits);
  }
  maker.keep();  // limits are computed at instants and hold throughout the step
  const std::vector<bool> wanted = needed_between_instants();
  compile_order(maker, &wanted, stage_segments_);
  maker.forget();
  compile_order(maker, nullptr, segments_);
  compile_samplers(maker);
  for (const model::StateMachine& m : program_->machines) {
    auto& results = transition_results_.emplace_back();
    for (const model::Transition& t : m.transitions) results.push_back(maker.compute(t.condition, transition_code_));
  }
  maker.link(code_);
  maker.link(limit_code_);
  maker.link(transition_code_);
  for (Code& code : sampler_code_) maker.link(code);
  for (auto& [target, code] : start_code_) maker.link(code);
  for (Limits& l : limits_) {
    if (l.lowest == kNone) continue;
    l.lowest = maker.linked(l.lowest);
    l.highest = maker.linked(l.highest);
  }
  for (auto& results : transition_results_) {
    for (std::int32_t& r : results) r = maker.linked(r);
  }
  first_registers_ = maker.registers();
  changes_.reserve(program_->machines.size());
}

/// Equations that some derivative depends on, directly or through others. Lights, conditions and sensors
/// mostly do not count: between instants nobody looks at them.
std::vector<bool> Plant::needed_between_instants() const {
  std::vector<bool> needed(program_->variables.size(), false);
  for (const model::State& s : program_->states) needed[static_cast<std::size_t>(s.derivative)] = true;
  std::vector<bool> wanted(program_->equations.size(), false);
  for (auto item = program_->order.rbegin(); item != program_->order.rend(); ++item) {
    if (item->kind != Item::Kind::equation) continue;
    const model::Assignment& e = program_->equations[static_cast<std::size_t>(item->index)];
    if (!needed[static_cast<std::size_t>(e.target)]) continue;
    wanted[static_cast<std::size_t>(item->index)] = true;
    for (const VarId read : program_->reads(e.value)) needed[static_cast<std::size_t>(read)] = true;
  }
  return wanted;
}

void Plant::compile_order(CodeMaker& maker, const std::vector<bool>* wanted, std::vector<Segment>& segments) {
  Segment segment{code_.size(), 0, kNone, kNone};
  const auto close = [&] {
    segment.end = code_.size();
    segments.push_back(segment);
    segment = {code_.size(), 0, kNone, kNone};
  };
  bool kept = true;  // the equation before a tap
  for (const Item& item : program_->order) {
    switch (item.kind) {
      case Item::Kind::equation: {
        kept = wanted == nullptr || (*wanted)[static_cast<std::size_t>(item.index)];
        const model::Assignment& e = program_->equations[static_cast<std::size_t>(item.index)];
        if (kept) maker.assign(e.target, e.value, code_);
        break;
      }
      case Item::Kind::tap:
        if (!kept) break;
        segment.tap = item.index;
        close();
        break;
      case Item::Kind::sampler:
        if (wanted != nullptr) break;
        segment.sampler = item.index;
        close();
        break;
    }
  }
  close();
}

void Plant::compile_samplers(CodeMaker& maker) {
  for (const model::Sampler& s : program_->samplers) {
    Code& code = sampler_code_.emplace_back();
    for (const model::Assignment& a : s.body) maker.assign(a.target, a.value, code);
  }
}

PlantState Plant::start(std::span<const std::pair<VarId, double>> overrides) const {
  PlantState state;
  state.values = first_registers_;
  state.taps.resize(program_->taps.size());
  state.reversals.resize(program_->machines.size());
  for (const auto& [target, code] : start_code_) {
    run(code, state.values.data());
    for (const auto& [id, value] : overrides) {
      if (id == target) state[id] = value;
    }
  }
  for (const model::Actuator& a : program_->actuators) state[a.value] = a.start;
  for (const model::Tap& tap : program_->taps) {
    if (tap.healthy != kNone) state[tap.healthy] = state[tap.target];
  }
  for (const model::Edge& edge : program_->edges) state[edge.previous] = 0;
  return state;
}

void Plant::solve(PlantState& state) const {
  state.values[0] = to_seconds(state.now);
  compute_equations(segments_, state, false);
}

void Plant::apply_input_taps(PlantState& state) const {
  const double now = to_seconds(state.now);
  for (std::size_t i = 0; i < program_->taps.size(); ++i) {
    const model::Tap& tap = program_->taps[i];
    if (tap.healthy != kNone) state[tap.target] = through_tap(state.taps[i], state[tap.healthy], now);
  }
}

void Plant::compute_equations(const std::vector<Segment>& segments, PlantState& state, bool with_samplers) const {
  double* registers = state.values.data();
  for (const Segment& s : segments) {
    run(code_.data() + s.begin, code_.data() + s.end, registers);
    if (s.tap != kNone) {
      const auto tap = static_cast<std::size_t>(s.tap);
      const VarId target = program_->taps[tap].target;
      if (state.taps[tap].active) state[target] = through_tap(state.taps[tap], state[target], registers[0]);
    }
    if (s.sampler != kNone && with_samplers) {
      const auto sampler = static_cast<std::size_t>(s.sampler);
      if (state.now.count() % program_->samplers[sampler].period.count() == 0) run(sampler_code_[sampler], registers);
    }
  }
}

bool Plant::sampler_due(const PlantState& state) const {
  return std::any_of(program_->samplers.begin(), program_->samplers.end(),
                     [&](const model::Sampler& s) { return state.now.count() % s.period.count() == 0; });
}

bool Plant::take_transitions(PlantState& state) {
  changes_.clear();
  run(transition_code_, state.values.data());
  for (std::size_t m = 0; m < program_->machines.size(); ++m) {
    const model::StateMachine& machine = program_->machines[m];
    const int mode = static_cast<int>(state[machine.mode]);
    std::size_t t = 0;
    while (t < machine.transitions.size()) {
      const bool ready = state.values[static_cast<std::size_t>(transition_results_[m][t])] != 0;
      if (machine.transitions[t].from == mode && ready) break;
      ++t;
    }
    if (t == machine.transitions.size()) {
      state.reversals[m] = 0;
      continue;
    }
    ++state.reversals[m];
    state[machine.mode] = machine.transitions[t].to;
    state[machine.entered] = to_seconds(state.now);
    changes_.push_back({static_cast<std::int32_t>(m), static_cast<std::int32_t>(t)});
  }
  return !changes_.empty();
}

std::span<const ModeChange> Plant::settle(PlantState& state) {
  state.values[0] = to_seconds(state.now);
  run(limit_code_, state.values.data());
  compute_equations(segments_, state, false);
  const bool changed = take_transitions(state);
  if (changed || sampler_due(state)) compute_equations(segments_, state, true);
  return changes_;
}

void Plant::limited_derivatives(const PlantState& state, const double* x, double* dx) const {
  for (std::size_t i = 0; i < limits_.size(); ++i) {
    dx[i] = state[program_->states[i].derivative];
    if (limits_[i].lowest == kNone) continue;
    const bool down = x[i] <= state.values[static_cast<std::size_t>(limits_[i].lowest)] && dx[i] < 0;
    const bool up = x[i] >= state.values[static_cast<std::size_t>(limits_[i].highest)] && dx[i] > 0;
    if (down || up) dx[i] = 0;
  }
}

PlantTrouble Plant::step(PlantState& state) {
  for (std::size_t m = 0; m < state.reversals.size(); ++m) {
    if (state.reversals[m] > kMostReversals)
      return {PlantTrouble::Kind::endless_reversal, static_cast<std::int32_t>(m), 0};
  }
  const std::size_t n = program_->states.size();
  for (std::size_t i = 0; i < n; ++i) x_[i] = before_[i] = state[program_->states[i].value];
  limited_derivatives(state, x_.data(), k1_.data());
  rk4_.step(state.values[0], to_seconds(program_->step), x_.data(), k1_.data(),
            [&](double t, const double* x, double* dx) {
              state.values[0] = t;
              for (std::size_t i = 0; i < n; ++i) state[program_->states[i].value] = x[i];
              compute_equations(stage_segments_, state, false);
              limited_derivatives(state, x, dx);
            });
  for (std::size_t i = 0; i < n; ++i) {
    if (limits_[i].lowest != kNone) {
      const double lowest = state.values[static_cast<std::size_t>(limits_[i].lowest)];
      const double highest = state.values[static_cast<std::size_t>(limits_[i].highest)];
      if (x_[i] < lowest) x_[i] = lowest;
      if (x_[i] > highest) x_[i] = highest;
    }
    state[program_->states[i].value] = x_[i];
  }
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isfinite(x_[i])) return {PlantTrouble::Kind::not_finite, static_cast<std::int32_t>(i), before_[i]};
  }
  state.now += program_->step;
  return {};
}

}  // namespace isodyne::engine
