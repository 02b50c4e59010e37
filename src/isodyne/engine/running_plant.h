#pragma once
// A plant that runs: a state, and somebody who executes the equations of it.
//
// Begins on the interpreter. Other executions of the same program, such as native code, may take over between
// instants: they work on the same state and give the same bits.
//
// Where the program asks for several cores, each steps its own groups on an image of its own, and what it computed
// becomes part of the state at the next instant of the bench. On how many threads that happens changes no bit.

#include <atomic>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "isodyne/engine/crew.h"
#include "isodyne/engine/interpreter.h"
#include "isodyne/engine/network.h"

namespace isodyne::engine {

class RunningPlant {
 public:
  /// `networks`: who solves the networks of the program, if it has any.
  explicit RunningPlant(std::shared_ptr<const program::Plant> program, const NetworkMaker& networks = {});

  /// All variables at their start values; `overrides` replace some of them (SI).
  PlantState start(std::span<const std::pair<program::VarId, double>> overrides);

  /// Gives every equation its value at state.now and changes nothing else. The first time networks are started, from
  /// the inputs that they have then.
  void solve(PlantState& state);
  const Networks& networks() const { return networks_; }
  Networks& networks() { return networks_; }
  /// Before the run: see Networks.
  void time_networks() { networks_.time_steps(); }
  /// Somebody looks at these between two instants of the bench too. Before the run.
  void look_at(std::span<const program::VarId> ids) { networks_.look_at(ids); }

  /// Solves what is due at state.now (see Execution::settle). Returns the transitions taken; valid until the next
  /// call.
  std::span<const ModeChange> settle(PlantState& state);

  /// From a settled instant of the bench to the next one. Transitions of quicker groups on the way are in
  /// changes() until the next call. The threads of start_crew() sleep meanwhile: the next step is not before
  /// `next` (monotonic clock, ns; 0: at any time). After trouble on one core the others may be further.
  PlantTrouble step(PlantState& state, std::int64_t next = 0);
  std::span<const ModeChange> changes() const {
    return {lead().changes.list.data(), static_cast<std::size_t>(lead().changes.count)};
  }

  /// Inputs, parameters and actuators that are tapped: puts the healthy value through the tap. Call before
  /// settle().
  void apply_input_taps(PlantState& state) const;

  /// How many cores the program asks for, and what each does; the first is that of the bench.
  std::size_t cores() const { return cores_.size(); }
  const Plan& plan(std::size_t core = 0) const { return cores_[core]->plan; }
  /// Steps on this many threads more (at most cores() − 1 are of use); each calls `prepare` with its number, from 1
  /// on. `most_guard_ns`: see Crew.
  void start_crew(std::size_t threads, Crew::Work prepare, std::int64_t most_guard_ns);
  void end_crew() { crew_.reset(); }
  const Crew* crew() const { return crew_.get(); }

  /// From the next instant on, this executes what the core does. May be called from another thread; the execution
  /// lives as long as the plant.
  void adopt(Execution* execution, std::size_t core = 0) {
    cores_[core]->offered.store(execution, std::memory_order_release);
  }
  /// Before the first instant: this executes everything, whatever cores the program asks for.
  void adopt_whole(Execution* execution) { whole_ = execution; }
  /// Whether something else than the interpreter executes now, on every core.
  bool adopted() const;

  const program::Plant& program() const { return *program_; }
  const std::shared_ptr<const program::Plant>& shared_program() const { return program_; }
  Interpreter& interpreter() { return lead().interpreter; }

 private:
  struct Core {
    Core(const std::shared_ptr<const program::Plant>& program, std::int32_t number, std::int32_t own_place);
    std::int32_t place;  ///< among all
    Plan plan;
    Interpreter interpreter;
    Execution* execution = &interpreter;
    std::atomic<Execution*> offered{nullptr};
    ModeChanges changes;
    /// Of all cores but the first: what they work on between two instants of the bench.
    std::vector<double> values;
    Time now{};
    std::int32_t unsolved = program::kNone, endless = 0;
    std::array<double, 5> doubt{};
    PlantTrouble trouble;
    std::vector<std::pair<std::size_t, std::size_t>> own;  ///< stretches of variables of its groups: begin, length
  };
  Core& lead() { return *cores_.front(); }
  const Core& lead() const { return *cores_.front(); }
  Execution& leader() { return whole_ != nullptr ? *whole_ : *lead().execution; }
  void see(Core& core, const PlantState& state) const;
  void step_alone(Core& core, PlantState& state);
  void step_share(std::size_t member);
  PlantTrouble join(PlantState& state, PlantTrouble trouble);

  std::shared_ptr<const program::Plant> program_;
  std::vector<std::unique_ptr<Core>> cores_;
  Execution* whole_ = nullptr;
  Networks networks_;
  PlantState* stepping_ = nullptr;  ///< for the crew
  std::unique_ptr<Crew> crew_;
};

/// After trouble of kind endless_events: the `when` blocks that kept firing.
std::vector<std::int32_t> endless(const PlantState& state);

}  // namespace isodyne::engine
