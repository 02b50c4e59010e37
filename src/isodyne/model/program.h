#pragma once
// The checked, flattened, sorted bench: everything a run needs, resolved to indices.
//
// A Program never changes once it is made and may be shared by threads. Every quantity is a variable in one
// flat list; its index is also its place in the state's array of values (see layout.h). Truth values are 1 and 0, a
// choice is the index of its label.

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
#include "isodyne/model/ops.h"

namespace isodyne::model {

using VarId = std::int32_t;
using NodeId = std::int32_t;
constexpr std::int32_t kNone = -1;

/// The element of a list that a number in the program means.
template <typename List>
const auto& at(const List& list, std::int32_t index) {
  return list[static_cast<std::size_t>(index)];
}
constexpr VarId kTime = 0, kSeed = 1;

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
  measure,  ///< computed by the judge, over stretches of a run
  field,    ///< raw number in a frame
  fault,    ///< true while active
  hidden,   ///< bookkeeping: derivatives, entry times, earlier values
};

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
#include "isodyne/model/methods.def"
#undef METHOD
};

const char* method_word(Method method);
std::optional<Method> method_named(std::string_view word);

/// Parts that are stepped together: with one step, by one method. What they read of other groups is held
/// throughout their step. The steps of any two groups are in a whole ratio.
/// What a delay remembers at most, in the model and as a fault.
constexpr std::int64_t kLongestDelay = 10'000'000;
/// A plant is stepped on fewer cores than this.
constexpr int kMostCores = 16;

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
  std::vector<NodeId> drift;
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
struct Sampler {
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
struct Solve {
  VarId x = kNone;
  NodeId residual = kNone, derivative = kNone;  ///< derivative of the residual with respect to x
  NodeId lowest = kNone, highest = kNone;       ///< kNone: not bounded
  NodeId scale = kNone;                         ///< size of the two sides: the residual is small against it
  std::vector<VarId> inlined;                   ///< quantities that depend on x and that the residual reads
  Span span;
};

/// Values between which is interpolated, in SI. With one argument `y` is empty and `z` runs along `x`; with
/// two, z[i * y.size() + j] belongs to x[i], y[j].
struct Table {
  enum class Method { linear, cubic, hold };
  enum class Outside { held, extended, repeated };
  std::string name, doc;
  std::vector<double> x, y, z;
  std::vector<double> slope;  ///< of a cubic table with one argument, at each x
  Method method = Method::linear;
  Outside outside = Outside::held;
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
  enum class Kind { equation, sampler, tap, delay, solve, sensor };
  Kind kind = Kind::equation;
  std::int32_t index = 0;
};

struct Linear {
  double low_from = 0, high_from = 1;  ///< two points …
  double low_to = 0, high_to = 1;      ///< … and what they become
};

/// The raw word of a channel: which whole numbers it can hold, and what happens to others.
struct Word {
  int bits = 0;  ///< 0: it was not declared, and the counts go from one end of the scale to the other
  bool is_signed = false;
  bool wraps = false;  ///< counts on from the other end; else it saturates
  double lowest = 0, highest = 0;
};

/// A curve that only rises or only falls, such as the resistance of a thermometer over its temperature: straight
/// between points at equal distances.
struct Curve {
  double first = 0, last = 0;  ///< quantity at both ends
  std::vector<double> signal;

  double forth(double quantity) const;  ///< beyond the ends the last piece goes on
  double back(double of_signal) const;
};

/// The way between a quantity and the word that stands for it; every step may be missing.
struct ChannelForm {
  std::optional<std::pair<double, double>> range;          ///< SI
  std::optional<Linear> to_signal;                         ///< from range to the electrical form …
  std::optional<Curve> curve;                              ///< … or along a curve
  std::optional<std::pair<double, double>> signal_limits;  ///< what the wire can carry at most
  std::optional<Linear> to_counts;                         ///< from a quantity to counts
  Word word;
  bool on = true;                                        ///< by its rack
  std::string range_text, electrical_text, counts_text;  ///< as written
  VarId signal = kNone, counts = kNone;                  ///< kNone: it has none
  std::int32_t signal_tap = kNone, counts_tap = kNone;

  bool electrical() const { return to_signal.has_value() || curve.has_value(); }
};

struct Sensor : ChannelForm {
  std::string name;
  VarId truth = kNone, value = kNone;
  Time period{}, offset{};
  bool pulses = false;     ///< counts pulses between samples: to_counts is about the integral
  Time filter{};           ///< time constant; 0: none
  double noise = 0;        ///< standard deviation, SI
  std::string noise_text;  ///< as written
  std::int32_t tap = kNone;
  Span span;

