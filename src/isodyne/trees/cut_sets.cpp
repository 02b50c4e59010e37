#include "isodyne/trees/cut_sets.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <queue>

#include <fmt/format.h>

namespace isodyne::trees {

using program::TreeGate;
using program::TreeInput;
using Ref = Diagram::Ref;

namespace {

constexpr std::uint32_t kNotInTree = ~0u;

/// Orders of the events for the diagram. A good one is known only when it was tried; events that meet in a gate should
/// be near each other.
class EventOrders {
 public:
  explicit EventOrders(const FaultTree& tree) : tree_(tree) {
    // How much stands below a gate, shared parts as often as they are used.
    for (const TreeGate& g : tree.gates) {
      double sum = 0;
      for (const TreeInput& in : g.of) sum += in.gate ? below_[static_cast<std::size_t>(in.index)] : 1;
      below_.push_back(sum);
    }
  }

  enum class By { text, small_first, large_first };

  std::vector<std::int32_t> depth_first(By by) const {
    std::vector<std::int32_t> order;
    std::vector<bool> events(tree_.events.size()), gates(tree_.gates.size());
    std::vector<TreeInput> open{tree_.top};
    while (!open.empty()) {
      const TreeInput in = open.back();
      open.pop_back();
      const auto i = static_cast<std::size_t>(in.index);
      auto seen = in.gate ? gates.begin() + in.index : events.begin() + in.index;
      if (*seen) continue;
      *seen = true;
      if (!in.gate) {
        order.push_back(in.index);
        continue;
      }
      std::vector<TreeInput> of = tree_.gates[i].of;
      if (by != By::text)
        std::stable_sort(of.begin(), of.end(), [&](const TreeInput& a, const TreeInput& b) {
          return by == By::small_first ? size(a) < size(b) : size(b) < size(a);
        });
      open.insert(open.end(), of.rbegin(), of.rend());
    }
    return order;
  }

