#include "isodyne/check/plant/source_slopes.h"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "isodyne/program/derivative.h"
#include "isodyne/program/elements.h"
#include "isodyne/program/nodes.h"

namespace isodyne::check {

namespace {

/// Rates in time of what sources of one network read.
class SourceSlopes {
 public:
  SourceSlopes(Check& check, const Network& network) : check_(check), p_(check.program), group_(network.group) {
    for (std::size_t i = 0; i < p_.taps.size(); ++i) tapped_.insert(p_.taps[i].target);
    for (const State& s : p_.states) {
      const bool limited = s.lowest != kNone || s.highest != kNone;
      if (mine(s.value)) (limited ? unknown_.insert(s.value), void() : void(rate_[s.value] = {s.derivative, kNone}));
    }
    for (const Network& n : p_.networks) {
      for (const VarId id : n.outputs) {
        if (p_.variable(id).type.kind == Type::Kind::real) unknown_.insert(id);
      }
    }
    for (const Delay& d : p_.delays) {
      if (!d.held) unknown_.insert(d.out);
    }
    for (const ImplicitEquation& s : p_.solves) unknown_.insert(s.x);
  }

  /// Of each of these, the quantity that is its rate; kNone: it is held.
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
    std::vector<VarId> rates;
    for (const VarId source : sources) {
      const auto known = rate_.find(source);
      rates.push_back(known == rate_.end() ? kNone : quantity_of(source, known->second));
    }
    return rates;
  }

 private:
  /// A quantity that has it, or the value of one that is not made yet.
  struct Rate {
    VarId quantity = kNone;
    NodeId value = kNone;
  };

  bool mine(VarId id) const { return p_.variable(id).group == group_; }

  void follow(const Assignment e) {
    std::unordered_map<VarId, NodeId> slopes;
    for (const VarId read : p_.reads(e.value)) {
      if (unknown_.contains(read)) {
        // What it only decides between (`if breaker.i > 5 A then …`) has no part in how quickly it moves.
        if (derivative_of(p_, e.value, {{read, number(p_, 1)}}) == kNone) continue;
        unknown_.insert(e.target);
        return;
      }
      if (read == kTime) slopes[read] = number(p_, 1);
      const auto known = rate_.find(read);
      if (known != rate_.end()) slopes[read] = reading(p_, quantity_of(read, known->second));
    }
    NodeId made = slopes.empty() ? kNone : derivative_of(p_, e.value, slopes);
    if (made == kNone) return;
    // While a fault replaces it, it is not what its equation says.
    if (tapped_.contains(e.target))
      made = operation(p_, Op::select, operation(p_, Op::eq, reading(p_, e.target), e.value), made, number(p_, 0));
    rate_[e.target] = {kNone, made};
  }

  /// What nobody reads needs no quantity.
  VarId quantity_of(VarId id, Rate& rate) {
    if (rate.quantity != kNone) return rate.quantity;
    const Variable v = p_.variable(id);  // a copy: the list of variables grows
    const Dimension per_second = divide(v.type.dimension, parse_unit("s")->dimension).value_or(Dimension{});
    const std::string name = v.name + " slope";
    rate.quantity = check_.define_hidden(name, {Type::Kind::real, per_second, kNone}, si_unit(per_second), group_);
    const Item last{Item::Kind::equation, static_cast<std::int32_t>(p_.equations.size())};
    p_.order.push_back(last);
    p_.equations.push_back({rate.quantity, rate.value, v.span});
    return rate.quantity;
  }

  Check& check_;
  Program& p_;
  std::int32_t group_;
  std::unordered_map<VarId, Rate> rate_;
  std::unordered_set<VarId> unknown_, tapped_;
};

}  // namespace

void add_source_slopes(Check& check) {
  for (std::size_t i = 0; i < check.program.networks.size(); ++i) {
    std::vector<VarId> sources;
    std::vector<std::size_t> elements;
    const auto& all = check.program.networks[i].elements;
    for (std::size_t e = 0; e < all.size(); ++e) {
      if (all[e].model != "VoltageSource" && all[e].model != "CurrentSource") continue;
      sources.push_back(all[e].inputs.front().id);
      elements.push_back(e);
    }
    if (sources.empty()) continue;
    const std::vector<VarId> rates = SourceSlopes(check, check.program.networks[i]).of(sources);
    Network& network = check.program.networks[i];
    for (std::size_t k = 0; k < rates.size(); ++k) {
      if (rates[k] == kNone) continue;
      auto& inputs = network.elements[elements[k]].inputs;
      inputs.push_back({inputs.front().name + " slope", rates[k]});
    }
    network.list_quantities();
  }
}

}  // namespace isodyne::check