  /// At the start every sensor samples, so that nothing is read that was never sampled.
  bool due(Time now) const {
    return now.count() == 0 || (now >= offset && (now - offset).count() % period.count() == 0);
  }
};

struct Actuator : ChannelForm {
  std::string name;
  VarId value = kNone;
  double start = 0;
  std::optional<double> safe;  ///< what it takes when its controller is lost; nothing: it holds the last answer
  Span span;
};

/// One channel of a module in a rack, in use or free.
struct RackChannel {
  int number = 0;
  bool input = true, line = false;  ///< into the controller; bool
  std::string form;                 ///< what the module says about it, as written
  std::string name;                 ///< of the sensor or actuator; empty: free
  std::int32_t sensor = kNone, actuator = kNone;
  std::string value, range;  ///< as written, of a sensor that the rack made
  bool on = true;
  std::vector<std::string> groups;
  Span span;  ///< of the statement
};

struct RackSlot {
  int number = 0;
  std::string module, doc;
  std::vector<RackChannel> channels;  ///< all that the module has, in order
  Span span, inside;                  ///< inside: with the braces
};

struct Rack {
  std::string name, doc;
  std::vector<RackSlot> slots;  ///< in the order of the text
  Span span;
};

/// A stretch of bits of a word; `shift` counts from the least significant bit.
struct BitRange {
  int word = 0, shift = 0, width = 64;
};

struct FrameField {
  enum class Kind { value, constant, time, counter };
  Kind kind = Kind::value;
  std::string name, doc;
  BitRange bits;
  bool is_signed = false;
  VarId raw = kNone;               ///< the number in the field
  VarId of = kNone;                ///< to a controller: what is put into it; from one: where it goes, kNone: nowhere
  std::int32_t actuator = kNone;   ///< index into Program::actuators
  double lowest = 0, highest = 0;  ///< what the field can hold
  double constant = 0;
  Time unit{};  ///< of a time
  std::int32_t tap = kNone;
  Span span;
};

/// The bits of several fields seen as one number.
struct FramePort {
  std::string name, doc;
  BitRange bits;
  VarId raw = kNone;
  std::vector<std::int32_t> fields;  ///< wholly inside it
  std::int32_t tap = kNone;
  Span span;
};

/// What goes over a wire between plant and controller at once: words of 64 bits.
struct Frame {
  std::string name, doc;
  int words = 0;
  bool bits_from_high = false;   ///< how people number the bits: bit 0 is the most significant one
  bool bytes_from_high = false;  ///< the most significant byte of a word is sent first
  bool to_controller = true;
  std::vector<FrameField> fields;
  std::vector<FramePort> ports;
  std::vector<BitRange> spare;
  Span span;

