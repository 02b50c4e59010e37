#pragma once
// A plant that runs: a state, and somebody who executes the equations of its Program.
//
// Begins on the interpreter. Other executions of the same program, such as native code, may take over between
// instants: they work on the same state and give the same bits.

#include <atomic>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "isodyne/engine/interpreter.h"

namespace isodyne::engine {

class Plant {
 public:
  explicit Plant(std::shared_ptr<const model::Program> program);

  /// All variables at their start values; `overrides` replace some of them (SI).
  PlantState start(std::span<const std::pair<model::VarId, double>> overrides) const {
    return interpreter_.start(overrides);
  }

  /// Gives every equation its value at state.now and changes nothing else.
  void solve(PlantState& state);

  /// Solves what is due at state.now (see Execution::settle). Returns the transitions taken; valid until the next
  /// call.
  std::span<const ModeChange> settle(PlantState& state);

  /// From a settled instant of the bench to the next one. Transitions of quicker groups on the way are in
  /// changes() until the next call.
  PlantTrouble step(PlantState& state);
  std::span<const ModeChange> changes() const {
    return {changes_.list.data(), static_cast<std::size_t>(changes_.count)};
  }

  /// Inputs, parameters and actuators that are tapped: puts the healthy value through the tap. Call before
  /// settle().
  void apply_input_taps(PlantState& state) const;

  /// From the next instant on, this executes. May be called from another thread; the execution lives as long as
  /// the plant.
  void adopt(Execution* execution) { offered_.store(execution, std::memory_order_release); }
  /// Whether something else than the interpreter executes now.
  bool adopted() const { return execution_ != &interpreter_; }

  const model::Program& program() const { return *program_; }
  const Plan& plan() const { return plan_; }
  Interpreter& interpreter() { return interpreter_; }

 private:
  std::shared_ptr<const model::Program> program_;
  Plan plan_;
  Interpreter interpreter_;
  Execution* execution_ = &interpreter_;
  std::atomic<Execution*> offered_{nullptr};
  ModeChanges changes_;
};

/// After trouble of kind endless_events: the `when` blocks that kept firing.
std::vector<std::int32_t> endless(const PlantState& state);

}  // namespace isodyne::engine
