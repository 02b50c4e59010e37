#pragma once
// One run of a bench: the static schedule of docs/architecture.md, instant by instant.
//
// In lockstep it goes as fast as it can and waits for the controllers. Paced, it keeps to the wall clock: the thread of
// execute() steps, and everybody else (observers, ports that have to be waited for) is on threads of their own.

#include <array>
#include <atomic>
#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/faults.h"
#include "isodyne/bench/messages.h"
#include "isodyne/bench/number_watch.h"
#include "isodyne/bench/pacer.h"
#include "isodyne/bench/rights.h"
#include "isodyne/bench/scenario.h"
#include "isodyne/bench/sensing.h"
#include "isodyne/core/result.h"
#include "isodyne/core/step_times.h"
#include "isodyne/engine/native.h"
#include "isodyne/engine/reference.h"
#include "isodyne/io/channel.h"
#include "isodyne/io/frame.h"
#include "isodyne/observe/events.h"
#include "isodyne/observe/observer_queue.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/courier.h"

namespace isodyne::bench {

/// What the time of an instant is spent on.
enum class RunShare { plant, channels, controllers, judge, whole, count };

/// How a run keeps to the wall clock.
struct PacePlan {
  double speed = 1;  ///< simulated seconds per second
  int core = -1;     ///< of the stepping thread; −1: the last one
};

/// What makes one run different from another of the same bench.
struct RunPlan {
  std::int32_t scenario = program::kNone;
  std::vector<std::int32_t> faults;
  std::uint64_t seed = 1;
  std::optional<Time> longest;  ///< end after this time, whatever the scenario says
  std::string setting;          ///< of every controller; empty: the first of each
  /// Compile the plant while the run begins on the interpreter, and change over: not one bit differs.
  std::optional<engine::NativeSettings> native;
  bool wait_for_native = false;  ///< begin only when native code is there or cannot be
  bool time_steps = false;       ///< measure how long things take
  std::optional<PacePlan> pace;  ///< nothing: lockstep
  /// Step on this many threads at most; not one bit differs. 0: one in lockstep, else all that the bench asks for.
  int cores = 0;
  std::vector<observe::Change> changes;  ///< made by hand in the run that this one repeats, in order
  bool reference = false;                ///< the continuous parts by an adaptive solver at tight tolerance
};

/// Makes the port of a controller under a setting.
using PortMaker =
    std::function<std::unique_ptr<ports::ControllerPort>(const program::Controller&, const program::Setting&)>;

/// Whether and how well real time was kept.
struct Timing {
  double speed = 1;
  Rights rights;
  std::int64_t steps = 0, overruns = 0;
  StepTimes lateness, execution;  ///< of a step: from its deadline to its begin, from its begin to its end; ns
  std::vector<StepTimes> crew;    ///< per thread that steps beside the stepping thread: its share of a step; ns
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> shares;  ///< what a step is made of
  std::vector<Stretch> stretches;                                           ///< of overruns, the first kMostStretches
  static constexpr std::size_t kMostStretches = 1000;
  std::int64_t all_stretches = 0;
  std::size_t queue_room = 0, queue_most = 0;
  std::int64_t images_lost = 0, events_lost = 0;
  Time first_lost{};
};

/// What there was between the bench and a controller.
struct ControllerReport {
  std::string name, setting;
  double offline_s = 0, answering_s = 0, ready_s = 0;  ///< wall clock, before it ran
  Count exchanges;
  Count late;     ///< answers that came after they were due
  Count missed;   ///< exchanges that were not answered before the next
  StepTimes age;  ///< of the answers when they became valid, ns; only paced
  ports::Traffic traffic;
};

struct RunResult {
  observe::Ending ending = observe::Ending::completed;
  Time ended_at{};
  std::int64_t steps = 0;
  std::string explanation;           ///< why it ended early; empty when completed
  std::vector<std::string> details;  ///< values that help to see why, a line each
  std::vector<std::string> remarks;  ///< what a reader of the verdicts has to know, a line each
  struct Saturated {
    std::string channel;
    Time first{};
    std::int64_t samples = 0;
  };
  /// A controller that was lost while the run went on, and that no fault was to blame for.
  struct Lost {
    std::string controller, text;  ///< text: why, and when
    Time at{};
  };
  std::vector<Lost> lost;
  std::shared_ptr<Timing> timing;  ///< of a paced run
  std::vector<ControllerReport> controllers;
  std::vector<Expected> expected;                     ///< what came of each `expect` of the scenario
  std::int64_t messages_sent = 0, messages_lost = 0;  ///< between controllers
  std::vector<Saturated> saturated;                   ///< channels that could not hold what they were given
};

/// The setting of this name; without a name the first. Null if there is none.
const program::Setting* setting_of(const program::Controller& controller, const std::string& name);

/// Two chosen faults that act on the same place, a scenario that does not exist: reasons not to start.
std::optional<Failure> trouble_with(const program::Program& program, const RunPlan& plan);

class Run {
 public:
  /// The plan must be free of trouble_with(). `observer` outlives the run.
  Run(std::shared_ptr<const program::Program> program, RunPlan plan, const PortMaker& make_port,
      observe::Observer& observer);

  /// Runs to the end. `stop` may be set from elsewhere (a signal) to end after the present instant.
  RunResult execute(const std::atomic<bool>& stop);