  /// "bits 4 .. 7 of word 1", numbered as people do in this frame.
  std::string text(const BitRange& bits) const;
};

/// A frame among the values a controller exchanges: its fields stand in a row from `first` on.
struct FrameUse {
  std::int32_t frame = 0;
  std::size_t first = 0;
};

struct ControllerWrite {
  VarId value = kNone;            ///< actuator, controller output or field
  VarId pending = kNone;          ///< hidden: the answer that is not valid yet
  std::int32_t actuator = kNone;  ///< index into Program::actuators
  bool in_frame = false;          ///< the answer is the number in the field
};

/// Titles of the columns of a controller's tag list; empty: the usual ones.
struct TagColumns {
  std::string name, address, type, unit, comment;
};

/// A parameter of the plant that the controller's code is built with.
struct SharedParameter {
  VarId id = kNone;
  double value = 0;  ///< SI, as the bench starts
};

struct Program;

/// Where a controller can be. The plant never knows which.
struct Setting {
  enum class Kind { part, library, program, link, modbus_server, modbus_client, mqtt };
  enum class Parity { even, odd, none };
  std::string name;
  Kind kind = Kind::library;
  std::string text;      ///< as written: `library "controller/lockctl"`
  std::string address;   ///< file of a library or program, with its arguments; "host:port"; a serial line "/dev/ttyS1"
  std::string map;       ///< of Modbus: file that says which channel has which address
  std::string topic;     ///< of MQTT: beginning of all topics
  bool grouped = false;  ///< of MQTT: one JSON object for all that goes one way
  bool over_socket = false;  ///< of a program: a Unix socket, not shared memory
  int unit = 1;              ///< of Modbus: address of the server
  int rate = 19200;          ///< of a serial line, bit/s
  Parity parity = Parity::even;
  int restarts = 0;                      ///< of a program: how many times it may be started again
  Time ready_within{};                   ///< how long the start-up may take
  std::shared_ptr<const Program> logic;  ///< of a part: inputs by name, outputs in `it.NAME`
  Span span;
};
/// "library", "modbus server": the kind as it is written.
const char* setting_word(Setting::Kind kind);

/// What a run does when a controller is lost: ends; lets all actuators hold; gives them their safe values.
enum class WhenLost { stop, hold, safe };

struct Controller {
  std::string name;
  Time period{};
  std::vector<VarId> reads;
  std::vector<ControllerWrite> writes;
  std::vector<FrameUse> read_frames, write_frames;
  std::vector<SharedParameter> shares;
  std::vector<VarId> knows;   ///< sensors and inputs it gets, in frames or not
  std::vector<VarId> drives;  ///< actuators and values of its own that it gives, in frames or not
  std::vector<Setting> settings;
  std::string tags;  ///< file, relative to the text that names it; empty: none
  TagColumns tag_columns;
  WhenLost when_lost = WhenLost::stop;
  Span span;
};

enum class FaultKind {
#define FAULT(id, word, amount, where, meaning) id,
#include "isodyne/model/fault_kinds.def"
#undef FAULT
};

const char* fault_word(FaultKind kind);

/// What `replace with` computes at its tap: from what goes in, what came out at the instant before, and memories, which
/// are hidden variables; other quantities are those of the instant before.
struct Replacement {
  struct Memory {
    VarId id = kNone;
    NodeId start = kNone, next = kNone;  ///< next: its value after an instant
  };
  VarId it = kNone, was = kNone;
  std::vector<Memory> memories;
};

struct Fault {
  enum class When { whole_run, from, between, once, while_, by_hand };
  std::string name, doc;
  VarId active = kNone;
  std::int32_t tap = kNone;    ///< kNone: it is about messages
  std::int32_t other = kNone;  ///< tap that a swap swaps with
  /// Of messages: those to or from a controller, or between controllers.
  std::int32_t controller = kNone;
  bool to_controller = false;
  std::int32_t messages = kNone;
  FaultKind kind = FaultKind::offset;
  NodeId amount = kNone;
  Replacement replacement;
  bool truth = false;                  ///< what is faulty is a truth
  Time every{};                        ///< of spikes
  Time lag{};                          ///< of a delay, of jitter at most; how long a ramp takes
  std::string amount_text, when_text;  ///< as written
  When when = When::whole_run;
  Time begin{};             ///< from; the earliest of `between`
  std::optional<Time> end;  ///< to; the latest begin of `between`
  NodeId condition = kNone;
  std::optional<Time> lasting;
  NodeId until = kNone;    ///< over when this comes true
  Time pulse{}, period{};  ///< acts for the first of these out of each of the second; 0: throughout
  Span span;
};

/// Faults that may act on one place together, in this order.
struct Composition {
  std::vector<std::int32_t> faults;
  Span span;
};

/// One step of a scenario; sub-scenarios are in place, blocks are jumps. Steps run one after the other on a track.
struct ScenarioStep {
  enum class Kind {
    set,      ///< target becomes value
    step,     ///< target is moved by value
    ramp,     ///< target moves to value over duration
    play,     ///< target follows table from its first point to its last
    release,  ///< target, a channel that was set, is let go
    wait,     ///< until value, at most duration
    hold,     ///< duration
    expect,   ///< value: at once, within duration, or throughout duration
    inject,   ///< fault
    clear,    ///< fault
    repeat,   ///< places[0] is behind the loop; value: how many rounds, or until when
    again,    ///< places[0] is its repeat
    fork,     ///< places: first steps of tracks; goes on when all have come to their join
    join,     ///< a track is over
    either,   ///< places: one is chosen
    jump,     ///< places[0]
    end       ///< of the scenario
  };
  Kind kind = Kind::hold;
  VarId target = kNone;  ///< what people set; a tapped value is set through its healthy variable
  NodeId value = kNone;  ///< new value, or the condition waited for
  Time duration{};       ///< over, within, hold
  bool whole = false;    ///< expect: throughout; repeat: until value is true
  bool timed = false;    ///< expect: it has a duration
  std::int32_t tap = kNone, table = kNone, fault = kNone;
  std::vector<std::int32_t> places;
  std::vector<std::string> names;  ///< of the tracks of a fork
  NodeId margin = kNone;           ///< of expect
  Unit margin_unit;
  std::string text;  ///< as people read it
  Span span;
};

const char* step_word(ScenarioStep::Kind kind);

struct Scenario {
  struct Start {
    VarId target = kNone;
    double value = 0;
    Span span;
  };
  struct End {
    NodeId when = kNone;
    Span span;
  };
  std::string name, doc;
  std::string needs;  ///< a parameter without a value: it can only be done by others
  std::vector<Start> start;
  std::vector<ScenarioStep> steps;
  std::vector<End> ends;
  Span span;
};

/// A horizontal line that a requirement draws for a variable.
struct LimitLine {
  VarId variable = kNone;
  double value = 0;
};

/// A node of a formula over time; operands are places in Requirement::nodes. At an instant t, over instants of images:
struct FormulaNode {
  enum class Kind {
    truth,    ///< `value`, with its distance `margin` (kNone: none)
    lnot,     ///< not a
    land,     ///< a and b
    lor,      ///< a or b
    within,   ///< a at some instant in [t, t + time]
    stays,    ///< a at all instants in [t, t + time]
    until,    ///< b at some t' in [t, t + time], and a at all instants in [t, t')
    held,     ///< a at all instants in [t − time, t], and the run has lasted that long
    last,     ///< a at some instant in [t − time, t]
    since,    ///< b at some t' <= t, and a at all instants in (t', t]
    rises,    ///< `value` is more than at the instant before (a truth: true, and false before)
    falls,    ///< less
    changes,  ///< another
  };
  Kind kind = Kind::truth;
  std::int32_t a = kNone, b = kNone;
  NodeId value = kNone, margin = kNone;
  bool number = false;  ///< of rises, falls, changes: the difference is the margin
  Time time{};
};

enum class MeasureKind {
#define MEASURE(id, word, signal, clauses, result, meaning) id,
#include "isodyne/model/measures.def"
#undef MEASURE
};

const char* measure_word(MeasureKind kind);

/// What is made of a signal over a stretch of the run: the whole of it; from begin to end; from when `event` becomes
/// true for `end`, or until `until`; while `event`; or every `end`.
struct Measure {
  enum class Window { whole_run, over, after, while_, per };
  std::string name, doc, text;
  VarId value = kNone;
  MeasureKind kind = MeasureKind::mean;
  NodeId of = kNone, to = kNone, within = kNone, against = kNone;
  double low = 0.1, high = 0.9;  ///< shares of the way of a rise
  double at = 0;                 ///< frequency, Hz
  int number = 1;                ///< of a harmonic
  Window window = Window::whole_run;
  Time begin{}, end{};
  NodeId event = kNone, until = kNone;
  Span span;
};

struct Requirement {
  /// What is asked of the instants: that `check` holds wherever `trigger` does, or at one of them, or that it holds at
  /// the first (of a formula `A until B` without a time: `trigger` is A, `check` is B).
  enum class Form { always, eventually, until };
  std::string name, doc, source;
  std::string id;          ///< in the exchange file that it came from; may be empty
  std::string formula;     ///< as written
  bool by_review = false;  ///< people judge it: no run puts it to the test
  Form form = Form::always;
  NodeId trigger = kNone;      ///< counts only where this holds; kNone: everywhere
  NodeId check = kNone;        ///< must hold …
  std::optional<Time> within;  ///< … at some instant within this time
  NodeId margin = kNone;       ///< distance to the breach; kNone: the formula has no common unit
  Unit margin_unit;            ///< "of the limit" where units mix
  /// Where operators over time are used: operands before what they belong to; then `trigger`, `check` and `margin` are
  /// unused, and these are their roots.
  std::vector<FormulaNode> nodes;
  std::int32_t trigger_root = kNone, check_root = kNone;
  /// Measures that it reads: it is asked whenever one of them has a new value. Indices into Program::measures.
  std::vector<std::int32_t> measures;
  bool has_margin() const {
    return margin != kNone || within ||
           std::any_of(nodes.begin(), nodes.end(), [](const FormulaNode& n) { return n.margin != kNone || n.number; });
  }
  std::vector<LimitLine> limits;
  Span span;
};

/// `x becomes active`: true at the first instant at which `now` holds.
struct Edge {
  VarId previous = kNone;
  NodeId now = kNone;
};

struct Figure {
  std::string name, title;
  std::vector<std::vector<VarId>> panels;
};

/// From a sensor's channel, out of the rack, to an actuator's, which reads it back.
struct Cable {
  std::int32_t sensor = kNone, actuator = kNone;
  Span span;
};

struct Cables {
  std::string name, doc;
  std::vector<Cable> cables;
  Span span;
};

/// What a simulated wire does to the level, the share of the way between both ends.
struct Wire {
  std::int32_t sensor = kNone, actuator = kNone;  ///< actuator kNone: open
  bool inverted = false;
  double times = 1, noise = 0;
  std::optional<double> stuck;
};

/// All wires of a cable list, the faultless ones too.
struct Wiring {
  std::string name, doc;
  std::int32_t cables = 0;
  std::vector<Wire> wires;
  Span span;
};

/// What carries values from one controller to another: late, never, or in another order.
struct Messages {
  struct Line {
    std::int32_t from = kNone, to = kNone;        ///< controllers
    std::vector<std::pair<VarId, VarId>> values;  ///< what `from` writes, and where `to` reads it
  };
  std::string name, doc;
  Time latency{}, jitter{};  ///< a message takes latency, and up to jitter more, all as likely
  double loss = 0;           ///< share of messages that never arrive
  VarId cut = kNone;         ///< true: none that is sent now arrives
  std::vector<Line> lines;
  Span span;
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

/// Signals that are recorded together: as often, in the same form, at the same times.
struct RecordGroup {
  std::string name;  ///< "1ms": its place in the recording; the first has none
  Time period{};
  bool single = false;  ///< as float32
  bool compressed = false;
  bool windows = false;  ///< only around the instants when `when` is true, or a requirement is broken
  NodeId when = kNone;
  bool rises = false;                      ///< only when it becomes true
  std::vector<std::int32_t> requirements;  ///< without `when`: of which a breach counts; empty: of any
  Time before{}, after{};
  std::string text;  ///< "when trip rises with 20 ms before"
  /// What requirements read, at every instant around where each was broken first or worst: beside the rows of other
  /// groups, and known only at the end of the run.
  bool judged = false;
  std::vector<VarId> signals;
};

struct Program {
  std::string name, doc;
  std::shared_ptr<const Sources> sources;
  Time step{};  ///< of the bench: its instants are those of channels, controllers, judge and recorder
  /// The first is of everything that no statement names. Its times are there without signals too: those of the run.
  std::vector<RecordGroup> recorded{1};

