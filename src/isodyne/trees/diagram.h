#pragma once
// Decision diagrams: truths as binary ones, families of sets as those where a missing event is in no set.
//
// Bryant, "Graph-based algorithms for Boolean function manipulation", 1986; Minato, "Zero-suppressed BDDs", 1993;
// Rauzy, "New algorithms for fault trees analysis", 1993. A node stands after the nodes that it leads to, so what goes
// from the leaves to the root, or back, is a loop over them.
//
// Operations go as deep as there are variables: with_deep_stack().

#include <cstdint>
#include <functional>
#include <vector>

namespace isodyne::trees {

/// More nodes would be needed than are allowed.
struct TooManyNodes {};

class Diagram {
 public:
  using Ref = std::uint32_t;
  static constexpr Ref kFalse = 0, kTrue = 1;  ///< of sets: no set at all; the one that has nothing in it
  enum class Kind { truths, sets };

  explicit Diagram(Kind kind, std::size_t most_nodes);

  struct Node {
    std::uint32_t variable;
    Ref low, high;  ///< without and with it
  };
  const Node& at(Ref r) const { return nodes_[r]; }
  std::size_t size() const { return nodes_.size(); }
  /// With the two leaves.
  static bool is_leaf(Ref r) { return r <= kTrue; }

  Ref node(std::uint32_t variable, Ref low, Ref high);

  /// Of truths.
  Ref both(Ref a, Ref b) { return combined(kBoth, a, b); }
  Ref either(Ref a, Ref b) { return combined(kEither, a, b); }
  /// Of sets: those of `a` that have no set of `b` within them.
  Ref without(Ref a, Ref b);

  /// The nodes that a root leads to, in ascending order, without leaves.
  std::vector<Ref> below(Ref root) const;

 private:
  enum Operation : std::uint32_t { kBoth, kEither, kWithout };
  struct Known {
    Ref a = 0, b = 0, result = 0;
    std::uint32_t operation = ~0u;
  };
  Ref combined(Operation operation, Ref a, Ref b);
  Known& known(Operation operation, Ref a, Ref b);
  void grow();

  Kind kind_;
  std::size_t most_;
  std::vector<Node> nodes_;
  std::vector<bool> lowest_;  ///< of each node the leaf at which `low` after `low` ends: of sets, whether one is empty
  std::vector<Ref> table_;  ///< open addressing; 0: free
  std::vector<Known> known_;
};

/// Calls it on a thread with a stack for recursion over 10^5 variables; what it throws is thrown here.
void with_deep_stack(const std::function<void()>& work);

}  // namespace isodyne::trees
