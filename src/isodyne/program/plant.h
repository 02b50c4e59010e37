#pragma once
// What a plant is: quantities, the expressions between them, states and their groups, state machines, sampled blocks,
// delays, implicit equations, tables, taps, sensors and actuators, and the sorted order in which an instant computes
// them. It is all that the engine needs, and all that it is given.

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "isodyne/core/source.h"
#include "isodyne/core/time.h"
#include "isodyne/core/units.h"
#include "isodyne/program/channels.h"
#include "isodyne/program/ids.h"
#include "isodyne/program/ops.h"

namespace isodyne::program {

struct Type {
  enum class Kind { invalid, real, boolean, integer, choice };
  Kind kind = Kind::invalid;
  Dimension dimension;          ///< of a real
  std::int32_t choice = kNone;  ///< index into Program::choices
  bool absolute = false;        ///< a real on a scale with its own zero: an absolute temperature
  int size = 0;                 ///< number of elements of a vector; 0: a single value. Variables are single.

  bool operator==(const Type&) const = default;
  bool valid() const { return kind != Kind::invalid; }
  bool numeric() const { return kind == Kind::real || kind == Kind::integer; }
};

struct Choice {
  std::string name;
  std::vector<std::string> labels;
};

enum class Role {
  time,
  param,
  fixed_param,
  input,
  state,
  equation,           ///< let, output or driven input: has an equation
  sampled,            ///< memory or output assigned in an `every`
  mode,               ///< of a state machine
  sensor,             ///< what the controller gets
  sensor_true,        ///< the physical quantity a sensor measures
  counts,             ///< raw word of a channel
  signal,             ///< electrical form of what a sensor measures
  actuator,           ///< what the plant gets
  controller_output,  ///< written by a controller, not wired to the plant
  condition,
  measure,        ///< computed by the judge, over stretches of a run
  field,          ///< raw number in a frame
  fault,          ///< true while active
  fault_setting,  ///< how much, from when, for how long: a run may begin with another value
  network,        ///< what the solver of a network gives
  hidden,         ///< bookkeeping: derivatives, entry times, earlier values
};
/// "computed", "state", "sensor" …; null for bookkeeping.
const char* role_text(Role role);
/// It has one value in a run, unless somebody sets it.
constexpr bool is_parameter(Role role) {
  return role == Role::param || role == Role::fixed_param || role == Role::fault_setting;
}

struct Variable {
  std::string name;  ///< "chamber.level"
  Role role = Role::hidden;
  Type type;
  Unit unit;  ///< how people read it; factor 1 for what has no unit
  std::string doc;
  Span span;
  std::optional<std::pair<double, double>> limits;  ///< of a param, SI
  std::int32_t group = 0;                           ///< in whose steps it is computed: index into Program::groups
  bool given = false;                               ///< an input of the bench whose value a harness gives
  bool gate = false;                                ///< a truth of which the edges have instants: see Gate
};

/// One operation of an expression. Operands come earlier in the list, so nodes are in order of evaluation.
struct Node {
  Op op = Op::constant;
  NodeId a = kNone, b = kNone, c = kNone;
  double value = 0;           ///< of a constant
  VarId variable = kNone;     ///< of a variable
  std::int32_t unit = kNone;  ///< of a comparison: how its margin is read, index into Program::units; of a
                              ///< look-up: the table, index into Program::tables
};

struct Assignment {
  VarId target = kNone;
  NodeId value = kNone;
  Span span;
};

struct State {
  VarId value = kNone, derivative = kNone;
  NodeId lowest = kNone, highest = kNone;  ///< kNone: not limited
  Span equation;                           ///< of the derivative
};

enum class Method {
#define METHOD(id, word, order, evaluations, meaning) id,
#include "isodyne/program/methods.def"
#undef METHOD
};

const char* method_word(Method method);
std::optional<Method> method_named(std::string_view word);

/// How many values a delay remembers at most, in the model and as a fault.
constexpr std::int64_t kLongestDelay = 10'000'000;
/// A plant is stepped on fewer cores than this.
constexpr int kMostCores = 16;

/// Parts that are stepped together: with one step, by one method. What they read of other groups is held
/// throughout their step. The steps of any two groups are in a whole ratio.
struct Group {
  /// d(derivative of state `row`)/d(state `column`); both count within the group.
  struct Slope {
    std::int32_t row = 0, column = 0;
    NodeId value = kNone;
  };
  Time step{};
  Method method = Method::rk4;
  /// Groups on different cores step at the same time; what they read of each other is held between the instants of
  /// the bench, however quick their steps are.
  std::int32_t core = 0;
  std::vector<std::int32_t> states;  ///< indices into Program::states
  /// For methods that need them: the slopes that are not zero throughout, and per state the slope of its
  /// derivative in time (kNone: zero).
  std::vector<Slope> jacobian;
  std::vector<NodeId> df_dt;
  Span span;
};

struct Transition {
  int from = 0, to = 0;
  NodeId condition = kNone;
  Span span;
};

/// A machine inside a mode of another runs only while that mode lasts, and starts anew with it.
struct StateMachine {
  VarId mode = kNone;
  VarId entered = kNone;  ///< hidden: when the present mode was entered, s
  std::vector<Transition> transitions;
  std::vector<std::vector<Assignment>> entry, exit;  ///< per mode
  std::int32_t outer = kNone;                        ///< the machine around it
  int outer_mode = 0;
  int inactive = kNone;  ///< the label it has while the mode around it does not last
};

/// An `every` block: runs top to bottom at offset + n * period.
struct PeriodicTask {
  Time period{}, offset{};
  std::vector<Assignment> body;
  Span span;
  std::int32_t group = 0;

