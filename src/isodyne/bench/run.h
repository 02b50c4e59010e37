#pragma once
// One run of a bench in lockstep: the static schedule of docs/architecture.md, instant by instant.

#include <array>
#include <atomic>
#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/bench/faults.h"
#include "isodyne/bench/scenario.h"
#include "isodyne/bench/step_times.h"
#include "isodyne/core/result.h"
#include "isodyne/engine/native.h"
#include "isodyne/engine/reference.h"
#include "isodyne/io/channel.h"
#include "isodyne/io/frame.h"
#include "isodyne/ports/controller_port.h"

namespace isodyne::bench {

/// What makes one run different from another of the same bench.
struct RunPlan {
  std::int32_t scenario = model::kNone;
  std::vector<std::int32_t> faults;
  std::uint64_t seed = 1;
  std::optional<Time> longest;  ///< end after this time, whatever the scenario says
  std::string setting;          ///< of every controller; empty: the first of each
  /// Compile the plant while the run begins on the interpreter, and change over: not one bit differs.
  std::optional<engine::NativeSettings> native;
  bool wait_for_native = false;  ///< begin only when native code is there or cannot be
  bool time_steps = false;       ///< measure how long things take
  bool reference = false;        ///< the continuous parts by an adaptive solver at tight tolerance
};

/// What the time of an instant is spent on.
enum class RunShare { plant, channels, controllers, judge, whole, count };

/// Makes the port of a controller under a setting.
using PortMaker =
    std::function<std::unique_ptr<ports::ControllerPort>(const model::Controller&, const model::Setting&)>;

struct RunResult {
  Ending ending = Ending::completed;
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
  std::vector<Saturated> saturated;  ///< channels that could not hold what they were given
};

/// Two chosen faults that act on the same place, a scenario that does not exist: reasons not to start.
std::optional<Failure> trouble_with(const model::Program& program, const RunPlan& plan);

class Run {
 public:
  /// The plan must be free of trouble_with(). `observer` outlives the run.
  Run(std::shared_ptr<const model::Program> program, RunPlan plan, const PortMaker& make_port, Observer& observer);

  /// Runs to the end. `stop` may be set from elsewhere (a signal) to end after the present instant.
  RunResult execute(const std::atomic<bool>& stop);

  /// How far the scenario is, for a progress line: may be read in Observer::image.
  const ScenarioPlayer& scenario() const { return scenario_; }

  const engine::ReferencePlant* reference() const { return reference_.get(); }
  /// With RunPlan::time_steps: what an instant is made of, and the whole of it.
  const StepTimes& times(RunShare share) const { return times_[static_cast<std::size_t>(share)]; }
  /// Settling and stepping the plant, one step of the bench.
  double median_step_ns() const { return times(RunShare::plant).quantile(0.5); }

  /// How native code was come by, once it is known; null without.
  const engine::NativeBuilder* native() const { return native_.get(); }
  /// The last image that was shown.
  Image last_image() const { return {state_.now, state_.values.data()}; }

 private:
  struct Wired {
    const model::Controller* controller = nullptr;
    std::unique_ptr<ports::ControllerPort> port;
    std::vector<double> reads, writes;
    std::vector<model::VarId> valid;  ///< where each answer goes when it becomes valid
    bool answered = false, lost = false;
    Time next{};  ///< instant of its next exchange
  };
  bool start_controllers();
  bool instant();
  bool timed_instant();
  void tell(std::span<const engine::ModeChange> changes);
  void take_answers();
  void take_frame(const model::Frame& frame, const io::FrameFields& fields);
  void drive(std::size_t actuator, double answer, bool in_frame);
  void gather_frame(std::size_t frame);
  void sample_sensors();
  void sample_sensor(std::size_t index);
  void saturates(std::size_t channel, bool before, const io::Saturation& now, double value);
  void list_saturated();
  bool exchange();
  bool lose(std::size_t controller, const Failure& failure);
  void finish_instant();
  bool over(const std::atomic<bool>& stop);
  void stop_for_wait();
  std::string why_singular(std::size_t group);
  void stop_for_trouble(const engine::PlantTrouble& trouble);
  engine::TapState* tap(std::int32_t index);

  std::shared_ptr<const model::Program> program_;
  RunPlan plan_;
  Observer& observer_;
  engine::Plant plant_;
  std::unique_ptr<engine::NativeBuilder> native_;
  std::unique_ptr<engine::ReferencePlant> reference_;
  ScenarioPlayer scenario_;
  FaultPlayer faults_;
  engine::Evaluator edges_;
  engine::PlantState state_;
  std::vector<io::SensorChannel> sensors_;
  std::vector<io::ActuatorChannel> actuators_;
  std::vector<io::FrameFields> frames_;
  std::vector<std::size_t> frame_channel_;  ///< per frame: the number of its first field among the channels
  std::vector<Time> sample_at_;  ///< per sensor: instant of its next sample
  Time next_sample_{};           ///< the first of them
  std::vector<Wired> controllers_;
  RunResult result_;
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> times_;
  std::int64_t settled_ns_ = 0, instant_ns_ = 0;  ///< of the present instant
  std::uint64_t plain_numbers_ = 0;               ///< how the processor treats tiny numbers outside the run
};

}  // namespace isodyne::bench