 private:
  double size(const TreeInput& in) const { return in.gate ? below_[static_cast<std::size_t>(in.index)] : 1; }
  const FaultTree& tree_;
  std::vector<double> below_;
};

}  // namespace

std::string count_text(double count) {
  constexpr double kExact = 9007199254740992;  // 2^53
  return count < kExact ? fmt::format("{:.0f}", count) : fmt::format("about {:.3g}", count);
}

Result<CutSets> CutSets::of(const FaultTree& tree, std::size_t most_nodes) {
  using By = EventOrders::By;
  const EventOrders orders(tree);
  for (const By by : {By::text, By::small_first, By::large_first}) {
    CutSets made(tree);
    try {
      with_deep_stack([&] { made.solve(orders.depth_first(by), most_nodes); });
      return made;
    } catch (const TooManyNodes&) {
      continue;
    }
  }
  return Failure{
      "cannot find the cut sets of", tree.name,
      fmt::format("its diagrams have more than {} nodes, in each of 3 orders of its events; look at gates of "
                  "it by themselves, as hazards of their own",
                  most_nodes)};
}

void CutSets::solve(const std::vector<std::int32_t>& order, std::size_t most_nodes) {
  event_of_ = order;
  variable_of_.assign(tree_->events.size(), kNotInTree);
  for (std::size_t i = 0; i < order.size(); ++i)
    variable_of_[static_cast<std::size_t>(order[i])] = static_cast<std::uint32_t>(i);
  Diagram diagram(Diagram::Kind::truths, most_nodes);
  const Ref top = truths(diagram);
  truth_nodes_ = diagram.below(top).size();
  sets_ = std::make_unique<Diagram>(Diagram::Kind::sets, most_nodes);
  root_ = minimal(diagram, top);
  below_ = sets_->below(root_);
  count_them();
  probabilities(diagram, top);
}

Ref CutSets::truths(Diagram& d) const {
  std::vector<Ref> gates;
  const auto input = [&](const TreeInput& in) {
    const auto i = static_cast<std::size_t>(in.index);
    if (in.gate) return gates[i];
    return variable_of_[i] == kNotInTree ? Diagram::kFalse : d.node(variable_of_[i], Diagram::kFalse, Diagram::kTrue);
  };
  for (const TreeGate& g : tree_->gates) {
    std::vector<Ref> of;
    for (const TreeInput& in : g.of) of.push_back(input(in));
    // From the last variable to the first, so that each step has little to go through.
    std::stable_sort(of.begin(), of.end(), [&](Ref a, Ref b) { return d.at(b).variable < d.at(a).variable; });
    const std::size_t least = g.kind == TreeGate::Kind::any        ? 1
                              : g.kind == TreeGate::Kind::at_least ? static_cast<std::size_t>(g.least)
                                                                   : of.size();
    if (least == 1 || least == of.size()) {
      Ref all = least == 1 ? Diagram::kFalse : Diagram::kTrue;
      for (const Ref r : of) all = least == 1 ? d.either(r, all) : d.both(r, all);
      gates.push_back(all);
      continue;
    }
    // at[k]: of those so far, k or more.
    std::vector<Ref> at(least + 1, Diagram::kFalse);
    at[0] = Diagram::kTrue;
    for (const Ref r : of) {
      for (std::size_t k = least; k > 0; --k) at[k] = d.either(d.both(r, at[k - 1]), at[k]);
    }
    gates.push_back(at[least]);
  }
  return input(tree_->top);
}

Ref CutSets::minimal(const Diagram& d, Ref root) {
  // A set without the event is minimal by itself; one with it is, if no set without it lies within.
  std::vector<Ref> of(root + 1, Diagram::kFalse);
  if (!Diagram::is_leaf(root)) of[Diagram::kTrue] = Diagram::kTrue;
  for (const Ref r : d.below(root)) {
    const Diagram::Node& n = d.at(r);
    of[r] = sets_->node(n.variable, of[n.low], sets_->without(of[n.high], of[n.low]));
  }
  return Diagram::is_leaf(root) ? root : of[root];
}

void CutSets::count_them() {
  using Counts = std::array<double, kOrders>;
  std::vector<Counts> of(root_ + 1, Counts{});
  if (root_ != Diagram::kFalse) of[Diagram::kTrue][0] = 1;
  for (const Ref r : below_) {
    const Diagram::Node& n = sets_->at(r);
    of[r] = of[n.low];
    for (std::size_t k = 0; k < kOrders; ++k) of[r][std::min(k + 1, kOrders - 1)] += of[n.high][k];
  }
  by_order_ = of[root_];
  for (const double n : by_order_) count_ += n;
}

double CutSets::weight(std::uint32_t variable) const {
  return *tree_->events[static_cast<std::size_t>(event_of_[variable])].probability;
}

std::vector<std::int32_t> CutSets::in_none() const {
  std::vector<bool> used(tree_->events.size());
  for (const Ref r : below_) used[static_cast<std::size_t>(event_of_[sets_->at(r).variable])] = true;
  std::vector<std::int32_t> none;
  for (std::size_t e = 0; e < used.size(); ++e) {
    if (!used[e]) none.push_back(static_cast<std::int32_t>(e));
  }
  return none;
}

void CutSets::probabilities(const Diagram& d, Ref root) {
  const auto none = in_none();
  for (std::size_t e = 0; e < tree_->events.size(); ++e) {
    const auto id = static_cast<std::int32_t>(e);
    if (!tree_->events[e].probability && !std::binary_search(none.begin(), none.end(), id)) unknown_.push_back(id);
  }
  if (!unknown_.empty()) return;
  std::vector<double> of(root + 1, 0.0);
  if (!Diagram::is_leaf(root)) of[Diagram::kTrue] = 1;
  for (const Ref r : d.below(root)) {
    const Diagram::Node& n = d.at(r);
    // Of a coherent tree the diagram has no events but those of its minimal cut sets.
    const double p = weight(n.variable);
    of[r] = p * of[n.high] + (1 - p) * of[n.low];
  }
  probability_ = root == Diagram::kTrue ? 1 : of[root];
  importances(d, root, of);
}

void CutSets::importances(const Diagram& d, Ref root, const std::vector<double>& of_node) {
  importance_.assign(tree_->events.size(), {});
  // How probable it is to come by a node from the root.
  std::vector<double> comes(root + 1, 0.0);
  comes[root] = 1;
  const auto nodes = d.below(root);
  for (auto it = nodes.rbegin(); it != nodes.rend(); ++it) {
    const Diagram::Node& n = d.at(*it);
    const double p = weight(n.variable);
    comes[n.high] += p * comes[*it], comes[n.low] += (1 - p) * comes[*it];
    importance_[static_cast<std::size_t>(event_of_[n.variable])].birnbaum +=
        comes[*it] * (of_node[n.high] - of_node[n.low]);
  }
  std::vector<double> sum(root_ + 1, 0.0), by(root_ + 1, 0.0);
  if (root_ != Diagram::kFalse) sum[Diagram::kTrue] = 1;
  for (const Ref r : below_) sum[r] = weight(sets_->at(r).variable) * sum[sets_->at(r).high] + sum[sets_->at(r).low];
  bound_ = sum[root_];
  by[root_] = 1;
  for (auto it = below_.rbegin(); it != below_.rend(); ++it) {
    const Diagram::Node& n = sets_->at(*it);
    const double p = weight(n.variable);
    importance_[static_cast<std::size_t>(event_of_[n.variable])].fussell_vesely += by[*it] * p * sum[n.high];
    by[n.high] += p * by[*it], by[n.low] += by[*it];
  }
  const double top = *probability_;
  for (std::size_t e = 0; e < importance_.size(); ++e) {
    Importance& i = importance_[e];
    const double p = tree_->events[e].probability.value_or(0);
    i.criticality = top > 0 ? i.birnbaum * p / top : 0;
    i.fussell_vesely = *bound_ > 0 ? i.fussell_vesely / *bound_ : 0;
    i.achievement = top > 0 ? (top + (1 - p) * i.birnbaum) / top : 0;
    const double never = top - p * i.birnbaum;
    // What is left of a difference of equal numbers is nothing.
    i.reduction = never > top * 1e-12 ? top / never : std::numeric_limits<double>::infinity();
  }
}

CutSet CutSets::made(std::vector<std::int32_t> events) const {
  std::sort(events.begin(), events.end());
  CutSet set{std::move(events), 1};
  for (const std::int32_t e : set.events) {
    const auto& p = tree_->events[static_cast<std::size_t>(e)].probability;
    set.probability = p && set.probability ? std::optional(*p * *set.probability) : std::nullopt;
  }
  return set;
}

std::vector<CutSet> CutSets::first(std::size_t most) const {
  const bool known = unknown_.empty();
  const auto factor = [&](std::uint32_t variable) { return known ? weight(variable) : 0.5; };
  std::vector<double> best(root_ + 1, 0.0);
  if (root_ != Diagram::kFalse) best[Diagram::kTrue] = 1;
  for (const Ref r : below_) {
    const Diagram::Node& n = sets_->at(r);
    best[r] = std::max(best[n.low], factor(n.variable) * best[n.high]);
  }
  // Ways down from the root, the one that may come to the most first.
  struct Way {
    double may, so_far;
    std::uint32_t depth;
    std::size_t number;
    Ref at;
    std::int64_t taken;  ///< a place in `steps`; -1: nothing
  };
  const auto later = [](const Way& a, const Way& b) {
    if (a.may != b.may) return a.may < b.may;
    if (a.depth != b.depth) return a.depth < b.depth;
    return a.number > b.number;
  };
  std::vector<std::pair<std::int32_t, std::int64_t>> steps;  // an event, and the step before it
  std::priority_queue<Way, std::vector<Way>, decltype(later)> ways(later);
  std::size_t number = 0;
  if (root_ != Diagram::kFalse) ways.push({best[root_], 1, 0, number++, root_, -1});
  std::vector<CutSet> found;
  while (!ways.empty() && found.size() < most) {
    const Way way = ways.top();
    ways.pop();
    if (way.at == Diagram::kTrue) {
      std::vector<std::int32_t> events;
      for (std::int64_t s = way.taken; s >= 0; s = steps[static_cast<std::size_t>(s)].second)
        events.push_back(steps[static_cast<std::size_t>(s)].first);
      found.push_back(made(std::move(events)));
      continue;
    }
    const Diagram::Node& n = sets_->at(way.at);
    steps.emplace_back(event_of_[n.variable], way.taken);
    const double with = way.so_far * factor(n.variable);
    // The better way has exactly what was hoped for, whatever rounding says, and so is gone to its end next.
    const bool high = factor(n.variable) * best[n.high] >= best[n.low];
    ways.push({high ? way.may : std::min(way.may, with * best[n.high]), with, way.depth + 1, number++, n.high,
               static_cast<std::int64_t>(steps.size()) - 1});
    if (n.low != Diagram::kFalse)
      ways.push({high ? std::min(way.may, way.so_far * best[n.low]) : way.may, way.so_far, way.depth + 1, number++,
                 n.low, way.taken});
  }
  std::stable_sort(found.begin(), found.end(), [&](const CutSet& a, const CutSet& b) {
    if (known && *a.probability != *b.probability) return *a.probability > *b.probability;
    if (!known && a.events.size() != b.events.size()) return a.events.size() < b.events.size();
    return a.events < b.events;
  });
  return found;
}

std::vector<CutSet> CutSets::up_to(std::size_t order, std::size_t most) const {
  constexpr std::size_t kNever = std::numeric_limits<std::size_t>::max() / 2;
  std::vector<std::size_t> fewest(root_ + 1, kNever);
  if (root_ != Diagram::kFalse) fewest[Diagram::kTrue] = 0;
  for (const Ref r : below_) fewest[r] = std::min(fewest[sets_->at(r).low], fewest[sets_->at(r).high] + 1);
  std::vector<CutSet> found;
  struct Way {
    Ref at;
    std::vector<std::int32_t> events;
  };
  for (std::size_t wanted = 0; wanted <= order && found.size() < most; ++wanted) {
    std::vector<Way> ways;
    const std::size_t before = found.size();
    if (root_ != Diagram::kFalse && fewest[root_] <= wanted) ways.push_back({root_, {}});
    while (!ways.empty() && found.size() < most) {
      const Way way = std::move(ways.back());
      ways.pop_back();
      if (way.at == Diagram::kTrue) {
        if (way.events.size() == wanted) found.push_back(made(way.events));
        continue;
      }
      const Diagram::Node& n = sets_->at(way.at);
      if (fewest[n.low] + way.events.size() <= wanted) ways.push_back({n.low, way.events});
      if (fewest[n.high] + way.events.size() + 1 > wanted) continue;
      ways.push_back({n.high, way.events});
      ways.back().events.push_back(event_of_[n.variable]);
    }
    std::sort(found.begin() + static_cast<std::ptrdiff_t>(before), found.end(),
              [](const CutSet& a, const CutSet& b) { return a.events < b.events; });
  }
  return found;
}

}  // namespace isodyne::trees
