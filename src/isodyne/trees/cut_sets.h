#pragma once
// What a fault tree says: its minimal cut sets, how probable its top is, and which events matter.
//
// The top becomes a binary decision diagram, its minimal cut sets a zero-suppressed one (Rauzy 1993), without any cut
// by order or by probability. Exact probability: over the binary diagram, events independent of each other. Rare-event
// bound: the sum over the minimal cut sets of the products of their events; never below the exact one.
//
// Importance of an event e (IEC 61025 and the literature after Birnbaum 1969, Fussell 1975), P: probability of the top.
//   Birnbaum          P(e has happened) - P(e has not)
//   criticality       Birnbaum * p(e) / P
//   Fussell-Vesely    sum over the cut sets with e, as a part of the sum over all (rare-event form)
//   achievement worth P(e has happened) / P
//   reduction worth   P / P(e has not)

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/trees/diagram.h"
#include "isodyne/trees/fault_tree.h"

namespace isodyne::trees {

struct CutSet {
  std::vector<std::int32_t> events;   ///< of the tree, ascending
  std::optional<double> probability;  ///< the product; none: an event of it has none
};

struct Importance {
  double birnbaum = 0, criticality = 0, fussell_vesely = 0, achievement = 0;
  double reduction = 0;  ///< infinite: without the event the top is never reached
};

/// "46188", or "about 1.3e+17" where the number is not exact any more.
std::string count_text(double count);

class CutSets {
 public:
  static constexpr std::size_t kMostNodes = std::size_t{1} << 24;
  static constexpr std::size_t kOrders = 16;

  /// A Failure: the diagrams have more nodes than `most_nodes` in each order of the events that was tried.
  static Result<CutSets> of(const FaultTree& tree, std::size_t most_nodes = kMostNodes);

  /// A whole number, exact to 2^53.
  double count() const { return count_; }
  /// How many have so many events; the last place: so many or more.
  const std::array<double, kOrders>& by_order() const { return by_order_; }
  /// Events that are in no minimal cut set.
  std::vector<std::int32_t> in_none() const;
  /// Of the diagrams, without leaves: how large the work was.
  std::size_t truth_nodes() const { return truth_nodes_; }
  std::size_t set_nodes() const { return below_.size(); }

  /// Events of the tree that have no probability and are in a cut set; where there are any, there is none of the top.
  const std::vector<std::int32_t>& without_probability() const { return unknown_; }
  std::optional<double> probability() const { return probability_; }
  std::optional<double> rare_event_bound() const { return bound_; }
  /// Of each event of the tree; empty where there is no probability.
  const std::vector<Importance>& importance() const { return importance_; }

  /// So many, the most probable first; where probabilities are not known, those with the fewest events. Ties: by the
  /// order of the events.
  std::vector<CutSet> first(std::size_t most) const;
  /// All with at most so many events, but not more than `most` of them; fewest events first.
  std::vector<CutSet> up_to(std::size_t order, std::size_t most) const;

 private:
  explicit CutSets(const FaultTree& tree) : tree_(&tree) {}
  void solve(const std::vector<std::int32_t>& order, std::size_t most_nodes);
  Diagram::Ref truths(Diagram& truths) const;
  Diagram::Ref minimal(const Diagram& truths, Diagram::Ref root);
  void count_them();
  void probabilities(const Diagram& truths, Diagram::Ref root);
  void importances(const Diagram& truths, Diagram::Ref root, const std::vector<double>& of_node);
  double weight(std::uint32_t variable) const;
  CutSet made(std::vector<std::int32_t> events) const;

  const FaultTree* tree_;                   ///< outlives this
  std::vector<std::int32_t> event_of_;      ///< of a variable
  std::vector<std::uint32_t> variable_of_;  ///< of an event
  std::unique_ptr<Diagram> sets_;
  Diagram::Ref root_ = Diagram::kFalse;
  std::vector<Diagram::Ref> below_;  ///< the nodes of the root
  std::size_t truth_nodes_ = 0;
  double count_ = 0;
  std::array<double, kOrders> by_order_{};
  std::vector<std::int32_t> unknown_;
  std::optional<double> probability_, bound_;
  std::vector<Importance> importance_;
};

}  // namespace isodyne::trees
