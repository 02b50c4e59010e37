#pragma once
// One run of a bench: the static schedule of docs/architecture.md, instant by instant.
//
// In lockstep it goes as fast as it can and waits for the controllers. Paced, it keeps to the wall clock: the thread of
// execute() steps, and everybody else (observers, ports that have to be waited for) is on threads of their own.
//
// The run knows the order of things; what they are is in channels.h, controllers.h, fault_player.h, scenario_player.h,
// message_lines.h and sensing.h, and why it ended in reasons.h.

#include <atomic>
#include <memory>
#include <vector>

#include "isodyne/bench/channels.h"
#include "isodyne/bench/controllers.h"
#include "isodyne/bench/door.h"
#include "isodyne/bench/edge_watch.h"
#include "isodyne/bench/fault_player.h"
#include "isodyne/bench/instant_clock.h"
#include "isodyne/bench/message_lines.h"
#include "isodyne/bench/number_watch.h"
#include "isodyne/bench/pacer.h"
#include "isodyne/bench/quick_rows.h"
#include "isodyne/bench/run_plan.h"
#include "isodyne/bench/run_result.h"
#include "isodyne/bench/scenario_player.h"
#include "isodyne/bench/sensing.h"
#include "isodyne/engine/native.h"
#include "isodyne/engine/reference.h"
#include "isodyne/observe/observer_queue.h"

namespace isodyne::bench {

class Run {
 public:
  /// The plan must be free of trouble_with(). `observer` outlives the run.
  Run(std::shared_ptr<const program::Program> program, RunPlan plan, const PortMaker& make_port,
      observe::Observer& observer);

  /// Runs to the end. `stop` may be set from elsewhere (a signal) to end after the present instant.
  RunResult execute(const std::atomic<bool>& stop);

  /// The way in while it runs, for any thread.
  CommandInbox& inbox() { return inbox_; }
  /// On the stepping thread: what is in a controller that is logic in the language, in the order of its program; null:
  /// it is something else.
  const double* logic_values(std::size_t controller) const { return controllers_.logic_values(controller); }
  /// In lockstep, on the stepping thread: who of the controllers does not allow that the process is copied, or "" where
  /// all do; and in a copy, that it is one. Native code has to be there.
  std::string not_to_copy() const { return controllers_.not_to_copy(); }
  Status copied() { return controllers_.copied(); }
  /// What was set by hand so far, and what is going to be at the next instant; in lockstep.
  std::vector<observe::Change> changes() const { return door_.changes(state_.now + program_->step); }
  /// Before execute(): who stores the state when a command asks for it.
  void save_with(Door::Save save) { door_.save_with(std::move(save)); }

  /// How far it is, of how many; from any thread.
  std::size_t action() const { return static_cast<std::size_t>(std::int64_t{action_}); }
  std::size_t actions() const { return scenario_.steps(); }
  bool paced() const { return plan_.pace.has_value(); }
  const RunPlan& plan() const { return plan_; }
  /// How well a paced run has kept real time so far. An observer may ask from the first image on.
  Timing timing() const;
  /// And what there was with each controller.
  std::vector<const ControllerReport*> reports() const { return controllers_.reports(); }

  const engine::ReferencePlant* reference() const { return reference_.get(); }
  /// Of Plant::networks, in their order. Once it has ended.
  engine::NetworkAccount account(std::size_t network) const {
    return plant_.networks().account(static_cast<std::int32_t>(network));
  }
  /// With RunPlan::time_steps: what an instant is made of, and the whole of it.
  const StepTimes& times(RunShare share) const { return clock_.times(share); }
  /// Settling and stepping the plant, one step of the bench.
  double median_step_ns() const { return times(RunShare::plant).quantile(0.5); }

  /// How native code was come by, once it is known; null without.
  const engine::NativeBuilder* native() const { return native_.get(); }
  /// The last image that was shown.
  std::size_t variables() const { return program_->variables.size(); }
  /// None where the run ended halfway with some quantities further than others.
  std::optional<observe::Image> last_image() const {
    if (plant_.networks().stuck_on_the_way()) return std::nullopt;
    return observe::Image{state_.now, state_.values.data()};
  }

 private:
  std::optional<Reason> prepare();
  void first_visits(std::size_t network);
  std::optional<Reason> settle_before_start();
  void prepare_pace();
  void begin_pace();
  void start_crew();
  void finish_paced_step(Time at);
  void tell_stretch();
  void end_pace();

  void run_instants();
  std::optional<Reason> instant();
  std::optional<Reason> all_ready();
  bool ended_by_command();
  void interrupted();
  void cross_swapped();
  void tell(std::span<const engine::ModeChange> changes);
  void show_instant();
  bool over();
  void end(Reason reason);
  void list_remarks();

  std::shared_ptr<const program::Program> program_;
  RunPlan plan_;
  observe::Observer& observer_;
  observe::Observer* seen_;  ///< observer_, or the queue before it
  const std::atomic<bool>* stop_ = nullptr;
  bool started_ = false;  ///< the controllers run
  std::vector<std::pair<program::VarId, double>> start_values_;
  RunResult result_;

  // The plant, and who executes it.
  engine::RunningPlant plant_;
  engine::PlantState state_;
  std::unique_ptr<engine::NativeBuilder> native_;
  std::unique_ptr<engine::ReferencePlant> reference_;

  // What is done to it, instant by instant.
  ScenarioPlayer scenario_;
  Count action_;  ///< of the scenario
  FaultPlayer faults_;
  MessagePlayer messages_;
  Sensing sensing_;
  QuickRows quick_;
  EdgeWatch gate_edges_;
  Channels channels_;
  Controllers controllers_;
  NumberWatch numbers_;
  engine::Evaluator edges_;
  CommandInbox inbox_;
  Door door_;

  // The wall clock.
  InstantClock clock_;
  std::unique_ptr<observe::ObserverQueue> queue_;
  std::unique_ptr<Pacer> pacer_;
  RealtimePrivileges privileges_;
  std::vector<StepTimes> crew_times_;
};

}  // namespace isodyne::bench
