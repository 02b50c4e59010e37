#pragma once
// What stands between the channels of a plant and its controllers: racks, frames, messages between controllers, cables
// of a loopback, and where each controller can be.

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// One channel of a module in a rack, in use or free.
struct RackChannel {
  int number = 0;
  bool input = true, line = false;  ///< into the controller; bool
  bool gate = false;                ///< a line whose edges have instants
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

/// The elements of a vector among the values a controller exchanges: `count` of them in a row from `first` on.
struct VectorUse {
  std::string name;
  std::size_t first = 0, count = 0;
};

/// Of a gate a controller gives the state at the beginning of the period in which the answer is valid, and edges: how
/// many, and their instants after that beginning, in ns.
constexpr std::size_t kMostAnswerEdges = 16;
constexpr std::size_t kEdgeNumbers = 1 + kMostAnswerEdges;

struct ControllerWrite {
  VarId value = kNone;    ///< actuator, controller output or field
  std::size_t edges = 0;  ///< of a gate: the place of its edges in the answer, behind the values; 0: it has none
  VarId pending = kNone;  ///< hidden: the answer that is not valid yet
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

struct Program;  ///< of the whole; see program.h

/// How a controller keeps step with the plant.
enum class Pace {
  direct,  ///< it answers within the call, on the thread of the call
  waits,   ///< it is asked, and its answer waited for
  free     ///< it runs by its own clock: an exchange hands over and takes what is there, and never waits
};

/// What the text of a setting names.
enum class PortAt { model, file, peer, line };

/// Where a controller can be. The plant never knows which.
struct Setting {
  enum class Kind {
#define PORT(id, words, at, pace, clauses) id,
#include "isodyne/program/port_kinds.def"
#undef PORT
  };
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

/// What is known of a kind of place; see port_kinds.def.
struct PortKind {
  Setting::Kind kind;
  const char* words;  ///< as it is written: "modbus server"
  PortAt at;
  Pace pace;
  const char* clauses;
};
std::span<const PortKind> port_kinds();
const PortKind& port_kind(Setting::Kind kind);

/// What a run does when a controller is lost: ends; lets all actuators hold; gives them their safe values.
enum class WhenLost { stop, hold, safe };

struct Controller {
  std::string name;
  std::string array;  ///< the array that it is an element of: `agent` of `agent[3]`; empty: it is on its own
  Time period{};
  std::vector<VarId> reads;
  std::vector<ControllerWrite> writes;
  std::vector<FrameUse> read_frames, write_frames;
  std::vector<VectorUse> read_vectors, write_vectors;
  std::vector<SharedParameter> shares;
  /// Elements of vectors that it exchanges by themselves have the name of the vector there.
  std::vector<std::pair<VarId, std::string>> known_as;
  std::vector<VarId> knows;   ///< sensors and inputs it gets, in frames or not
  std::vector<VarId> drives;  ///< actuators and values of its own that it gives, in frames or not
  std::vector<Setting> settings;
  std::string tags;  ///< file, relative to the text that names it; empty: none
  TagColumns tag_columns;
  WhenLost when_lost = WhenLost::stop;
  Span span;

  /// How many numbers an answer has: a value for each write, then the edges of gates.
  std::size_t answer_size() const;
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

/// What a value is called where a dot cannot be: "upper.level" → "upper_level", "load[2].power" → "load_2_power"; an
/// element of a vector keeps its index, "power[2]".
std::string flat_name(const std::string& name);
/// What a controller calls a value: plc's "plc.alarm" is its "alarm", "upper.level" its "upper_level".
std::string own_name(const Controller& controller, VarId id, const std::string& name);

struct Io {
  std::vector<Frame> frames;
  std::vector<Rack> racks;
  std::vector<Controller> controllers;
  std::vector<Messages> messages;
  std::vector<Cables> cables;
  std::vector<Wiring> wirings;
};

}  // namespace isodyne::program