  bool due(Time now) const { return now >= offset && (now - offset).count() % period.count() == 0; }
};

/// A `when` block: runs top to bottom at an instant at which its condition becomes true.
struct WhenBlock {
  NodeId condition = kNone;
  std::vector<Assignment> body;
  Span span;
  std::int32_t group = 0;
};

/// The value that `input` had `lag` ago: out(t) = input(t - lag), the first value before that was ever seen.
struct Delay {
  VarId out = kNone;
  NodeId input = kNone, lag = kNone;
  Time longest{};     ///< lag is limited to the step .. longest
  bool held = false;  ///< truth values, whole numbers and choices are not interpolated
  Span span;
};

/// x such that residual(x) = 0.
struct ImplicitEquation {
  VarId x = kNone;
  NodeId residual = kNone, derivative = kNone;  ///< derivative of the residual with respect to x
  NodeId lowest = kNone, highest = kNone;       ///< kNone: not bounded
  NodeId scale = kNone;                         ///< size of the two sides: the residual is small against it
  std::vector<VarId> inlined;                   ///< quantities that depend on x and that the residual reads
  Span span;
};

/// Values between which is interpolated, in SI. With one argument `y` is empty and `z` runs along `x`; with
/// two, z[i * y.size() + j] belongs to x[i], y[j].
struct LookupTable {
  enum class Method { linear, cubic, hold };
  enum class Outside { held, extended, repeated };
  std::string name, doc;
  std::vector<double> x, y, z;
  std::vector<double> slope;  ///< of a cubic table with one argument, at each x
  Method method = Method::linear;
  Outside outside = Outside::held;
  Span span;
};

/// What hangs together through terminals: one solver has its equations (engine/network.h). Its outputs are known at the
/// instants of its group, as states are; its inputs are computed there.
struct Network {
  struct Quantity {
    std::string name;  ///< within its element: "inductance", "i[2]"
    VarId id = kNone;
  };
  struct Element {
    std::string model, path;  ///< "Resistor", "hull.choke[1]"
    std::vector<std::int32_t>
        nodes;  ///< of its terminals, in the order of their declaration, vectors element by element
    std::vector<Quantity> parameters, inputs, outputs;
    std::int32_t curve = kNone;  ///< index into Plant::tables: flux over current of a core
    Span span;
  };
  /// What somebody may look at beside the elements: the voltage of a node, or what flows through a terminal of a part.
  struct Probe {
    struct End {
      std::int32_t element = 0, terminal = 0;  ///< place among Element::nodes
    };
    std::int32_t node = kNone;  ///< kNone: what flows into all of the ends together
    std::vector<End> ends;
    VarId id = kNone;
  };
  std::string kind;  ///< "electric"
  std::int32_t group = 0;
  std::vector<std::string> nodes;  ///< paths of them; the first is `ground`
  std::vector<Element> elements;
  std::vector<Probe> probes;
  /// Inputs of the elements, then their parameters; outputs of the elements, then probes.
  std::vector<VarId> inputs, outputs;
  Span span;
  /// Makes these two lists from the elements and probes.
  void list_quantities();
};

/// A truth whose edges have instants, to the nanosecond. Its variable is what it is at an instant; edges within a step
/// of its group are known when the step begins, and lie after that instant and at the next one at the latest.
struct Gate {
  enum class Kind {
    made,     ///< by the solver of a network: an output of it
    joined,   ///< of other gates and of truths, which are held within a step
    delayed,  ///< what `of` was `lag` ago
    given     ///< an actuator: a controller gives its edges, which come up to `lag` later
  };
  /// One operation of what is joined. Operands come earlier in the list.
  static constexpr int kMostSteps = 64;
  struct Step {
    Op op = Op::constant;  ///< constant, variable, lnot, land, lor or select
    std::int32_t a = kNone, b = kNone, c = kNone;
    std::int32_t gate = kNone;  ///< of a variable that is a gate; it comes earlier in Plant::gates
    VarId truth = kNone;        ///< of another variable
    bool value = false;         ///< of a constant
  };
  Kind kind = Kind::made;
  VarId id = kNone;
  std::int32_t group = 0;
  std::vector<Step> steps;
  std::int32_t of = kNone;
  Time lag{};
  std::int32_t actuator = kNone;  ///< of one that is given
  std::vector<VarId> same;        ///< other variables that are just this one
  Span span;
};

/// A place where a fault may replace a value by a function of itself.
struct Tap {
  VarId target = kNone;
  /// What the tap reads. kNone: the value just computed for the target. For inputs, parameters and
  /// actuators, which nothing recomputes, a hidden variable that holds the healthy value.
  VarId healthy = kNone;
};

/// One entry of the sorted order.
struct Item {
  enum class Kind { equation, periodic_task, tap, delay, solve, sensor };
  Kind kind = Kind::equation;
  std::int32_t index = 0;
};

/// `x becomes active`: true at the first instant at which `now` holds.
struct Edge {
  VarId previous = kNone;
  NodeId now = kNone;
};

/// See watch.h: zero while what `reader` reads is a number.
struct Watch {
  NodeId node = kNone;
  bool by_itself = false;  ///< it may be no number although every quantity is one
  std::string reader;      ///< "requirement `L-03`"
  Span span;
  std::int32_t fault = kNone;                   ///< only where this one is chosen
  std::int32_t scenario = kNone, step = kNone;  ///< only while it stands at this step; step kNone: throughout
};

/// The same for what is read in the quicker steps of a group, where nobody looks: `sum` is zero until something was no
/// number at one of its instants, and no number from then on; until `good` (s) all was well.
struct QuickWatch {
  VarId sum = kNone, good = kNone;
  std::int32_t group = 0;
  std::string reader;
  Span span;
};

struct PartInfo {
  std::string path, model, doc;
  Span span;
};

/// What of quick groups somebody looks at between two instants of the bench; see quick.h.
struct QuickView {
  Time period{};                   ///< of the instants that somebody looks at; 0: nobody does
  std::vector<VarId> columns;      ///< what is looked at, in rising order
  std::vector<std::size_t> edges;  ///< whose condition moves there: places in Plant::edges
  bool any() const { return period.count() > 0; }
};

struct Plant {
  std::string name;  ///< of the bench
  std::shared_ptr<const Sources> sources;
  Time step{};  ///< of the bench: its instants are those of channels, controllers, judge and recorder
  std::vector<Choice> choices;
  std::vector<Variable> variables;  ///< kTime, kSeed (of the run), then as number_variables() has them
  std::vector<VarId> listed;        ///< all variables, in the order of the text: how people see them
  std::vector<Node> nodes;
  std::vector<Unit> units;

