#pragma once
// Interval bounds on robustness over a block: if they prove that neither verdict nor worst margin can change, the exact
// pass is skipped. A block costs about what one instant costs exactly. Not used where a stretch is not calm: then
// bounds prove nothing, and are not tried for a while.

#include <deque>
#include <vector>

#include "isodyne/judge/keys.h"
#include "isodyne/judge/sliding_fold.h"

namespace isodyne::judge {

/// Of the keys of a block.
struct Bounds {
  std::int64_t low = kLeast, high = kMost;    ///< all of them lie between these,
  std::int64_t least = kMost, most = kLeast;  ///< some are at most this, some at least that
};

class Outline {
 public:
  /// Whether a formula has one: those that look back to the beginning, or stretch until something, have not.
  static bool can(const program::Requirement& r);
  explicit Outline(const program::Requirement& r);

  /// The next block: its first and last instant, and each leaf within it.
  void take(Time begin, Time end, const std::vector<Bounds>& leaves);
  /// The next block of which both are known, in order; false if there is none. Without a trigger that always holds.
  bool next(Bounds& trigger, Bounds& check);

 private:
  struct Span {
    Time begin{}, end{};
  };
  /// Blocks that have gone into a fold and out of it.
  struct Window {
    SlidingFold<std::int64_t, Least> fold;
    std::int64_t begin = 0, end = 0;

    void push(std::int64_t key) {
      fold.push(key);
      ++end;
    }
    void pop() {
      fold.pop();
      ++begin;
    }
    bool empty() const { return begin == end; }
  };
  struct Node {
    program::FormulaNode node;
    Queue<Bounds> said;     ///< and not yet taken by what it is an operand of
    std::int64_t told = 0;  ///< the next block that it tells of
    // Of an operator over time:
    Queue<Bounds> own;  ///< its operand, from block `told` on
    Window touching;    ///< lows of blocks that some window of the block reaches into
    Window inside;      ///< leasts of other blocks that all of its windows contain
  };

  void logic(Node& n);
  void ahead(Node& n);
  void behind(Node& n);
  Bounds folded(const Node& n) const;
  void tell(Node& n, Bounds b);
  const Span& span(std::int64_t block) const { return spans_[static_cast<std::size_t>(block - first_)]; }
  Queue<Bounds>& said(std::int32_t place) { return nodes_[static_cast<std::size_t>(place)].said; }
  void forget();

  std::vector<Node> nodes_;
  std::deque<Span> spans_;
  std::int64_t first_ = 0;  ///< block of spans_[0]
  Time begin_{};            ///< of the run
  std::int32_t trigger_, check_;
};

}  // namespace isodyne::judge
