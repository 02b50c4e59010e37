#pragma once
// Formulas over time, from instant to instant: what each says of an instant comes as soon as it is certain.
//
// Semantics: signal temporal logic over the instants of images (Maler and Nickovic, "Monitoring Temporal Properties of
// Continuous Signals", 2004), with the distances of Fainekos and Pappas (2009). At the end of a run what lies ahead of
// it is unknown: an instant then has a worst and a best case.
//
// Blocks of images of which a rough look (outline.h) shows that the formula holds, and no closer to breaking than it
// has been, are passed over: only what their expressions read is kept, as far back as others can need it. Otherwise
// every instant is looked at (formula_machine.h), beginning far enough back, until that has not mattered for as long.
//
// Memory: as many instants as the times of the operators hold. Time: constant an instant on average.

#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/block.h"
#include "isodyne/program/program.h"

namespace isodyne::judge {

/// What a formula says of an instant, at worst and at best: the same before the end of a run.
struct Value {
  double low = 0, high = 0;                ///< distance from changing, SI; ±infinity where there is none
  bool certain = false, possible = false;  ///< whether it holds

  bool decided() const { return certain == possible; }
};

class Formula {
 public:
  /// The expressions that it needs: two for each node.
  static void collect(const program::Requirement& r, std::vector<program::NodeId>& expressions);
  enum class Look { at_all, where_it_matters };
  /// Its expressions are that group of an evaluator's, and `first` the first of them among all. The requirement has to
  /// stay.
  Formula(const program::Requirement& r, std::size_t group, std::size_t first, Look look = Look::where_it_matters);
  ~Formula();
  Formula(Formula&&) noexcept;
  Formula& operator=(Formula&&) noexcept;

  /// The next images (at least one), which the evaluator has loaded and of which it has outlined the group; the worst
  /// distance so far, +infinity: none yet. What was said of those before has been taken.
  void block(const Time* at, std::size_t count, engine::BlockEvaluator& evaluator, double worst);
  /// There are no more images: everything that is left is said, with its worst and best case.
  void finish(engine::BlockEvaluator& evaluator);

  /// Instants of which everything is said, while the run goes on, if at all of them the trigger and the check hold,
  /// or the trigger does not. They are then done with. A count of 0: there are none. Nothing: they are for next().
  struct Held {
    std::size_t count = 0;
    bool asked = false;  ///< the trigger holds
    double least = 0;    ///< the least distance, or +infinity: not worse than it was
    Time at{};           ///< of that
  };
  std::optional<Held> held();
  /// The next instant of which everything is said; false if there is none. Without a trigger that always holds.
  bool next(Time& at, Value& trigger, Value& check);

 private:
  struct Work;
  std::unique_ptr<Work> work_;
};

}  // namespace isodyne::judge
