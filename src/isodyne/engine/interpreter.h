#pragma once
// Executes the equations of a plant from byte code: the reference for every other way to execute one.
//
// Holds code and scratch space, so each thread needs its own.

#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/engine/plan.h"
#include "isodyne/engine/state.h"

namespace isodyne::engine {

class Interpreter : public Execution {
 public:
  /// `plan` outlives the interpreter.
  Interpreter(std::shared_ptr<const program::Plant> program, const Plan& plan);

  /// All variables at their start values; `overrides` replace some of them (SI).
  PlantState start(std::span<const std::pair<program::VarId, double>> overrides) const;

  void solve(const StateView& state) override;
  void settle(const StateView& state, ModeChanges& changes) override;
  PlantTrouble step(const StateView& state, ModeChanges& changes) override;

  /// For those who integrate themselves: everything at any time (s), whatever *state.now says; every rate settled at an
  /// instant (delays remember at those of their own); transitions and `when` blocks at the image as it is, true if
  /// there were any; trouble so far.
  void evaluate_at(const StateView& state, double seconds);
  void settle_all(const StateView& state, ModeChanges& changes);
  bool jump(const StateView& state, ModeChanges& changes);
  PlantTrouble trouble_of(const StateView& state) const;

  /// Evaluates Jacobian and df/dt of a group that was linearised, at a solved image: n x n, by rows.
  void slopes_of(std::size_t group, const StateView& state, double* jacobian, double* df_dt);

 private:
  /// A stretch of code, and what comes after it.
  struct Segment {
    std::size_t begin = 0;  ///< of code_; an end stands behind
    int rate = 0;
    bool has_item = false;
    bool idle = false;         ///< between two instants of the bench
    program::Item item{};      ///< tap, periodic task, delay or solve
    std::int32_t target = 0;   ///< register of what the item gives
    std::int32_t operand = 0;  ///< of a delay: register of the lag; of a solve: index into solves_
  };
  struct Limits {
    std::size_t state = 0;  ///< within the group
    std::int32_t lowest = program::kNone, highest = program::kNone;
  };
  /// An implicit equation has code of its own: it runs again and again with other values of the unknown.
  struct SolveCode {
    Code code;
    std::size_t index = 0;  ///< into Plant::solves
    std::int32_t x = 0, residual = 0, derivative = 0, scale = 0;
    std::int32_t lowest = program::kNone, highest = program::kNone;
  };
  struct MachineCode {
    std::vector<std::int32_t> conditions;  ///< registers, per transition
    std::vector<Code> entry, exit;         ///< per mode
    std::vector<std::int32_t> inner;       ///< machines inside its modes
  };
  struct GroupCode {
    const GroupPlan* plan = nullptr;
    Code held, linear;  ///< at the start of a step: what does not move within it; its Jacobian and df/dt
    std::vector<Segment> between;
    std::vector<Limits> limits;
    /// Per state: variables of its value and its derivative; within the step, registers of its derivative. The first
    /// of each, if they lie side by side.
    std::vector<std::int32_t> values, slopes_at, derivatives;
    std::int32_t first_value = program::kNone, first_slope = program::kNone, first_derivative = program::kNone;
    /// Registers within the step; states lie side by side, and room for 6 n follows from the first of them on. That is
    /// where the methods put their stages, so these are where the code reads them.
    std::int32_t time = 0, first_state = 0;
    bool plain = false;  ///< one stretch of code, nothing behind it, no limits, derivatives side by side
    std::vector<std::int32_t> jacobian_registers, df_dt_registers;
    std::vector<std::pair<std::int32_t, std::int32_t>> guesses;  ///< unknowns: register within the step, variable
    std::vector<double> x, k1, before, jacobian, df_dt, known;
    std::vector<int> rows;
  };
  struct Context {
    Interpreter* self;
    GroupCode* group;
    const StateView* state;
    const Instruction* code;  ///< of a plain group
    double *registers, *states;
    const double* derivatives;
  };

  // interpreter_code.cpp
  void expect(CodeMaker& maker, const std::vector<program::Item>& items) const;
  void compile_order(CodeMaker& maker);
  void compile_item(CodeMaker& maker, const program::Item& item, Segment& segment, std::vector<Segment>& segments);
  void close(Segment& segment, std::vector<Segment>& segments);
  std::int32_t compile_solve(CodeMaker& maker, std::size_t index);
  Code compile_body(CodeMaker& maker, const std::vector<program::Assignment>& body) const;
  void compile_machines(CodeMaker& maker);
  void compile_group(CodeMaker& maker, const GroupPlan& plan);
  void make_room(GroupCode& group) const;
  void link(const CodeMaker& maker);
  void link(const CodeMaker& maker, std::vector<Segment>& segments);

  void run_code(const Code& code, const StateView& state) const { run(code, state.values.data(), tables_.data()); }
  enum class Sampled { nothing, sensors, all };
  void compute(const std::vector<Segment>& segments, const StateView& state, int due, Sampled sampled);
  void after_segment(const Segment& segment, const StateView& state, double now, Sampled sampled);
  void sample(std::size_t sensor, const StateView& state) const;
  bool task_due(const StateView& state, int due) const;
  void solve_equation(const SolveCode& code, const StateView& state);
  void recall(const Segment& segment, const StateView& state, double now);
  void remember(const StateView& state, int due);

  // interpreter_events.cpp
  bool take_transitions(const StateView& state, int due, ModeChanges& changes);
  void leave(const StateView& state, std::size_t machine);
  void enter(const StateView& state, std::size_t machine, int mode);
  bool first_entry(const StateView& state);
  bool fire_events(const StateView& state, int due, Sampled sampled);
  void settle_due(const StateView& state, int due, int remembered, ModeChanges& changes);

  // interpreter_steps.cpp
  PlantTrouble step_group(GroupCode& group, const StateView& state);
  PlantTrouble advance(GroupCode& group, const StateView& state, double* x, const double* k1);
  void limited(const GroupCode& group, const StateView& state, const double* x, double* dx) const;
  bool at_limit(const GroupCode& group, const StateView& state, const Limits& limits, const double* x,
                double slope) const;
  void evaluate(GroupCode& group, const StateView& state, double t, const double* x, double* dx);
  void linearise(GroupCode& group, const StateView& state, const double* x);

  std::shared_ptr<const program::Plant> program_;
  const Plan& plan_;
  std::vector<iso_table> tables_;
  Code code_;
  std::vector<Segment> segments_;                                ///< everything, at instants
  std::vector<Code> transition_code_, event_code_, delay_code_;  ///< per rate
  std::vector<Code> task_code_;
  std::vector<std::pair<program::VarId, Code>> start_code_;
  std::vector<MachineCode> machines_;
  std::vector<std::int32_t> own_machines_;  ///< those of other cores are counted by them
  std::vector<std::int32_t> event_conditions_;
  std::vector<Code> event_bodies_;
  std::vector<SolveCode> solves_;
  std::vector<Ring> rings_;
  std::vector<std::int32_t> ring_inputs_;
  std::vector<GroupCode> groups_;
  std::vector<std::int32_t> network_groups_;  ///< that are stepped here and have networks
  std::vector<double> first_registers_;
  std::vector<char> restarted_;  ///< machines that were started at this instant
  std::vector<std::int32_t> firing_;
};

}  // namespace isodyne::engine
