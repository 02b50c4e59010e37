#pragma once
// Runs the equations of a Program: the interpreter, the reference for every other way to execute one.
//
// Everything that changes is in a PlantState, which can be copied and compared. A Plant holds code and
// scratch space; give each thread its own.

#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/code.h"
#include "isodyne/engine/rk4.h"
#include "isodyne/model/program.h"

namespace isodyne::engine {

/// What a tap does at present.
struct TapState {
  bool active = false;
  model::FaultKind kind = model::FaultKind::offset;
  double amount = 0;  ///< refreshed at every instant while active
  double since = 0;   ///< when it became active, s
  double held = 0;    ///< for freeze
  bool holding = false;
};

/// The value that comes out of a tap when `value` goes in, at `now` seconds.
double through_tap(TapState& tap, double value, double now);

struct PlantState {
  Time now{};
  std::vector<double> values;  ///< variables first; then the interpreter's constants and intermediates
  std::vector<TapState> taps;
  std::vector<std::int32_t> reversals;  ///< per state machine: instants in a row with a transition

  double operator[](model::VarId id) const { return values[static_cast<std::size_t>(id)]; }
  double& operator[](model::VarId id) { return values[static_cast<std::size_t>(id)]; }
};

struct ModeChange {
  std::int32_t machine = 0, transition = 0;
};

/// Why a plant cannot go on.
struct PlantTrouble {
  enum class Kind { none, not_finite, endless_reversal };
  Kind kind = Kind::none;
  std::int32_t index = 0;  ///< of the state, or of the state machine
  double last_good = 0;    ///< of the state, one step earlier
};

class Plant {
 public:
  /// A state machine that changes at this many instants in a row is taken to reverse without end.
  static constexpr std::int32_t kMostReversals = 1000;

  explicit Plant(std::shared_ptr<const model::Program> program);

  /// All variables at their start values; `overrides` replace some of them (SI).
  PlantState start(std::span<const std::pair<model::VarId, double>> overrides) const;

  /// Gives every equation its value at state.now and changes nothing else.
  void solve(PlantState& state) const;

  /// Solves the equations at state.now: outputs, transitions (one per machine), sampled parts that are due.
  /// Returns the transitions taken; valid until the next call.
  std::span<const ModeChange> settle(PlantState& state);

  /// From a settled instant to the next one. On trouble, state.now stays and states hold what was computed.
  PlantTrouble step(PlantState& state);

  /// Inputs, parameters and actuators that are tapped: puts the healthy value through the tap. Call before
  /// settle().
  void apply_input_taps(PlantState& state) const;

  const model::Program& program() const { return *program_; }

 private:
  struct Segment {
    std::size_t begin = 0, end = 0;       ///< of code_
    std::int32_t tap = model::kNone;      ///< applied after the code
    std::int32_t sampler = model::kNone;  ///< run after the code, if due
  };
  struct Limits {
    std::int32_t lowest = model::kNone, highest = model::kNone;  ///< registers
  };

  void compile_order(CodeMaker& maker, const std::vector<bool>* wanted, std::vector<Segment>& segments);
  void compile_samplers(CodeMaker& maker);
  std::vector<bool> needed_between_instants() const;
  void compute_equations(const std::vector<Segment>& segments, PlantState& state, bool with_samplers) const;
  bool sampler_due(const PlantState& state) const;
  bool take_transitions(PlantState& state);
  void limited_derivatives(const PlantState& state, const double* x, double* dx) const;

  std::shared_ptr<const model::Program> program_;
  Code code_, limit_code_, transition_code_;
  std::vector<Segment> segments_;        ///< everything: at instants
  std::vector<Segment> stage_segments_;  ///< only what derivatives need: between instants
  std::vector<Code> sampler_code_;
  std::vector<std::pair<model::VarId, Code>> start_code_;
  std::vector<Limits> limits_;
  std::vector<std::vector<std::int32_t>> transition_results_;
  std::vector<double> first_registers_;
  std::vector<ModeChange> changes_;
  Rk4 rk4_;
  std::vector<double> x_, before_, k1_;
};

}  // namespace isodyne::engine