  std::vector<Sensor> sensors;
  std::vector<Actuator> actuators;
  std::vector<Network> networks;
  std::vector<Gate> gates;        ///< what a gate is made of comes earlier
  std::vector<Assignment> start;  ///< sorted: gives params, states, inputs and memories their first values
  std::vector<Assignment> equations;
  std::vector<PeriodicTask> periodic_tasks;
  std::vector<WhenBlock> events;
  std::vector<Delay> delays;
  std::vector<ImplicitEquation> solves;
  std::vector<LookupTable> tables;
  std::vector<Tap> taps;
  std::vector<Item> order;  ///< sorted: equations, periodic_tasks, taps, delays, solves and sensors
  std::vector<State> states;
  std::vector<Group> groups;  ///< quickest first; one of them has the step of the bench
  std::vector<StateMachine> machines;
  std::vector<Edge> edges;
  std::vector<PartInfo> parts;
  std::vector<Watch> watches;
  std::vector<QuickWatch> quick_watches;

  /// Whether a quantity keeps its value from one instant to the next and then jumps: what is sampled, commanded or set,
  /// and what is no real number. Others move on between.
  bool held(VarId id) const;
  /// Whether a run may begin with another value of it than the text says: what is computed has none of its own.
  bool startable(VarId id) const;
  const Variable& variable(VarId id) const { return variables[static_cast<std::size_t>(id)]; }
  const Group& group_of(VarId id) const { return groups[static_cast<std::size_t>(variable(id).group)]; }
  const Node& node(NodeId id) const { return nodes[static_cast<std::size_t>(id)]; }
  VarId find(std::string_view wanted) const;
  /// Where to write a new value of an input, parameter or actuator: its healthy variable if it is tapped.
  VarId writable(VarId id) const;

  /// Index into `gates`; kNone: it is no gate, or one that changes at instants only.
  std::int32_t gate_of(VarId id) const;
  /// "every 20 ms", or "at pwm.valley".
  std::string sampling_text(const Sensor& sensor) const;

  /// "3.2 cm", "open", "true": a value as people read it.
  std::string format(VarId id, double value) const;
  std::string format(const Type& type, const Unit& unit, double value) const;
  /// "m^2", "bool", "int", or the labels of a choice.
  std::string type_text(const Variable& variable) const;
  /// "rk4", or "implicit at 100 us, rk4 at 1 ms": the methods of the groups that have states.
  std::string stepping() const;
  /// Every variable a node reads, once each, in order of first use.
  std::vector<VarId> reads(NodeId root) const;
};

/// The value of an expression that reads nothing but variables `known` has a value for; else nothing.
std::optional<double> fold(const Plant& plant, NodeId root, const std::function<std::optional<double>(VarId)>& known);

}  // namespace isodyne::program
