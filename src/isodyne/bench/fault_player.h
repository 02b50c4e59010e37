#pragma once
// When the chosen faults are active, and what their taps then do.

#include <memory>
#include <optional>
#include <vector>

#include "isodyne/bench/run_plan.h"
#include "isodyne/bench/scenario_player.h"
#include "isodyne/core/result.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

/// Whether a fault acts, and how much. Its place in memory stays.
struct FaultActivity {
  std::int32_t fault = 0;
  bool active = false;
  double amount = 0;
  Time since{};
};

class FaultPlayer {
 public:
  /// `chosen` are indices into program.faults; where two share a tap, their order is composed (checked by the caller).
  /// Everything random comes from the seed of the run and the name of the fault.
  FaultPlayer(const program::Program& program, const std::vector<std::int32_t>& chosen, std::uint64_t seed);
  ~FaultPlayer();
  /// Makes room in the state, before the first instant.
  void prepare(engine::PlantState& state);

  /// Decides from the settled image what is active at `next`, the instant after it. `commands`: of the scenario, then.
  void plan(const double* image, Time next, const std::vector<FaultCommand>& commands);
  /// Whether something that triggers one moves between two instants of the bench; then those are to be shown.
  bool quick() const;
  void between(const double* image);
  /// At the begin of an instant, after it was planned: from now on the fault is injected, cleared, armed or disarmed.
  ///
  /// A fault `once` is armed from the beginning: it begins at the first instant at which its condition is true.
  /// Disarmed it does not; if it acts already it goes on. Armed again it waits for its condition anew, also if it has
  /// acted before.
  observe::Refusal command(std::int32_t fault, observe::CommandKind what, Time now);
  /// Before the plan is carried out: asks of each that is about to act for the first time whether the run has it.
  void choose(FaultChoice& choice);
  /// Carries the plan out at its instant; tells `observer` what changed.
  void apply(engine::PlantState& state, observe::Observer& observer);

  /// Swaps that act now: each gets the quantity of the other. `of` gives the variable to be read of a tap's.
  template <typename Of>
  void cross(engine::PlantState& state, Of of) const {
    for (const Chosen& c : chosen_) {
      const program::Fault& f = program_.faults[static_cast<std::size_t>(c.activity->fault)];
      if (!c.activity->active || f.tap == program::kNone || f.other == program::kNone) continue;
      const program::VarId one = of(f.tap), two = of(f.other);
      if (one == program::kNone || two == program::kNone) continue;
      state.taps[c.places[0].slot].amount = state[two];
      state.taps[c.places[1].slot].amount = state[one];
    }
  }

  /// Those that acted, at a place where a value passes, and never made another value of it.
  std::vector<std::int32_t> without_effect(const engine::PlantState& state) const;

  /// Of the chosen faults that are about messages to or from a controller, or between controllers.
  std::vector<const FaultActivity*> on_messages(std::int32_t controller, bool to_controller) const;
  std::vector<const FaultActivity*> on_messages(std::int32_t messages) const;

 private:
  class Replacing;
  struct Chosen {
    Chosen(std::unique_ptr<FaultActivity> a, engine::Evaluator e) : activity(std::move(a)), expressions(std::move(e)) {}
    std::unique_ptr<FaultActivity> activity;
    engine::Evaluator expressions;         ///< condition, amount, until
    double key = 0;                        ///< of its randomness
    Time begin{};                          ///< of `from`: of this run; of `between`: drawn
    std::optional<Time> lasting;           ///< of this run
    bool acted = false;                    ///< at some time
    bool asked = false, left_out = false;  ///< by a FaultChoice
    bool planned = false, armed = true, triggered = false, there = false, over = false;
    /// What triggers it, or what ends it, moves between two instants of the bench.
    bool quick = false, quick_until = false;
    Time since{}, last{};
    /// Where it changes values: of a vector each element, of a swap both.
    struct At {
      std::size_t slot = 0, tap = 0;  ///< in PlantState::taps; the first at its tap
      double key = 0;                 ///< of its randomness there
    };
    std::vector<At> places;
    std::shared_ptr<Replacing> replacing;  ///< shared: its type is known in fault_player.cpp only
  };
  void heed(Chosen& c, bool inject) const;
  static observe::Refusal arm(Chosen& c, bool on, Time now);
  bool begins(Chosen& c, Time next) const;
  bool wanted(Chosen& c, Time next) const;
  double drawn(const Chosen& c, double key, Time now) const;
  void switch_to(Chosen& c, bool on, engine::PlantState& state, observe::Observer& observer);
  const program::Fault& fault_of(const Chosen& c) const {
    return program_.faults[static_cast<std::size_t>(c.activity->fault)];
  }

  const program::Program& program_;
  double seed_;
  std::vector<Chosen> chosen_;
};

/// Two chosen faults that act on one place without an order, chosen twice, or with a scenario that sets the place.
std::optional<Failure> clash_among(const program::Program& program, const std::vector<std::int32_t>& faults,
                                   std::int32_t scenario);
/// The faults that a scenario injects or clears, which a run has to know of.
std::vector<std::int32_t> faults_of(const program::Program& program, std::int32_t scenario);

}  // namespace isodyne::bench
