#pragma once
// What makes one run different from another of the same bench.

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/engine/native.h"
#include "isodyne/observe/events.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

/// How a run keeps to the wall clock.
struct PacePlan {
  double speed = 1;  ///< simulated seconds per second
  int core = -1;     ///< of the stepping thread; −1: the last one
};

/// Several runs in one as long as they are the same: which of the plan's faults this one has is decided when the first
/// of them is about to act, and so on.
class FaultChoice {
 public:
  virtual ~FaultChoice() = default;
  /// On the stepping thread, once for each that comes to act. False: this run is without it.
  virtual bool has(std::int32_t fault) = 0;
  /// Whether it may still come to have it; asked after another was decided.
  virtual bool may_have(std::int32_t fault) const = 0;
};

/// What makes one run different from another of the same bench.
struct RunPlan {
  std::int32_t scenario = program::kNone;
  std::vector<std::int32_t> faults;
  std::uint64_t seed = 1;
  bool endless = false;         ///< the plant goes on when the scenario is over
  std::optional<Time> longest;  ///< end after this time, whatever the scenario says
  std::string setting;          ///< of every controller; empty: the first of each
  /// Compile the plant while the run begins on the interpreter, and change over: not one bit differs.
  std::optional<engine::NativeSettings> native;
  bool wait_for_native = false;  ///< begin only when native code is there or cannot be
  bool time_steps = false;       ///< measure how long things take
  std::optional<PacePlan> pace;  ///< nothing: lockstep
  /// Step on this many threads at most; not one bit differs. 0: one in lockstep, else all that the bench asks for.
  int cores = 0;
  /// First values of states, memories, inputs and parameters in the place of the bench's and the scenario's, SI.
  std::vector<std::pair<program::VarId, double>> overrides;
  /// That are known before: by hand in the run that this one repeats, in order.
  std::vector<observe::Command> commands;
  bool reference = false;         ///< the continuous parts by an adaptive solver at tight tolerance
  FaultChoice* choice = nullptr;  ///< outlives the run; null: it has all of `faults`
  engine::NetworkMaker networks;  ///< who solves the networks of the bench; nothing: there are none
};

/// Makes the port of a controller under a setting.
using PortMaker =
    std::function<std::unique_ptr<ports::ControllerPort>(const program::Controller&, const program::Setting&)>;

/// What a controller runs under: `chosen` names settings, or settings of one controller (`agent=asleep`), with commas
/// between them. Who is not named and has none of these takes its first. Null if it is named and has none of that name.
const program::Setting* setting_of(const program::Controller& controller, const std::string& chosen);

/// Two chosen faults that act on the same place, a value that cannot be overridden: reasons not to start.
std::optional<Failure> trouble_with(const program::Program& program, const RunPlan& plan);
/// Why a quantity cannot begin with this value; nothing: it can.
std::optional<Failure> start_trouble(const program::Program& program, program::VarId id, double value);

}  // namespace isodyne::bench
