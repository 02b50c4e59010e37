#pragma once
// Everything of a plant that changes during a run. It can be copied and compared; the interpreter and native
// code work on the same state, so either may go on where the other stopped.

#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/memory.h"
#include "isodyne/program/fault_kind.h"
#include "isodyne/program/plant.h"

namespace isodyne::engine {

/// What `replace` puts in the place of a value. Called on the stepping thread.
class TapFunction {
 public:
  virtual ~TapFunction() = default;
  /// `fresh`: the first time in an instant; what is remembered moves on.
  virtual double replace(double value, bool fresh) = 0;
};

/// What stands between the quantity that a sensor measures and what it gives: not the engine's business.
class SensorSampling {
 public:
  virtual ~SensorSampling() = default;
  /// Whether any sensor is due; lets those be passed over quickly that are not.
  virtual bool due(Time now) const = 0;
  /// A sensor that is due gives its sample of the quantity as it is in the state now. Called again within an instant
  /// when its quantity may have become another one; the last time counts. On the stepping thread.
  virtual void sample(std::int32_t sensor) = 0;
};

/// A truth among the inputs of a network changed within a step.
struct NetworkEdge {
  std::int32_t input = 0;  ///< place among the inputs
  Time at{};               ///< after the beginning of the step, at its end at the latest
  bool to = false;
};

/// The edges of a gate within the step of its group that has begun last.
struct GateEdges {
  /// Those of an answer, 16, and as many of the one before it that are on their way, and that each begins anew.
  static constexpr std::int32_t kMost = 34;
  bool first = false;            ///< what it was at the beginning
  std::int32_t count = 0;        ///< it turns round at each of them
  std::array<Time, kMost> at{};  ///< after the beginning, at the end at the latest; in order
};

/// What a gate that is delayed, or given from outside, remembers.
struct DelayedEdges {
  bool in = false, out = false;  ///< what its input was at last, and what it was itself
  std::int32_t first = 0, count = 0;
  std::vector<Time> at;  ///< a ring: when it will turn round; has its room before the run

  Time& edge(std::int32_t i) { return at[static_cast<std::size_t>(first + i) % at.size()]; }
  /// False: there is no room.
  bool push(Time when) {
    if (count == static_cast<std::int32_t>(at.size())) return false;
    edge(count++) = when;
    return true;
  }
  bool due(Time now) { return count > 0 && edge(0) <= now; }
  /// It turns round; when.
  Time pop() {
    const Time when = edge(0);
    out = !out;
    first = static_cast<std::int32_t>(static_cast<std::size_t>(first + 1) % at.size());
    --count;
    return when;
  }
};

/// What changes of networks and gates: see network.h, gates.h.
struct NetworkState {
  std::vector<double> numbers;                  ///< of one after another
  std::vector<double> next;                     ///< outputs that are not valid yet, the same way
  std::vector<std::vector<NetworkEdge>> edges;  ///< per network: those of the step that begins, in the order of time
  std::vector<GateEdges> gates;                 ///< per gate of the plant
  std::vector<DelayedEdges> delayed;            ///< the same
  /// Per group: the next edge of gates that are made for longer than its step, or an instant before now: not known;
  /// and whether any gate has an edge within its step.
  std::vector<Time> next_edge;
  std::vector<char> stirred;
  std::int32_t stuck = program::kNone;  ///< the network that has no start
  bool started = false;
};

/// Who steps networks. On the thread that steps their group.
class NetworkStepping {
 public:
  virtual ~NetworkStepping() = default;
  /// Those of a group, from one of its instants to the next, with the inputs that stand in `values` now; at an instant
  /// groups with longer steps come first. Gives kNone, or the network that cannot go on; behind the last of them, the
  /// gate that has too many edges.
  virtual std::int32_t step(std::int32_t group, Time from, std::span<double> values, NetworkState& state) = 0;
  /// The group has arrived at `now`: outputs become valid, and gates are what they are then.
  virtual void arrive(std::int32_t group, Time now, std::span<double> values, NetworkState& state) = 0;
  /// Whether nothing is ever computed between two instants of the bench: quick groups have the same step, and networks
  /// alone, which go all the way at once, in the first and the last of their steps.
  virtual bool still() const = 0;
  /// Whether somebody looks, between two instants of the bench, at what is idle there: see program::idle_between().
  virtual bool idle_wanted() const = 0;
};

/// Who looks at the instants of quick groups between two of the bench: on the thread that steps them, when everything
/// there is settled.
class QuickObserver {
 public:
  virtual ~QuickObserver() = default;
  /// `core`: place among RunningPlant::cores(). `values`: all quantities as this core sees them.
  virtual void instant(std::int32_t core, Time now, const double* values) = 0;
};

/// What a fault does at a tap at present. Several may act at one tap, one after the other.
struct TapState {
  bool any_on = false;           ///< of the first at a tap: it or one behind it acts
  bool on = false;               ///< this one acts
  bool claimed = false;          ///< somebody may let it act
  bool changed = false;          ///< it gave another value than it got, at some time
  std::int32_t next_offset = 0;  ///< how many places further in PlantState::taps the one behind it is; 0: there is none
  program::FaultKind kind = program::FaultKind::offset;
  double amount = 0;  ///< refreshed at every instant while it acts
  double since = 0;   ///< when it began to act, s
  double held = 0;    ///< for freeze and dropout
  bool holding = false;

  /// For delay: what there was, in a ring that has its room before the run; one entry an instant of the bench.
  struct Past {
    double at = 0, value = 0;
  };
  std::vector<Past> past;
  std::size_t first = 0, count = 0;
  bool fresh = false;  ///< the next value is the first of an instant
  double lag = 0;      ///< s; of a ramp, how long it takes
  TapFunction* function = nullptr;

