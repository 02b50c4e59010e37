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
  compile_solves(maker);
  const std::vector<bool> wanted = needed_between_instants();
  compile_order(maker, &wanted, stage_segments_);
  maker.forget();
  compile_order(maker, nullptr, segments_);
  for (const model::Sampler& s : program_->samplers) sampler_code_.push_back(compile_body(maker, s.body));
  compile_machines(maker);
  maker.forget();
  for (const model::WhenBlock& w : program_->events)
    event_conditions_.push_back(maker.compute(w.condition, event_code_));
  for (const model::WhenBlock& w : program_->events) event_bodies_.push_back(compile_body(maker, w.body));
  maker.forget();
  for (const model::Delay& d : program_->delays) {
    const auto size = static_cast<std::size_t>(d.longest / program_->step) + 3;
    rings_.push_back({history_size_, size, maker.compute(d.input, delay_code_)});
    history_size_ += size;
  }
  link(maker);
  first_registers_ = maker.registers();
  changes_.reserve(program_->machines.size());
  restarted_.resize(program_->machines.size());
  firing_.reserve(program_->events.size());
  fired_late_.resize(program_->events.size());
}

void Plant::link(const CodeMaker& maker) {
  for (Code* code : {&code_, &limit_code_, &transition_code_, &event_code_, &delay_code_}) maker.link(*code);
  for (auto* list : {&sampler_code_, &event_bodies_}) {
    for (Code& code : *list) maker.link(code);
  }
  for (auto& [target, code] : start_code_) maker.link(code);
  const auto bounds = [&](Limits& l) {
    if (l.lowest == kNone) return;
    l.lowest = maker.linked(l.lowest);
    l.highest = maker.linked(l.highest);
  };
  for (Limits& l : limits_) bounds(l);
  for (auto* list : {&segments_, &stage_segments_}) {
    for (Segment& s : *list) s.operand = maker.linked(s.operand);
  }
  for (MachineCode& m : machines_) {
    for (std::int32_t& r : m.conditions) r = maker.linked(r);
    for (Code& code : m.entry) maker.link(code);
    for (Code& code : m.exit) maker.link(code);
  }
  for (std::int32_t& r : event_conditions_) r = maker.linked(r);
  for (Ring& r : rings_) r.input = maker.linked(r.input);
  for (SolveCode& s : solves_) {
    maker.link(s.code);
    for (std::int32_t* r : {&s.residual, &s.derivative, &s.scale}) *r = maker.linked(*r);
    bounds(s.bounds);
  }
}

/// Assignments run one after the other, so nothing computed for one is known to the next.
Code Plant::compile_body(CodeMaker& maker, const std::vector<model::Assignment>& body) const {
  Code code;
  for (const model::Assignment& a : body) {
    maker.forget();
    maker.assign(a.target, a.value, code);
  }
  return code;
}

void Plant::compile_machines(CodeMaker& maker) {
  maker.forget();
  for (const model::StateMachine& m : program_->machines) {
    MachineCode& compiled = machines_.emplace_back();
    for (const model::Transition& t : m.transitions)
      compiled.conditions.push_back(maker.compute(t.condition, transition_code_));
  }
  for (std::size_t i = 0; i < machines_.size(); ++i) {
    const model::StateMachine& m = program_->machines[i];
    for (const auto& body : m.entry) machines_[i].entry.push_back(compile_body(maker, body));
    for (const auto& body : m.exit) machines_[i].exit.push_back(compile_body(maker, body));
    if (m.outer != kNone) machines_[static_cast<std::size_t>(m.outer)].inner.push_back(static_cast<std::int32_t>(i));
  }
}

/// Code of its own for every implicit equation: it runs again and again with other values of the unknown.
void Plant::compile_solves(CodeMaker& maker) {
  for (const model::Solve& s : program_->solves) {
    maker.forget();
    SolveCode& compiled = solves_.emplace_back();
    compiled.residual = maker.compute(s.residual, compiled.code);
    compiled.derivative = maker.compute(s.derivative, compiled.code);
    compiled.scale = maker.compute(s.scale, compiled.code);
    if (s.lowest == kNone) continue;
    compiled.bounds.lowest = maker.compute(s.lowest, compiled.code);
    compiled.bounds.highest = maker.compute(s.highest, compiled.code);
  }
  maker.forget();
}

/// Items of the order that some derivative depends on, directly or through others. Lights, conditions and
/// sensors mostly do not count: between instants nobody looks at them.
std::vector<bool> Plant::needed_between_instants() const {
  std::vector<bool> needed(program_->variables.size(), false);
  for (const model::State& s : program_->states) needed[static_cast<std::size_t>(s.derivative)] = true;
  std::vector<bool> wanted(program_->order.size(), false);
  const auto want = [&](std::size_t position, VarId target, std::initializer_list<model::NodeId> values) {
    if (!needed[static_cast<std::size_t>(target)]) return;
    wanted[position] = true;
    for (const model::NodeId value : values) {
      for (const VarId read : program_->reads(value)) needed[static_cast<std::size_t>(read)] = true;
    }
  };
  for (std::size_t position = program_->order.size(); position-- > 0;) {
    const Item& item = program_->order[position];
    const auto i = static_cast<std::size_t>(item.index);
    if (item.kind == Item::Kind::equation) {
      want(position, program_->equations[i].target, {program_->equations[i].value});
    } else if (item.kind == Item::Kind::delay) {
      want(position, program_->delays[i].out, {program_->delays[i].lag});
    } else if (item.kind == Item::Kind::solve) {
      const model::Solve& s = program_->solves[i];
      want(position, s.x, {s.residual, s.derivative, s.scale, s.lowest, s.highest});
    }
  }
  return wanted;
}