  /// In lockstep, by an observer while it looks at an image: the quantity (an input or a parameter) has this value from
  /// the next instant on.
  void change(program::VarId target, double value) {
    plan_.changes.push_back({state_.now + program_->step, target, value});
  }
  const std::vector<observe::Change>& changes() const { return plan_.changes; }

  /// How far it is, of how many; from any thread.
  std::size_t action() const { return static_cast<std::size_t>(std::int64_t{action_}); }
  std::size_t actions() const { return scenario_.steps(); }
  /// How well a paced run has kept real time so far. An observer may ask from the first image on.
  Timing timing() const;
  /// And what there was with each controller.
  std::vector<const ControllerReport*> reports() const;

  const engine::ReferencePlant* reference() const { return reference_.get(); }
  /// With RunPlan::time_steps: what an instant is made of, and the whole of it.
  const StepTimes& times(RunShare share) const { return times_[static_cast<std::size_t>(share)]; }
  /// Settling and stepping the plant, one step of the bench.
  double median_step_ns() const { return times(RunShare::plant).quantile(0.5); }

  /// How native code was come by, once it is known; null without.
  const engine::NativeBuilder* native() const { return native_.get(); }
  /// The last image that was shown.
  observe::Image last_image() const { return {state_.now, state_.values.data()}; }

 private:
  struct Wired {
    const program::Controller* controller = nullptr;
    const program::Setting* setting = nullptr;
    std::unique_ptr<ports::ControllerPort> port;
    std::unique_ptr<ports::Courier> courier;  ///< in a paced run, of a port that has to be waited for
    std::vector<double> reads, writes;
    std::vector<double> kept;              ///< room for Loss::values
    std::unique_ptr<FaultyLine> to, from;  ///< where a chosen fault is about its messages
    std::vector<program::VarId> valid;     ///< where each answer goes when it becomes valid
    bool answered = false, lost = false;
    bool fresh = false;       ///< an answer has come and is not valid yet
    Time next{};              ///< instant of its next exchange
    Time asked{}, answers{};  ///< instants of the last exchange, and of that which the fresh answer is to
    std::int64_t restarts = 0;
    ControllerReport report;
  };
  /// A controller that was lost while the run went on; its words are made at the end.
  struct Loss {
    std::size_t controller = 0;
    Time at{};
    Failure failure;
    bool by_fault = false;       ///< one that acts on its messages
    std::vector<double> values;  ///< per write: what its actuator takes or holds
  };
  void wire_controllers(const PortMaker& make_port);
  bool open_controllers();
  bool bring_up();
  std::string standing_of_all(const std::vector<ports::Standing>& standing) const;
  bool in_time(const std::vector<ports::Standing>& standing, double waited_s);
  void begin_pace();
  void end_pace();
  void start_crew();
  void finish_paced_step(Time at);
  void tell_stretch();
  void close_controllers();
  static bool faulty(const Wired& wired);
  void list_losses();
  void run_instants();
  bool instant();
  bool timed_instant();
  void tell(std::span<const engine::ModeChange> changes);
  bool take_answers();
  void receive(std::size_t controller);
  bool answer_is_due(Wired& wired);
  void use_answer(Wired& wired);
  bool exchange_with(std::size_t controller);
  void take_frame(const program::Frame& frame, const io::FrameFields& fields);
  void drive(std::size_t actuator, double answer, bool in_frame);
  void gather_frame(std::size_t frame);
  void make_changes();
  void cross_swapped();
  void saturates(std::size_t channel, bool before, const io::Saturation& now, double value);
  void list_saturated();
  bool exchange();
  bool lose(std::size_t controller, Failure failure);
  void finish_instant();
  bool over();
  void stop_for_wait();
  std::string why_singular(std::size_t group);
  bool all_numbers();
  void list_missing();
  void list_doubt();
  void stop_for_trouble(const engine::PlantTrouble& trouble);
  void say_if_stiff(program::VarId state);
  engine::TapState* tap(std::int32_t index);

  std::shared_ptr<const program::Program> program_;
  RunPlan plan_;
  observe::Observer& observer_;
  observe::Observer* seen_;  ///< observer_, or the queue before it
  std::unique_ptr<observe::ObserverQueue> queue_;
  std::unique_ptr<Pacer> pacer_;
  Rights rights_;
  Count action_;  ///< of the scenario
  const std::atomic<bool>* stop_ = nullptr;
  bool started_ = false;  ///< the controllers run
  engine::Plant plant_;
  std::unique_ptr<engine::NativeBuilder> native_;
  std::unique_ptr<engine::ReferencePlant> reference_;
  ScenarioPlayer scenario_;
  FaultPlayer faults_;
  MessagePlayer messages_;
  engine::Evaluator edges_;
  engine::PlantState state_;
  Sensing sensing_;
  NumberWatch numbers_;
  std::vector<io::ActuatorChannel> actuators_;
  std::vector<io::FrameFields> frames_;
  std::vector<std::size_t> frame_channel_;  ///< per frame: the number of its first field among the channels
  std::vector<Wired> controllers_;
  std::vector<Loss> losses_;
  std::size_t changes_made_ = 0;
  RunResult result_;
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> times_;
  std::vector<StepTimes> crew_times_;
  std::int64_t settled_ns_ = 0, instant_ns_ = 0;  ///< of the present instant
  std::uint64_t plain_numbers_ = 0;               ///< how the processor treats tiny numbers outside the run
};

}  // namespace isodyne::bench
