#pragma once
// The continuous parts of a plant by an adaptive solver at tight tolerance: the yardstick for fixed steps.
//
// SUNDIALS' CVODE (Hindmarsh et al., ACM TOMS 31, 2005), backward differentiation formulas of order 1 to 5. All groups
// are one system: nothing is held at borders between them. Transitions, `when` blocks and limits are found where they
// happen, by the roots of their conditions, not at the next instant. What is sampled stays sampled, and delays
// remember at instants. Not for real time: it allocates, and its steps take as long as they take.

#include <memory>

#include "isodyne/engine/interpreter.h"

namespace isodyne::engine {

struct ReferenceAccuracy {
  double relative = 1e-13;
  double absolute = 1e-15;  ///< SI
};

class ReferencePlant : public Execution {
 public:
  /// `plan` outlives it. `looked_at`: how far apart the instants are that somebody looks at between two of the bench;
  /// 0: nobody does.
  ReferencePlant(std::shared_ptr<const program::Plant> program, const Plan& plan, Time looked_at = {},
                 ReferenceAccuracy accuracy = {});
  ~ReferencePlant() override;

  void solve(const StateView& state) override;
  void settle(const StateView& state, ModeChanges& changes) override;
  PlantTrouble step(const StateView& state, ModeChanges& changes) override;

  /// Right-hand sides evaluated so far.
  long evaluations() const;

 private:
  struct Solver;
  std::unique_ptr<Solver> solver_;
};

}  // namespace isodyne::engine
