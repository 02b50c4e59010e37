// From a plant to byte code.

#include <algorithm>
#include <set>

#include "isodyne/engine/interpreter.h"
#include "isodyne/program/groups.h"
#include "isodyne/program/numbering.h"

namespace isodyne::engine {

using program::Item;
using program::kNone;
using program::Method;
using program::VarId;

Interpreter::Interpreter(std::shared_ptr<const program::Plant> program, const Plan& plan)
    : program_(std::move(program)),
      plan_(plan),
      tables_(tables_of(*program_)),
      rings_(rings_of(*program_)),
      network_groups_(plan.network_groups()) {
  CodeMaker maker(*program_);
  for (const program::Assignment& a : program_->start) {
    maker.forget();
    start_code_.emplace_back(a.target, Code{});
    maker.assign(a.target, a.value, start_code_.back().second);
  }
  maker.forget();
  compile_order(maker);
  maker.reserve();  // periodic_tasks run in the middle of the order and must leave its intermediate results alone
  for (const program::PeriodicTask& s : program_->periodic_tasks) task_code_.push_back(compile_body(maker, s.body));
  compile_machines(maker);
  own_machines_ = plan_.machines();
  const auto rates = plan_.rates.size();
  event_code_.resize(rates);
  delay_code_.resize(rates);
  event_conditions_.resize(program_->events.size());
  ring_inputs_.resize(program_->delays.size());
  // Results of all rates are looked at together, so they keep registers of their own.
  for (std::size_t rate = 0; rate < rates; ++rate) {
    maker.reserve();
    maker.forget();
    for (std::size_t e = 0; e < program_->events.size(); ++e) {
      const program::WhenBlock& w = program_->events[e];
      if (plan_.rate_of_group(w.group) == static_cast<int>(rate))
        event_conditions_[e] = maker.compute(w.condition, event_code_[rate]);
    }
    maker.reserve();
    maker.forget();
    for (std::size_t d = 0; d < program_->delays.size(); ++d) {
      const program::Delay& delay = program_->delays[d];
      if (plan_.rate_of(delay.out) == static_cast<int>(rate))
        ring_inputs_[d] = maker.compute(delay.input, delay_code_[rate]);
    }
  }
  maker.restart();
  for (const program::WhenBlock& w : program_->events) event_bodies_.push_back(compile_body(maker, w.body));
  groups_.reserve(plan_.groups.size());
  for (const GroupPlan& g : plan_.groups) compile_group(maker, g);
  link(maker);
  first_registers_ = maker.registers();
  restarted_.resize(program_->machines.size());
  firing_.reserve(program_->events.size());
}

void Interpreter::close(Segment& segment, std::vector<Segment>& segments) {
  if (code_.size() > segment.begin || segment.has_item) {
    spread(code_, segment.begin);
    code_.emplace_back().action = Opcode::end;
    segments.push_back(segment);
  }
  segment = {};
  segment.begin = code_.size();
}

void Interpreter::compile_item(CodeMaker& maker, const Item& item, Segment& segment, std::vector<Segment>& segments) {
  const auto index = static_cast<std::size_t>(item.index);
  if (item.kind == Item::Kind::equation) {
    maker.assign(program_->equations[index].target, program_->equations[index].value, code_);
    return;
  }
  segment.has_item = true;
  segment.item = item;
  if (item.kind == Item::Kind::delay) segment.operand = maker.compute(program_->delays[index].lag, code_);
  if (item.kind == Item::Kind::solve) segment.operand = compile_solve(maker, index);
  if (item.kind != Item::Kind::periodic_task && item.kind != Item::Kind::sensor)
    segment.target = maker.place_of(program::target_of(*program_, item));
  close(segment, segments);
}

void Interpreter::expect(CodeMaker& maker, const std::vector<Item>& items) const {
  std::vector<program::NodeId> roots;
  for (const Item& item : items) {
    if (item.kind == Item::Kind::solve) continue;  // with code of its own
    for (const program::NodeId value : program::values_of(*program_, item)) roots.push_back(value);
  }
  maker.expect(roots);
}

/// A group that is not due keeps its values, so stretches of different rates share no intermediate results.
void Interpreter::compile_order(CodeMaker& maker) {
  Segment segment;
  segment.begin = code_.size();
  expect(maker, program_->order);
  for (const Item& item : program_->order) {
    const int rate = plan_.rate_of(item);
    const bool idle = plan_.is_idle(item);
    if (rate != segment.rate || idle != segment.idle) {
      close(segment, segments_);
      maker.forget();
    }
    segment.rate = rate;
    segment.idle = idle;
    compile_item(maker, item, segment, segments_);
    segment.rate = rate;
    segment.idle = idle;
  }
  close(segment, segments_);
}

/// The code repeats with other values of the unknown, so it shares nothing with what stands around it.
std::int32_t Interpreter::compile_solve(CodeMaker& maker, std::size_t index) {
  const program::ImplicitEquation& s = program_->solves[index];
  SolveCode compiled;
  maker.forget();
  compiled.index = index;
  compiled.x = maker.place_of(s.x);
  compiled.residual = maker.compute(s.residual, compiled.code);
  compiled.derivative = maker.compute(s.derivative, compiled.code);
  compiled.scale = maker.compute(s.scale, compiled.code);
  if (s.lowest != kNone) {
    compiled.lowest = maker.compute(s.lowest, compiled.code);
    compiled.highest = maker.compute(s.highest, compiled.code);
  }
  maker.forget();
  solves_.push_back(std::move(compiled));
  return static_cast<std::int32_t>(solves_.size() - 1);
}

/// Assignments run one after the other, so nothing computed for one is known to the next.
Code Interpreter::compile_body(CodeMaker& maker, const std::vector<program::Assignment>& body) const {
  Code code;
  for (const program::Assignment& a : body) {
    maker.forget();
    maker.assign(a.target, a.value, code);
  }
  return code;
}

void Interpreter::compile_machines(CodeMaker& maker) {
  transition_code_.resize(plan_.rates.size());
  machines_.resize(program_->machines.size());
  for (std::size_t rate = 0; rate < plan_.rates.size(); ++rate) {
    maker.reserve();  // results of all rates are looked at together
    maker.forget();
    for (std::size_t i = 0; i < machines_.size(); ++i) {
      const program::StateMachine& m = program_->machines[i];
      if (plan_.rate_of(m.mode) != static_cast<int>(rate)) continue;
      for (const program::Transition& t : m.transitions)
        machines_[i].conditions.push_back(maker.compute(t.condition, transition_code_[rate]));
    }
  }
  maker.restart();
  for (std::size_t i = 0; i < machines_.size(); ++i) {
    const program::StateMachine& m = program_->machines[i];
    for (const auto& body : m.entry) machines_[i].entry.push_back(compile_body(maker, body));
    for (const auto& body : m.exit) machines_[i].exit.push_back(compile_body(maker, body));
    if (m.outer != kNone) machines_[static_cast<std::size_t>(m.outer)].inner.push_back(static_cast<std::int32_t>(i));
  }
}

/// Within a step a group works on registers of its own: the variables stay as they were settled, for other
/// groups that step from the same instant.
void Interpreter::compile_group(CodeMaker& maker, const GroupPlan& plan) {
  GroupCode& g = groups_.emplace_back();
  g.plan = &plan;
  for (const std::int32_t s : plan.group->states) {
    g.values.push_back(program_->states[static_cast<std::size_t>(s)].value);
    g.slopes_at.push_back(program_->states[static_cast<std::size_t>(s)].derivative);
  }
  maker.restart();
  for (const program::NodeId node : plan_.held_nodes(plan)) maker.compute(node, g.held);
  maker.keep();
  for (std::size_t i = 0; i < plan.group->states.size(); ++i) {
    const program::State& s = program_->states[static_cast<std::size_t>(plan.group->states[i])];
    if (s.lowest == kNone) continue;
    g.limits.push_back({i, maker.compute(s.lowest, g.held), maker.compute(s.highest, g.held)});
  }
  maker.reserve();
  maker.forget();
  const bool sloped = !plan.group->jacobian.empty() || !plan.group->df_dt.empty();
  if (sloped) {
    for (const program::Group::Slope& s : plan.group->jacobian)
      g.jacobian_registers.push_back(maker.compute(s.value, g.linear));
    for (const program::NodeId d : plan.group->df_dt)
      g.df_dt_registers.push_back(d == kNone ? kNone : maker.compute(d, g.linear));
  }
  maker.forget();
  g.time = maker.rename(program::kTime);
  for (std::size_t i = 0; i < plan.group->states.size(); ++i) {
    const std::int32_t to = maker.rename(program_->states[static_cast<std::size_t>(plan.group->states[i])].value);
    if (i == 0) g.first_state = to;
  }
  maker.room(5 * static_cast<std::int32_t>(plan.group->states.size()));  // the states begin the work of the method
  std::set<VarId> made;
  for (const std::int32_t place : plan.between) {
    const Item& item = program_->order[static_cast<std::size_t>(place)];
    if (item.kind != Item::Kind::tap) made.insert(program::target_of(*program_, item));
  }
  for (const VarId slope : g.slopes_at) {  // side by side, so before the others
    if (made.erase(slope) > 0) maker.rename(slope);
  }
  for (const VarId id : made) maker.rename(id);
  for (const std::int32_t place : plan.between) {
    const Item& item = program_->order[static_cast<std::size_t>(place)];
    if (item.kind != Item::Kind::solve) continue;
    const VarId target = program::target_of(*program_, item);
    g.guesses.emplace_back(maker.place_of(target), target);
  }
  maker.reserve();
  Segment segment;
  segment.begin = code_.size();
  std::vector<Item> items;
  for (const std::int32_t place : plan.between) items.push_back(program_->order[static_cast<std::size_t>(place)]);
  expect(maker, items);
  for (const Item& item : items) compile_item(maker, item, segment, g.between);
  close(segment, g.between);
  for (const std::int32_t s : plan.group->states)
    g.derivatives.push_back(maker.place_of(program_->states[static_cast<std::size_t>(s)].derivative));
  make_room(g);
  maker.restart();
}

void Interpreter::make_room(GroupCode& g) const {
  const std::size_t n = g.plan->group->states.size();
  g.x.resize(n);
  g.k1.resize(n);
  g.before.resize(n);
  if (g.jacobian_registers.empty() && g.df_dt_registers.empty()) return;
  g.jacobian.resize(n * n);
  g.df_dt.resize(n);
  g.rows.resize(n);
  if (g.plan->group->method == Method::exact) g.known.resize(7 * n * n + 1);
}

void Interpreter::link(const CodeMaker& maker, std::vector<Segment>& segments) {
  for (Segment& s : segments) {
    s.target = maker.linked(s.target);
    if (s.item.kind == Item::Kind::delay) s.operand = maker.linked(s.operand);
  }
}

void Interpreter::link(const CodeMaker& maker) {
  const auto link_all = [&](std::vector<std::int32_t>& registers) {
    for (std::int32_t& r : registers) r = r == kNone ? kNone : maker.linked(r);
  };
  maker.link(code_);
  for (auto* list : {&transition_code_, &event_code_, &delay_code_, &task_code_, &event_bodies_}) {
    for (Code& code : *list) maker.link(code);
  }
  for (auto& [target, code] : start_code_) maker.link(code);
  link(maker, segments_);
  for (MachineCode& m : machines_) {
    link_all(m.conditions);
    for (Code& code : m.entry) maker.link(code);
    for (Code& code : m.exit) maker.link(code);
  }
  link_all(event_conditions_);
  link_all(ring_inputs_);
  for (SolveCode& s : solves_) {
    maker.link(s.code);
    for (std::int32_t* r : {&s.x, &s.residual, &s.derivative, &s.scale}) *r = maker.linked(*r);
    if (s.lowest == kNone) continue;
    s.lowest = maker.linked(s.lowest);
    s.highest = maker.linked(s.highest);
  }
  for (GroupCode& g : groups_) {
    maker.link(g.held);
    maker.link(g.linear);
    link(maker, g.between);
    for (Limits& l : g.limits) {
      l.lowest = maker.linked(l.lowest);
      l.highest = maker.linked(l.highest);
    }
    g.time = maker.linked(g.time);
    g.first_state = maker.linked(g.first_state);
    link_all(g.derivatives);
    const auto first_of = [](const std::vector<std::int32_t>& row) {
      return program::first_of_row(row.size(), [&](std::size_t i) { return row[i]; });
    };
    g.first_value = first_of(g.values);
    g.first_slope = first_of(g.slopes_at);
    g.first_derivative = first_of(g.derivatives);
    g.plain = g.between.size() == 1 && !g.between.front().has_item && g.guesses.empty() && g.limits.empty() &&
              g.first_derivative != kNone;
    link_all(g.jacobian_registers);
    link_all(g.df_dt_registers);
    for (auto& [to, from] : g.guesses) to = maker.linked(to);
  }
}

}  // namespace isodyne::engine
