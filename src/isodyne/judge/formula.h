#pragma once
// Formulas over time, from instant to instant: what each says of an instant comes as soon as it is certain.
//
// Semantics: signal temporal logic over the instants of images (Maler and Nickovic, "Monitoring Temporal Properties of
// Continuous Signals", 2004), with the distances of Fainekos and Pappas (2009). At the end of a run what lies ahead of
// it is unknown: an instant then has a worst and a best case.
//
// Inside, what is said of an instant is one whole number, the key: the distance in the order of doubles, in which a
// minus zero does not hold and a plus zero does. Then `and` is the smaller, `or` the larger, and `not` the complement.
//
// Memory: an operator keeps as many instants as its time holds. Time: constant an instant on average.

#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/block.h"
#include "isodyne/model/program.h"

namespace isodyne::judge {

/// What a formula says of an instant, at worst and at best: the same before the end of a run.
struct Value {
  double low = 0, high = 0;                ///< distance from changing, SI; ±infinity where there is none
  bool certain = false, possible = false;  ///< whether it holds

  bool decided() const { return certain == possible; }
};

struct Range;
template <typename V>
class Machine;

class Formula {
 public:
  /// The expressions that it needs: two for each node.
  static void collect(const model::Requirement& r, std::vector<model::NodeId>& expressions);
  /// `first`: where its expressions begin among those of an evaluator.
  Formula(const model::Requirement& r, std::size_t first);
  ~Formula();
  Formula(Formula&&) noexcept;
  Formula& operator=(Formula&&) noexcept;

  /// The next images, whose expressions are evaluated.
  void block(const Time* at, std::size_t count, const engine::BlockEvaluator& expressions);
  /// There are no more images: everything that is left is said, with its worst and best case.
  void finish();

  /// Instants of which everything is said, while the run goes on: the least key, if the trigger and the check hold at
  /// all of them. They are then done with; the time is that of the least. Nothing: they are for next().
  struct Held {
    std::size_t count = 0;
    double least = 0;
    Time at{};
  };
  std::optional<Held> held();
  /// The next instant of which everything is said; false if there is none. Without a trigger that always holds.
  bool next(Time& at, Value& trigger, Value& check);

 private:
  std::unique_ptr<Machine<std::int64_t>> running_;
  std::unique_ptr<Machine<Range>> finished_;  ///< takes over at the end
  std::size_t first_;
};

}  // namespace isodyne::judge