  std::vector<Choice> choices;
  std::vector<Variable> variables;  ///< kTime is the time, kSeed the seed of the run; laid out by lay_out()
  std::vector<VarId> listed;        ///< all variables, in the order of the text: how people see them
  std::vector<Node> nodes;
  std::vector<Unit> units;

  std::vector<Assignment> start;  ///< sorted: gives params, states, inputs and memories their first values
  std::vector<Assignment> equations;
  std::vector<Sampler> samplers;
  std::vector<WhenBlock> events;
  std::vector<Delay> delays;
  std::vector<Solve> solves;
  std::vector<Table> tables;
  std::vector<Tap> taps;
  std::vector<Item> order;  ///< sorted: equations, samplers, taps, delays, solves and sensors
  std::vector<State> states;
  std::vector<Group> groups;  ///< quickest first; one of them has the step of the bench
  std::vector<StateMachine> machines;
  std::vector<Edge> edges;

  std::vector<PartInfo> parts;
  std::vector<Sensor> sensors;
  std::vector<Actuator> actuators;
  std::vector<Frame> frames;
  std::vector<Rack> racks;
  std::vector<Controller> controllers;
  std::vector<Messages> messages;
  std::vector<Fault> faults;
  std::vector<Composition> compositions;
  std::vector<Scenario> scenarios;
  std::vector<Requirement> requirements;
  std::vector<Measure> measures;
  std::vector<Figure> figures;
  std::vector<Cables> cables;
  std::vector<Wiring> wirings;
  std::vector<Watch> watches;
  std::vector<QuickWatch> quick_watches;

  Time record_period() const { return recorded.front().period; }
  /// Whether a quantity keeps its value from one instant to the next and then jumps: what is sampled, commanded or set,
  /// and what is no real number. Others move on between.
  bool held(VarId id) const;
  const Variable& variable(VarId id) const { return variables[static_cast<std::size_t>(id)]; }
  const Group& group_of(VarId id) const { return groups[static_cast<std::size_t>(variable(id).group)]; }
  const Node& node(NodeId id) const { return nodes[static_cast<std::size_t>(id)]; }
  VarId find(std::string_view wanted) const;
  /// Where to write a new value of an input, parameter or actuator: its healthy variable if it is tapped.
  VarId writable(VarId id) const;

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

/// What a fault is on, as people name it: "chamber_level", "plc.reads", "radio".
std::string place_of(const Program& program, const Fault& fault);

/// The value of an expression that reads nothing but variables `known` has a value for; else nothing.
std::optional<double> fold(const Program& program, NodeId root,
                           const std::function<std::optional<double>(VarId)>& known);

}  // namespace isodyne::model
