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
  std::vector<std::int32_t> reversals;   ///< per state machine: instants in a row with a transition
  std::vector<char> event_was;           ///< per `when`: whether its condition held when last looked at
  std::vector<double> history;           ///< what delays remember: one ring after another
  std::int64_t remembered = 0;           ///< instants that the rings have seen
  std::int32_t unsolved = model::kNone;  ///< the equation to solve that had no solution
  bool entered = false;                  ///< whether the modes at the start have been entered

  double operator[](model::VarId id) const { return values[static_cast<std::size_t>(id)]; }
  double& operator[](model::VarId id) { return values[static_cast<std::size_t>(id)]; }
};

struct ModeChange {
  std::int32_t machine = 0, transition = 0;
};

/// Why a plant cannot go on.
struct PlantTrouble {
  enum class Kind { none, not_finite, endless_reversal, endless_events, no_solution };
  Kind kind = Kind::none;
  std::int32_t index = 0;  ///< of the state, the state machine, the `when`, or the equation to solve
  double last_good = 0;    ///< of the state, one step earlier; of the unknown, the last iterate
};

class Plant {
 public:
  /// A state machine that changes at this many instants in a row is taken to reverse without end.
  static constexpr std::int32_t kMostReversals = 1000;
  /// `when` blocks that set each other off this many times in one instant never stop.
  static constexpr int kMostRounds = 100;

  explicit Plant(std::shared_ptr<const model::Program> program);

  /// All variables at their start values; `overrides` replace some of them (SI).
  PlantState start(std::span<const std::pair<model::VarId, double>> overrides) const;

  /// Gives every equation its value at state.now and changes nothing else.
  void solve(PlantState& state) const;

  /// Solves the equations at state.now, in this order: equations; transitions (one per machine) with their
  /// exit and entry actions; `when` blocks until none fires; sampled parts that are due. Returns the
  /// transitions taken; valid until the next call.
  std::span<const ModeChange> settle(PlantState& state);

  /// From a settled instant to the next one. On trouble, state.now stays and states hold what was computed.
  PlantTrouble step(PlantState& state);

  /// Inputs, parameters and actuators that are tapped: puts the healthy value through the tap. Call before
  /// settle().
  void apply_input_taps(PlantState& state) const;

  /// After trouble of kind endless_events: the `when` blocks that kept firing.
  const std::vector<std::int32_t>& endless() const { return firing_; }

  const model::Program& program() const { return *program_; }

 private:
  /// A stretch of code, and what comes after it.
  struct Segment {
    std::size_t begin = 0, end = 0;  ///< of code_
    bool has_item = false;
    model::Item item{};        ///< tap, sampler, delay or solve
    std::int32_t operand = 0;  ///< register of the lag of a delay
  };
  struct Limits {
    std::int32_t lowest = model::kNone, highest = model::kNone;  ///< registers
  };
  struct SolveCode {
    Code code;
    std::int32_t residual = 0, derivative = 0, scale = 0;
    Limits bounds;
  };
  struct MachineCode {
    std::vector<std::int32_t> conditions;  ///< registers, per transition
    std::vector<Code> entry, exit;         ///< per mode
    std::vector<std::int32_t> inner;       ///< machines inside its modes
  };
  struct Ring {
    std::size_t begin = 0, size = 0;  ///< of PlantState::history
    std::int32_t input = 0;           ///< register
  };

  void compile_order(CodeMaker& maker, const std::vector<bool>* wanted, std::vector<Segment>& segments);
  Code compile_body(CodeMaker& maker, const std::vector<model::Assignment>& body) const;
  void compile_machines(CodeMaker& maker);
  void compile_solves(CodeMaker& maker);
  void link(const CodeMaker& maker);
  std::vector<bool> needed_between_instants() const;
  void compute_equations(const std::vector<Segment>& segments, PlantState& state, bool with_samplers) const;
  void after_segment(const Segment& segment, PlantState& state, bool with_samplers) const;
  void run_code(const Code& code, PlantState& state) const { run(code, state.values.data(), program_->tables.data()); }
  bool sampler_due(const PlantState& state) const;

  // plant_events.cpp
  bool take_transitions(PlantState& state);
  void leave(PlantState& state, std::size_t machine);
  void enter(PlantState& state, std::size_t machine, int mode);
  bool first_entry(PlantState& state);
  bool fire_events(PlantState& state);

  // plant_implicit.cpp
  void solve_equation(std::size_t index, PlantState& state) const;
  void recall(std::size_t index, double lag, PlantState& state) const;
  void prime_delays(PlantState& state) const;
  void remember(PlantState& state) const;

  void limited_derivatives(const PlantState& state, const double* x, double* dx) const;
  PlantTrouble trouble(const PlantState& state) const;

  std::shared_ptr<const model::Program> program_;
  Code code_, limit_code_, transition_code_, event_code_, delay_code_;
  std::vector<Segment> segments_;        ///< everything: at instants
  std::vector<Segment> stage_segments_;  ///< only what derivatives need: between instants
  std::vector<Code> sampler_code_;
  std::vector<std::pair<model::VarId, Code>> start_code_;
  std::vector<Limits> limits_;
  std::vector<MachineCode> machines_;
  std::vector<std::int32_t> event_conditions_;
  std::vector<Code> event_bodies_;
  std::vector<SolveCode> solves_;
  std::vector<Ring> rings_;
  std::size_t history_size_ = 0;
  std::vector<double> first_registers_;
  std::vector<ModeChange> changes_;
  std::vector<char> restarted_;  ///< machines that were started at this instant
  std::vector<std::int32_t> firing_;
  std::vector<char> fired_late_;  ///< per `when`: in the later rounds of this instant
  bool endless_events_ = false;
  Rk4 rk4_;
  std::vector<double> x_, before_, k1_;
};

}  // namespace isodyne::engine
