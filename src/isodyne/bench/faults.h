#pragma once
// When the chosen faults are active, and what their taps then do.

#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/engine/plant.h"

namespace isodyne::bench {

class FaultPlayer {
 public:
  /// `chosen` are indices into program.faults; no two of them share a tap (checked by the caller).
  FaultPlayer(const model::Program& program, const std::vector<std::int32_t>& chosen);

  /// Decides from the settled image what is active at `next`, the instant after it.
  void plan(const double* image, Time next);
  /// Carries the plan out at its instant; tells `observer` what changed.
  void apply(engine::PlantState& state, Observer& observer);

 private:
  struct Chosen {
    std::int32_t fault = 0;
    engine::Evaluator expressions;  ///< condition, amount
    bool active = false, planned = false, triggered = false;
    Time since{};
    double amount = 0;
  };
  bool wanted(Chosen& c, Time next) const;

  const model::Program& program_;
  std::vector<Chosen> chosen_;
};

}  // namespace isodyne::bench