void Plant::compile_order(CodeMaker& maker, const std::vector<bool>* wanted, std::vector<Segment>& segments) {
  Segment segment;
  segment.begin = code_.size();
  const auto close = [&](bool has_item, const Item& item, std::int32_t operand) {
    segment.end = code_.size();
    segment.has_item = has_item;
    segment.item = item;
    segment.operand = operand;
    segments.push_back(segment);
    segment = {};
    segment.begin = code_.size();
  };
  bool kept = true;  // what stands before a tap
  for (std::size_t position = 0; position < program_->order.size(); ++position) {
    const Item& item = program_->order[position];
    const auto index = static_cast<std::size_t>(item.index);
    if (item.kind != Item::Kind::tap) kept = wanted == nullptr || (*wanted)[position];
    if (!kept || (item.kind == Item::Kind::sampler && wanted != nullptr)) continue;
    if (item.kind == Item::Kind::equation) {
      maker.assign(program_->equations[index].target, program_->equations[index].value, code_);
    } else if (item.kind == Item::Kind::delay) {
      const std::int32_t lag = maker.compute(program_->delays[index].lag, code_);
      close(true, item, lag);
    } else {
      close(true, item, 0);
    }
  }
  close(false, {}, 0);
}

PlantState Plant::start(std::span<const std::pair<VarId, double>> overrides) const {
  PlantState state;
  state.values = first_registers_;
  state.taps.resize(program_->taps.size());
  state.reversals.resize(program_->machines.size());
  state.event_was.resize(program_->events.size());
  state.history.resize(history_size_);
  for (const auto& [target, code] : start_code_) {
    run_code(code, state);
    for (const auto& [id, value] : overrides) {
      if (id == target) state[id] = value;
    }
  }
  for (const model::StateMachine& m : program_->machines) {
    if (m.outer == kNone) continue;
    const model::StateMachine& outer = program_->machines[static_cast<std::size_t>(m.outer)];
    if (static_cast<int>(state[outer.mode]) == m.outer_mode && state[m.mode] == m.inactive) state[m.mode] = 0;
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
  run(limit_code_, state.values.data(), program_->tables.data());
  compute_equations(segments_, state, false);
  if (state.remembered > 0 || rings_.empty()) return;
  prime_delays(state);
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
    run(code_.data() + s.begin, code_.data() + s.end, registers, program_->tables.data());
    if (s.has_item) after_segment(s, state, with_samplers);
  }
}

void Plant::after_segment(const Segment& s, PlantState& state, bool with_samplers) const {
  const auto index = static_cast<std::size_t>(s.item.index);
  switch (s.item.kind) {
    case Item::Kind::tap: {
      const VarId target = program_->taps[index].target;
      if (state.taps[index].active) state[target] = through_tap(state.taps[index], state[target], state.values[0]);
      break;
    }
    case Item::Kind::sampler:
      if (with_samplers && program_->samplers[index].due(state.now)) run_code(sampler_code_[index], state);
      break;
    case Item::Kind::delay:
      recall(index, state.values[static_cast<std::size_t>(s.operand)], state);
      break;
    case Item::Kind::solve:
      solve_equation(index, state);
      break;
    case Item::Kind::equation:
      break;
  }
}

bool Plant::sampler_due(const PlantState& state) const {
  return std::any_of(program_->samplers.begin(), program_->samplers.end(),
                     [&](const model::Sampler& s) { return s.due(state.now); });
}

std::span<const ModeChange> Plant::settle(PlantState& state) {
  solve(state);
  bool stale = first_entry(state);
  if (stale) compute_equations(segments_, state, false);
  if (take_transitions(state)) {
    compute_equations(segments_, state, false);
    stale = true;
  }
  if (fire_events(state)) stale = true;
  if (stale || sampler_due(state)) compute_equations(segments_, state, true);
  remember(state);
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

PlantTrouble Plant::trouble(const PlantState& state) const {
  if (state.unsolved != kNone) {
    const VarId x = program_->solves[static_cast<std::size_t>(state.unsolved)].x;
    return {PlantTrouble::Kind::no_solution, state.unsolved, state[x]};
  }
  if (endless_events_) return {PlantTrouble::Kind::endless_events, firing_.empty() ? 0 : firing_.front(), 0};
  for (std::size_t m = 0; m < state.reversals.size(); ++m) {
    if (state.reversals[m] > kMostReversals)
      return {PlantTrouble::Kind::endless_reversal, static_cast<std::int32_t>(m), 0};
  }
  return {};
}

PlantTrouble Plant::step(PlantState& state) {
  if (const PlantTrouble before = trouble(state); before.kind != PlantTrouble::Kind::none) return before;
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
  if (state.unsolved != kNone) return trouble(state);
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isfinite(x_[i])) return {PlantTrouble::Kind::not_finite, static_cast<std::int32_t>(i), before_[i]};
  }
  state.now += program_->step;
  return {};
}

}  // namespace isodyne::engine
