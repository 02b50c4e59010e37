#pragma once
// When the chosen faults are active, and what their taps then do.

#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/engine/plant.h"

namespace isodyne::bench {

class FaultPlayer {
 public:
  /// `chosen` are indices into program.faults; no two of them share a tap (checked by the caller).
  /// Everything random comes from the seed of the run and the name of the fault.
  FaultPlayer(const model::Program& program, const std::vector<std::int32_t>& chosen, std::uint64_t seed);
  /// Makes room in the state, before the first instant.
  void prepare(engine::PlantState& state) const;

  /// Decides from the settled image what is active at `next`, the instant after it.
  void plan(const double* image, Time next);
  /// Carries the plan out at its instant; tells `observer` what changed.
  void apply(engine::PlantState& state, Observer& observer);

 private:
  struct Chosen {
    std::int32_t fault = 0;
    engine::Evaluator expressions;  ///< condition, amount, until
    double key = 0;                 ///< of its randomness
    Time begin{};                   ///< of `between`: drawn
    bool active = false, planned = false, triggered = false, there = false, over = false;
    Time since{}, last{};
    double amount = 0;
  };
  bool begins(Chosen& c, Time next) const;
  bool wanted(Chosen& c, Time next) const;
  double drawn(Chosen& c, Time now) const;

  const model::Program& program_;
  double seed_;
  std::vector<Chosen> chosen_;
};

}  // namespace isodyne::bench