  /// A fault begins; room stays.
  void begin(program::FaultKind what, double now) {
    on = true;
    kind = what;
    since = now;
    holding = fresh = false;
    first = count = 0;
  }
};

/// The value that comes out of a tap when `value` goes in, at `now` seconds.
double through_tap(TapState& tap, double value, double now);

struct PlantState {
  Time now{};
  std::vector<double> values;              ///< variables first; then the interpreter's constants and intermediates
  std::vector<double> next;                ///< per state: its value at the end of its group's step, not valid yet
  std::vector<TapState> taps;              ///< per tap of the plant the first, and behind them those that were added
  std::vector<std::int32_t> reversals;     ///< per state machine: instants in a row with a transition
  std::vector<char> event_was;             ///< per `when`: whether its condition held when last looked at
  std::vector<char> event_late;            ///< per `when`: fired in the later rounds of this instant
  std::vector<double> history;             ///< what delays remember: one ring after another
  std::vector<std::int64_t> remembered;    ///< per delay: instants that its ring has seen
  std::int32_t unsolved = program::kNone;  ///< the equation to solve that had no solution
  std::int32_t entered = 0;                ///< 1: the modes at the start have been entered
  std::int32_t endless = 0;                ///< 1: `when` blocks set each other off without end
  /// Of implicit steps: the largest share of a state by which one may be off; the group, the state within it, when (s);
  /// and how many were off by more than a tenth.
  std::array<double, 5> doubt{};
  SensorSampling* sensors = nullptr;    ///< nobody: sensors are ideal, what they measure is what they give
  QuickObserver* quick = nullptr;       ///< nobody: only instants of the bench are looked at
  NetworkStepping* networks = nullptr;  ///< nobody: there are none
  NetworkState network;

  double operator[](program::VarId id) const { return values[static_cast<std::size_t>(id)]; }
  double& operator[](program::VarId id) { return values[static_cast<std::size_t>(id)]; }
};

/// A place for something more that may act at this tap, behind what is there. Before the run: the state makes room.
std::size_t add_tap(PlantState& state, std::size_t tap);
/// To be called after something at this tap has been switched.
void refresh_tap(PlantState& state, std::size_t tap);

/// What an execution works on: a plant's state, where cores other than that of the bench have values of their own and
/// share the rest, of which each changes only what belongs to its groups.
struct StateView {
  StateView(PlantState& s)  // NOLINT(google-explicit-constructor): a state is the view of all of itself
      : now(&s.now),
        unsolved(&s.unsolved),
        entered(&s.entered),
        endless(&s.endless),
        doubt(s.doubt.data()),
        values(s.values),
        next(s.next),
        taps(s.taps),
        reversals(s.reversals),
        event_was(s.event_was),
        event_late(s.event_late),
        history(s.history),
        remembered(s.remembered),
        sensors(s.sensors),
        quick(s.quick),
        networks(s.networks),
        network(&s.network) {}

  Time* now;
  std::int32_t *unsolved, *entered, *endless;
  double* doubt;
  std::span<double> values, next;
  std::span<TapState> taps;
  std::span<std::int32_t> reversals;
  std::span<char> event_was, event_late;
  std::span<double> history;
  std::span<std::int64_t> remembered;
  SensorSampling* sensors;
  QuickObserver* quick;
  NetworkStepping* networks;
  NetworkState* network;
  std::int32_t core = 0;  ///< place among those of the plant

  /// Whether what lies between two instants of the bench can be left out: nothing happens there, and nobody looks.
  bool passes_over() const { return quick == nullptr && networks != nullptr && networks->still(); }

  /// Whether what is idle between two instants of the bench is computed there all the same.
  bool computes_idle() const { return networks == nullptr || networks->idle_wanted(); }

  double& operator[](program::VarId id) const { return values[static_cast<std::size_t>(id)]; }
};

using ModeChange = iso_change;

/// Mode changes since they were last asked for. Room is made once: a machine changes once an instant.
struct ModeChanges {
  std::vector<ModeChange> list;
  std::int32_t count = 0;
};

/// Why a plant cannot go on.
struct PlantTrouble {
  enum class Kind : std::int32_t {
    none,
    not_finite,
    endless_reversal,
    endless_events,
    no_solution,
    singular,
    stuck,
    network
  };
  Kind kind = Kind::none;  ///< stuck: an adaptive solver cannot go on, and this state moves fastest
  std::int32_t index =
      0;                 ///< of the state, the state machine, the `when`, the equation to solve, the group, the network
  double last_good = 0;  ///< of the state, one step earlier; of the unknown, the last iterate
};

/// A state machine that changes at this many instants in a row is taken to reverse without end.
constexpr std::int32_t kMostReversals = 1000;
/// `when` blocks that set each other off this many times in one instant never stop.
constexpr int kMostRounds = 100;

/// One way to execute the equations of a program. Never allocates, locks, throws or blocks once made.
class Execution {
 public:
  virtual ~Execution() = default;

  /// Gives every equation its value at state.now, whatever its rate, and changes nothing else.
  virtual void solve(const StateView& state) = 0;

  /// Solves what is due at state.now, in this order: equations, sensors among them; transitions (one per machine) with
  /// their exit and entry actions; `when` blocks until none fires; sampled parts that are due; memory of delays.
  virtual void settle(const StateView& state, ModeChanges& changes) = 0;

  /// From a settled instant of the bench to its next one, quicker groups in steps of their own. On trouble the
  /// state stays at the last instant from which it could not go on.
  virtual PlantTrouble step(const StateView& state, ModeChanges& changes) = 0;
};

}  // namespace isodyne::engine
