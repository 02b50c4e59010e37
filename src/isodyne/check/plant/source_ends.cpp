#include "isodyne/check/plant/source_ends.h"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "isodyne/program/later.h"
#include "isodyne/program/nodes.h"

namespace isodyne::check {

namespace {

/// What sources of one network are going to be at the end of its step.
class SourceEnds {
 public:
  SourceEnds(Check& check, const Network& network)
      : check_(check), p_(check.program), group_(network.group), step_(to_seconds(at(p_.groups, network.group).step)) {
    for (const Tap& t : p_.taps) tapped_.insert(t.target);
    for (const Network& n : p_.networks) {
      for (const VarId id : n.outputs) {
        if (p_.variable(id).type.kind == Type::Kind::real) unknown_.insert(id);
      }
    }
    for (const Delay& d : p_.delays) {
      if (!d.held) unknown_.insert(d.out);
    }
    for (const ImplicitEquation& s : p_.solves) unknown_.insert(s.x);
    const NodeId span = number(p_, step_);
    later_[kTime] = operation(p_, Op::add, reading(p_, kTime), span);
    for (const State& s : p_.states) {
      if (!mine(s.value)) continue;
      NodeId end =
          operation(p_, Op::add, reading(p_, s.value), operation(p_, Op::mul, reading(p_, s.derivative), span));
      if (s.lowest != kNone) end = operation(p_, Op::max, end, s.lowest);
      if (s.highest != kNone) end = operation(p_, Op::min, end, s.highest);
      later_[s.value] = end;
    }
  }

  /// Of each of these, the quantity that is what it comes to; kNone: it is held.
  std::vector<VarId> of(const std::vector<VarId>& sources) {
    std::unordered_set<VarId> needed(sources.begin(), sources.end());
    std::vector<std::int32_t> wanted;
    for (std::size_t place = p_.order.size(); place-- > 0;) {
      const Item& item = p_.order[place];
      if (item.kind != Item::Kind::equation) continue;
      const Assignment& e = p_.equations[static_cast<std::size_t>(item.index)];
      if (!mine(e.target) || !needed.contains(e.target)) continue;
      wanted.push_back(item.index);
      for (const VarId read : p_.reads(e.value)) needed.insert(read);
    }
    for (std::size_t i = wanted.size(); i-- > 0;) follow(p_.equations[static_cast<std::size_t>(wanted[i])]);
    std::vector<VarId> ends;
    for (const VarId source : sources) {
      const auto known = later_.find(source);
      ends.push_back(known == later_.end() ? kNone : p_.node(known->second).variable);
    }
    return ends;
  }

 private:
  bool mine(VarId id) const { return p_.variable(id).group == group_; }

  void follow(const Assignment e) {
    std::unordered_map<VarId, NodeId> later;
    for (const VarId read : p_.reads(e.value)) {
      if (unknown_.contains(read)) {
        // What it only decides between (`if breaker.i > 5 A then …`) has no part in how quickly it moves.
        if (later_of(p_, e.value, {{read, number(p_, 0)}}) == e.value) continue;
        unknown_.insert(e.target);
        return;
      }
      const auto known = later_.find(read);
      if (known != later_.end()) later[read] = known->second;
    }
    NodeId made = later_of(p_, e.value, later);
    if (made == e.value) return;
    // While a fault replaces it, it is not what its equation says.
    if (tapped_.contains(e.target)) {
      const NodeId now = reading(p_, e.target);
      made = operation(p_, Op::select, operation(p_, Op::eq, now, e.value), made, now);
    }
    // A quantity, so that several may read it and none computes it again.
    const Variable v = p_.variable(e.target);  // a copy: the list of variables grows
    later_[e.target] = reading(p_, quantity(v.name + " later", v.type, v.unit, made, v.span));
  }

  VarId quantity(std::string name, const Type& type, const Unit& unit, NodeId value, Span span) {
    const VarId id = check_.define_hidden(std::move(name), type, unit, group_);
    Item last;
    last.index = static_cast<std::int32_t>(p_.equations.size());
    p_.order.push_back(last);
    p_.equations.push_back({id, value, span});
    return id;
  }

  Check& check_;
  Program& p_;
  std::int32_t group_;
  double step_;
  /// Nodes for what is known at the end of the step, and what is not.
  std::unordered_map<VarId, NodeId> later_;
  std::unordered_set<VarId> unknown_, tapped_;
};

}  // namespace

void add_source_ends(Check& check) {
  for (std::size_t i = 0; i < check.program.networks.size(); ++i) {
    std::vector<VarId> sources;
    std::vector<std::size_t> elements;
    const auto& all = check.program.networks[i].elements;
    for (std::size_t e = 0; e < all.size(); ++e) {
      if (all[e].model != "VoltageSource" && all[e].model != "CurrentSource") continue;
      sources.push_back(all[e].inputs.front().id);
      elements.push_back(e);
    }
    if (sources.empty() || at(check.program.groups, check.program.networks[i].group).step.count() == 0) continue;
    const std::vector<VarId> ends = SourceEnds(check, check.program.networks[i]).of(sources);
    Network& network = check.program.networks[i];
    for (std::size_t k = 0; k < ends.size(); ++k) {
      if (ends[k] == kNone) continue;
      auto& inputs = network.elements[elements[k]].inputs;
      inputs.push_back({inputs.front().name + " later", ends[k]});
    }
    network.list_quantities();
  }
}

}  // namespace isodyne::check
