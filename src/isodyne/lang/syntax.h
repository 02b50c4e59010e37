#pragma once
// The syntax tree: what was written, with its places, and nothing about its meaning.
//
// Expression trees are at most kMostHeight high (the parser sees to it), so every pass may recurse.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/source.h"

namespace isodyne::lang {

struct Expr;
using ExprPtr = std::unique_ptr<Expr>;

struct Name {
  std::string text;
  Span span;
};

/// One step of a path: a name, perhaps of one element (`wagon[3]`) or of all of them (`wagon[*]`).
struct PathStep {
  std::string text;
  Span span;
  std::shared_ptr<const Expr> index;  ///< shared, so that a path can be copied
  bool all = false;
};

/// a.b[2].c
struct Path {
  std::vector<PathStep> parts;
  Span span;

  Path() = default;
  explicit Path(const Name& name) : parts{{name.text, name.span, nullptr, false}}, span(name.span) {}
  bool plain() const { return parts.size() == 1 && !parts[0].index && !parts[0].all; }
  std::string text() const;
};

enum class ExprKind {
  number,          ///< value, unit text in `word`
  boolean,         ///< value 0 or 1
  name,            ///< path
  negate,          ///< -a
  invert,          ///< not a
  list,            ///< [a, b, c]
  binary,          ///< a word b, where word is + - * / ^ < <= > >= and or implies
  is,              ///< a is b
  is_not,          ///< a is not b
  within,          ///< a within b of c
  conditional,     ///< if a then b else c
  call,            ///< path(args)
  at_limit,        ///< a at limit
  becomes_active,  ///< a becomes active
  from_file,       ///< from "FILE" column "C", over time; only in harnesses
  band,            ///< a within b [and t] of a column of a file, which is `column`
  over_time        ///< only in requirements: `word` says which; operands, then the time
};

/// `"plan.csv" [column "TITLE"]`: a column of numbers over time, or over whatever the first column is.
struct FileColumn {
  std::string file;
  Span span;
  std::optional<Name> column;
  std::int32_t data = -1;  ///< which source is the text of the file, once it has been read
};

struct Expr {
  static constexpr int kMostHeight = 500;

  ExprKind kind = ExprKind::number;
  Span span;
  std::string word;
  double value = 0;
  Path path;
  std::vector<ExprPtr> args;
  std::shared_ptr<const FileColumn> column;  ///< of a band
  int height = 1;
};

/// A deep copy.
ExprPtr clone(const Expr& e);
/// The same with a number in the place of a name, also within indices.
ExprPtr clone_with(const Expr& e, const std::string& name, double value);

/// `name`, or `name[index]`.
Path path_of_element(const Name& name, const std::shared_ptr<const Expr>& index);

/// A unit, `bool`, `int` or the name of a choice, as written after a colon; with a number of elements in
/// brackets it is a vector.
struct TypeRef {
  std::string text;
  Span span;
  std::shared_ptr<const Expr> size;
};

struct FunctionDecl {
  Name name;
  struct Param {
    Name name;
    TypeRef type;
  };
  std::vector<Param> params;
  TypeRef result;
  ExprPtr body;
  std::string doc;
};

struct ChoiceDecl {
  Name name;
  std::vector<Name> labels;
  std::string doc;
};

/// A table of values between which is interpolated: `table NAME(x: m) -> s = [1 m: 2 s, …] linear outside held`. In a
/// model it has no values: each part is given one, `part core : Core(curve = NAME)`.
struct TableDecl {
  struct Row {
    ExprPtr at, value;      ///< of a table with one argument
    std::vector<Row> line;  ///< of a table with two: the row at `at`
  };
  Name name;
  std::vector<FunctionDecl::Param> params;
  TypeRef result;
  std::vector<Row> rows;
  std::string file;  ///< `from "plan.csv"`
  Span file_span;
  std::int32_t data = -1;      ///< which source is the text of the file, once it has been read
  std::optional<Name> column;  ///< of the file: which column is the result
  Name method, outside;        ///< `linear`, `cubic` or `hold`; `held`, `extended`, `repeated`
  std::string doc;
};

enum class VarKind { param, fixed_param, input, state, output, memory, let };

struct VarDecl {
  VarKind kind = VarKind::let;
  bool is_output = false;  ///< `output state …`, `output memory …`, `output …`
  bool is_private = false;
  bool given = false;  ///< an input of the bench that a harness gives: computed, and a controller may still read it
  Name name;
  std::optional<TypeRef> type;
  ExprPtr value;            ///< after `=`
  ExprPtr lowest, highest;  ///< `from … to …` of a param, `limited … .. …` of a state
  std::string doc;
};

/// `unit Q = m`: a unit that each part may choose.
struct UnitDecl {
  Name name;
  TypeRef usual;
  std::string doc;
};

/// terminal NAME : KIND [= open], or node NAME : KIND; with a size it is a vector of them
struct PlaceDecl {
  Name name;
  Name kind;  ///< electric, power, path
  std::shared_ptr<const Expr> size;
  bool terminal = false;
  bool open = false;  ///< a terminal at which nothing needs to lie
  std::string doc;
};

struct PartDecl {
  struct Arg {
    Path target;                  ///< of a parameter of the part, or of a part inside it
    ExprPtr value;                ///< `area = 3 m^2`
    std::optional<TypeRef> unit;  ///< `Q : bar`
  };
  /// Where a terminal of the part lies: `plus = feed`, `[a, b]`.
  struct Lies {
    std::optional<Name> terminal;  ///< absent: the next one
    std::vector<Path> places;
    bool list = false;  ///< in brackets
    Span span;
  };
  Name name;
  Name model;
  std::shared_ptr<const Expr> count;  ///< `part wagon[6] : …`
  std::vector<Arg> args;              ///< in brackets, and after `with`
  std::shared_ptr<const Expr> step;   ///< `step 10 us`; null: that of what it is part of
  std::optional<Name> method;         ///< `method implicit`
  ExprPtr core;                       ///< `on core 1`
  std::vector<Lies> lies;             ///< `at`, `between`
  Span placed;                        ///< of that clause
  bool is_private = false;
  std::string doc;
};

/// target = value, or target' = value
struct Equation {
  Path target;
  bool derivative = false;
  ExprPtr value;
};

/// for NAME in LOW .. HIGH
struct LoopHead {
  Name variable;
  ExprPtr low, high;
  Span span;
};

/// What `every`, `when`, `entry` and `exit` do, from top to bottom.
struct Action {
  enum class Kind {
    assign,  ///< target := value
    loop,    ///< for … { body }
    branch   ///< if value { body } else { otherwise }
  };
  Kind kind = Kind::assign;
  Path target;
  ExprPtr value;
  LoopHead head;
  std::vector<Action> body, otherwise;
  Span span;
};

/// solve x [: type] from left = right [start …] [between … .. …]
struct SolveDecl {
  Name name;
  std::optional<TypeRef> type;
  ExprPtr left, right, start, lowest, highest;
  Span span;
  std::string doc;
};

struct Transition {
  Name from, to;
  ExprPtr condition;  ///< `when …`; empty for `after …`
  ExprPtr after;      ///< `after …`: time since the mode was entered
  Span span;
};

struct ModesDecl {
  /// What a mode does when it is entered and left, and the machines that run inside it.
  struct Body {
    Name mode;
    std::vector<Action> entry, exit;
    std::vector<ModesDecl> inside;
  };
  Name name;
  Name first;
  std::vector<Transition> transitions;
  std::vector<Body> bodies;
  std::string doc;
};

/// every PERIOD [offset TIME] { target := value … }
struct EveryDecl {
  ExprPtr period, offset;
  std::vector<Action> actions;
  Span span;
};

/// when CONDITION { target := value … }
struct WhenDecl {
  ExprPtr condition;
  std::vector<Action> actions;
  Span span;
};

struct Members;

/// for … { … }
struct LoopDecl {
  LoopHead head;
  std::unique_ptr<Members> body;
};

/// if CONSTANT { … } else { … }
struct VariantDecl {
  ExprPtr condition;
  std::unique_ptr<Members> yes, no;  ///< `no` may be null
  Span span;
};

/// What a model, a bench, a loop or a variant is made of.
struct Members {
  std::vector<VarDecl> variables;
  std::vector<PlaceDecl> places;
  std::vector<PartDecl> parts;
  std::vector<Equation> equations;
  std::vector<ModesDecl> modes;
  std::vector<EveryDecl> periodic_tasks;
  std::vector<WhenDecl> events;
  std::vector<SolveDecl> solves;
  std::vector<LoopDecl> loops;
  std::vector<VariantDecl> variants;
};

/// rated [part] ["source"] { given … = …  after …  expect … = … within … }
struct RatedDecl {
  struct Given {
    Path target;
    ExprPtr value;
  };
  struct Expect {
    ExprPtr quantity, value, tolerance;
    Span span;
  };
  std::optional<Path> part;  ///< in a bench: of which part
  std::string source;
  std::vector<Given> given;
  std::vector<Expect> expected;
  ExprPtr after, step;
  Span span;
  std::string doc;
};

struct ModelDecl : Members {
  Name name;
  bool element = false;  ///< what a solver brings: without equations
  std::string doc;
  std::vector<UnitDecl> units;
  std::vector<TableDecl> tables;  ///< without values
  std::vector<RatedDecl> rated;
};

/// LOW .. HIGH
struct Interval {
  ExprPtr low, high;
};

/// SUM per UNIT [from SUM]: a scale by its factor and where it begins
struct PerUnit {
  ExprPtr factor;
  TypeRef unit;
  ExprPtr from;
};

/// N bit [signed] [wraps]
struct WordDecl {
  ExprPtr bits;
  bool is_signed = false, wraps = false;
};

/// The way between a quantity and the word that stands for it; of a sensor, an actuator, or the channels of a module.
struct ChannelDecl {
  std::optional<Interval> range, electrical, limits, counts;
  std::optional<Name> curve;  ///< the electrical form by a function or table
  std::optional<PerUnit> per;
  std::optional<WordDecl> word;
  bool off = false;     ///< by its rack
  bool placed = false;  ///< on a module, which completed it
  Span module{};        ///< what of the module did, if placed
};

struct SensorDecl : ChannelDecl {
  Name name;
  ExprPtr of;
  std::optional<PerUnit> pulses;
  ExprPtr every, offset, filter, noise;
  std::optional<Path> at;  ///< a gate: it samples when that rises, instead of `every`
  std::string doc;
};

struct ActuatorDecl : ChannelDecl {
  Name name;
  TypeRef type;
  ExprPtr start, safe;      ///< safe: what it takes when its controller is lost
  ExprPtr clock, latency;   ///< of a gate
  bool holds_lost = false;  ///< … or it keeps the last answer
  std::string doc;
};

/// A kind of module: so many channels of one form, and so many of another; numbered through from 1.
struct ModuleDecl {
  struct Channels : ChannelDecl {
    bool inputs = true;  ///< into the controller
    ExprPtr count;
    bool lines = false;      ///< bool
    bool gates = false;      ///< lines whose edges have instants
    ExprPtr clock, latency;  ///< of these
    Span span;
  };
  Name name;
  std::vector<Channels> channels;
  std::string doc;
};

/// slot N : Module { channel N name … }
struct RackDecl {
  struct Channel {
    ExprPtr number;
    Name name;      ///< of a vector an element: `p[2]`
    ExprPtr value;  ///< a sensor made here: a constant, a table, a signal
    std::optional<Interval> range;
    bool off = false;
    std::vector<Name> groups;
    Span span;  ///< of the statement
    std::string doc;
  };
  struct Slot {
    ExprPtr number;
    Name module;
    std::vector<Channel> channels;
    Span span;    ///< up to the opening brace
    Span inside;  ///< between the braces
    std::string doc;
  };
  Name name;
  ExprPtr every;
  std::vector<Slot> slots;
  std::string doc;
};

/// word N | bit N of word M | bits N .. N of word M
struct BitPlace {
  ExprPtr word, first, last;  ///< first: empty for a whole word; last: empty for a single bit
  Span span;
};

struct FrameDecl {
  struct Field {
    enum class Kind {
      field,    ///< what a channel, an input or the controller says, or a constant
      port,     ///< the lines of a stretch, seen as one number
      spare,    ///< nothing: always 0
      time,     ///< of the exchange
      counter,  ///< of exchanges
    };
    Kind kind = Kind::field;
    Name name;  ///< empty for what is spare
    std::optional<TypeRef> type;
    BitPlace place;
    bool is_signed = false;
    ExprPtr constant;
    std::optional<TypeRef> unit;  ///< of a time
    std::string doc;
  };
  Name name;
  ExprPtr words;
  std::optional<bool> bits_from_high, bytes_from_high;
  std::vector<Field> fields;
  std::string doc;
};

struct ControllerDecl {
  struct Write {
    Name name;
    std::optional<TypeRef> type;        ///< given: a value of the controller itself; absent: an actuator
    std::shared_ptr<const Expr> index;  ///< of an actuator that is a vector: this element of it
    Path path() const { return path_of_element(name, index); }
  };
  /// Where the controller is. Which clauses a kind takes is in program/port_kinds.def.
  struct Setting {
    struct Clause {
      Name word;         ///< map, topic, over, unit, restart, ready, rate, parity
      std::string text;  ///< `map "tags.csv"`
      Name choice;       ///< `over socket`
      ExprPtr value;     ///< `unit 17`
    };
    Name name;
    Name kind;            ///< part, library, program, link, modbus, mqtt
    PartDecl logic;       ///< of a part
    Name role;            ///< of modbus: server or client
    std::string address;  ///< file, command, "host:port", serial line
    Span address_span;
    std::vector<Clause> clauses;
    Span span;
  };
  struct Read {
    Path path;
    std::optional<Name> over;  ///< what another controller's value is carried by
  };
  Name name;
  ExprPtr count;  ///< of an array of controllers; each of them knows its `index`
  ExprPtr every;
  std::vector<Read> reads;
  std::vector<Path> shares;
  std::vector<Write> writes;
  std::vector<Setting> settings;
  std::string tags;  ///< file of the controller's own tag list
  Span tags_span;
  std::vector<std::pair<Name, std::string>> tag_columns;  ///< name "Symbol"
  std::optional<Name> lost;  ///< stop, hold or safe: what the run does when the controller is lost
  std::string doc;
};

/// messages NAME { latency … jitter … loss … cut when … }: what carries values from controller to controller
struct MessagesDecl {
  Name name;
  ExprPtr latency, jitter, loss;
  std::optional<Path> cut;
  std::string doc;
};

struct ConditionDecl {
  Name name;
  ExprPtr value;
  std::string doc;
};

struct FaultDecl {
  enum class Time { whole_run, from, between, once, while_, by_hand };
  struct Memory {
    Name name;
    TypeRef type;
    ExprPtr value;
  };
  struct Change {
    Name target;  ///< a memory
    ExprPtr value;
  };
  Name name;
  Path target;
  Name kind;                     ///< a word of the table of fault kinds
  ExprPtr amount;                ///< may be empty: `freeze`
  std::optional<Path> other;     ///< swap with …, short to …
  ExprPtr through;               ///< short … through …
  std::vector<Memory> memories;  ///< of `replace with`
  std::vector<Change> changes;   ///< in order, before the replacement
  Time time = Time::whole_run;
  ExprPtr over;           ///< ramp to … over …
  ExprPtr every;          ///< of spikes
  ExprPtr begin, end;     ///< from … [to …], between … and …
  ExprPtr condition;      ///< once … , while …
  ExprPtr lasting;        ///< … lasting …
  ExprPtr until;          ///< … until …
  ExprPtr pulse, period;  ///< … pulsing … every …
  std::string doc;
};

/// compose A, B …: these faults may act on one place together, in this order
struct ComposeDecl {
  std::vector<Name> faults;
  Span span;
};

/// expectation NAME { act is …  must act on … within …  must not act on … within … }
struct ExpectationDecl {
  struct Row {
    bool must = true;
    std::vector<Path> on;
    ExprPtr within;
    Span span;
  };
  Name name;
  std::string source, doc;
  ExprPtr act;
  std::vector<Row> rows;
};

/// One thing that a scenario does; what it has depends on its kind.
struct ScenarioStep {
  enum class Kind {
    start,       ///< target = value
    start_from,  ///< file at duration
    start_settled,
    set,       ///< target = value
    step,      ///< target by value
    ramp,      ///< target to value over duration
    play,      ///< file, or the table name, onto target [for duration]
    release,   ///< target
    load,      ///< name
    schedule,  ///< targets, rows
    wait,      ///< until value within duration
    hold,      ///< duration
    expect,    ///< value [within duration | for duration]
    inject,    ///< name
    clear,     ///< name
    arm,       ///< name
    disarm,    ///< name
    stop,      ///< name
    perform,   ///< name(args)
    repeat,    ///< value times, or until value: blocks[0]
    together,  ///< blocks beside each other
    either,    ///< one of the blocks
    end,
    end_when  ///< value
  };
  struct Argument {
    Name name;
    ExprPtr value;
  };
  struct Block {
    Name name;
    std::vector<ScenarioStep> steps;
  };
  struct Row {
    ExprPtr at;
    std::vector<ExprPtr> values;
  };
  Kind kind = Kind::hold;
  Path target;
  ExprPtr value, duration;
  bool whole = false;  ///< expect … for: it has to hold all the time; repeat until: until it is true
  Name name;
  FileColumn file;
  std::vector<Argument> args;
  std::vector<Path> targets;
  std::vector<Row> rows;
  std::vector<Block> blocks;
  Span span;
};

struct ScenarioDecl {
  struct Param {
    Name name;
    TypeRef type;
    ExprPtr value;
  };
  Name name;
  std::vector<Param> params;
  std::vector<ScenarioStep> steps;
  std::string doc;
};

/// values NAME { path = value … }: loaded by scenarios
struct ValuesDecl {
  struct Value {
    Path target;
    ExprPtr value;
    Span span;
  };
  Name name;
  std::vector<Value> values;
  std::string doc;
};

struct RequirementDecl {
  enum class Form { always, never, whenever, eventually, holds };  ///< `holds`: a formula of its own, `A until B`
  Name name;
  std::string source, id;
  bool by_review = false;
  Form form = Form::always;
  ExprPtr trigger;  ///< whenever …
  ExprPtr check;
  ExprPtr within;               ///< then within …
  std::string level;            ///< of integrity: "SIL 2"
  std::vector<Path> allocated;  ///< to parts and controllers
  Span span;                    ///< of the formula
  std::string doc;
};

/// harness NAME of PART { input = value … }: a part or a controller alone
struct HarnessDecl {
  struct Given {
    Path target;
    ExprPtr value;
  };
  Name name, of;
  std::vector<Given> given;
  std::string doc;
};

/// measure NAME { of EXPR  WORD …  [over A .. B | after EVENT [for T | until EVENT] | while EXPR | per T] }
struct MeasureDecl {
  enum class Window { whole_run, over, after, while_, per };
  Name name;
  ExprPtr of;
  Name kind;  ///< a word of the table of measures
  ExprPtr number, to, within, low, high, at, against;
  Window window = Window::whole_run;
  ExprPtr begin, end;  ///< over; begin: the event of `after`, the truth of `while`, the period of `per`
  ExprPtr lasting, until;
  Span span;
  std::string doc;
};

/// cables NAME { sensor -> actuator … }: what is connected with what for a loopback
struct CablesDecl {
  struct Cable {
    Name from, to;
  };
  Name name;
  std::vector<Cable> cables;
  std::string doc;
};

/// wiring NAME of CABLES { … }: what the wires really do, where it is not what the cables say
struct WiringDecl {
  struct Wire {
    Name from;
    std::optional<Name> to;  ///< absent: open
    bool inverted = false;
    ExprPtr times, noise, stuck;
    Span span;
  };
  Name name, of;
  std::vector<Wire> wires;
  std::string doc;
};

struct FigureDecl {
  Name name;
  std::string title;
  std::vector<std::vector<Path>> panels;
  std::string doc;
};

/// What somebody who operates a running bench has before them.
struct PanelDecl {
  struct Item {
    Name word;  ///< show, bar, lamp, choose, press, toggle, slide, trace
    std::vector<Path> what;
    std::string label;
    ExprPtr from, to, by, over;  ///< null where nothing is said
    Span span;
  };
  Name name;
  std::string title;
  std::vector<Item> items;
  std::string doc;
};

/// Many runs: factors of which each case has one value, and how cases are drawn from them.
struct CampaignDecl {
  struct FaultSets {
    enum class Kind { none, one, each, pairs };
    Kind kind = Kind::none;
    std::vector<Name> of;  ///< one: its name; each, pairs: of these, or of all
    Span span;
  };
  struct Vary {
    Path what;
    std::vector<ExprPtr> values;  ///< each of them; or
    ExprPtr from, to;             ///< anything between
    Span span;
  };
  Name name;
  std::vector<Name> scenarios, settings;
  std::vector<FaultSets> faults;
  std::vector<Vary> varied;
  ExprPtr draws;  ///< null: every combination
  Name method;
  Name keep;  ///< empty: as it is usual
  ExprPtr kept;
  Name until;  ///< of what coverage; empty: all cases
  ExprPtr until_share;
  std::string doc;
};

/// A table of failure modes: its columns, and rows of it that are written here; others are in a file.
struct FailureModesDecl {
  struct Cell {
    Name column;
    std::string text;
    ExprPtr value;  ///< null: a text
  };
  struct Row {
    Name name;
    std::vector<Cell> cells;
    std::vector<Name> faults, scenarios, requirements;
    std::vector<Path> noticed;
  };
  Name name;
  std::string file;  ///< empty: none
  Members columns;   ///< typed ones as `param`, computed ones as `let`
  std::vector<Name> scenarios, requirements;
  std::vector<Path> noticed;
  std::vector<Row> rows;
  std::string doc;
};

/// What may happen by itself, at the bottom of fault trees.
struct BasicEventDecl {
  Name name;
  ExprPtr rate, probability;
  std::vector<Name> faults;  ///< one: what happens to the bench then
  Span span;
  std::string doc;
};

/// NAME, or gates over others: A and B, A or B, 2 of (A, B, C), A given B
struct TreeFormula {
  enum class Kind { name, all, any, at_least, given };
  Kind kind = Kind::name;
  Name name;
  int least = 0;
  std::vector<TreeFormula> of;
  Span span;
};

/// What must not happen, and what can lead to it.
struct HazardDecl {
  struct Gate {
    Name name;
    TreeFormula formula;
    std::string doc;
  };
  Name name;
  std::string level, source;
  std::vector<Name> broken, scenarios, requirements;
  ExprPtr over;  ///< the time in which events with a rate may happen
  std::vector<Gate> gates;
  std::optional<TreeFormula> top;
  std::string doc;
};

/// What is recorded, how often and in which form: `record motor.* every 1 us compressed when trip rises`.
struct RecordDecl {
  std::vector<Name> what;  ///< names, or patterns in which * stands for anything; empty: what no other statement names
  ExprPtr every;           ///< null: never, or at edges
  bool edges = false;      ///< at every edge of gates
  bool single = false;     ///< as float32
  bool compressed = false;
  ExprPtr when;  ///< only around the instants when this is true
  bool rises = false;
  bool broken = false;             ///< only around breaches …
  std::vector<Name> requirements;  ///< … of these; empty: of any
  ExprPtr before, after;
  Span around;  ///< from `when` on
  Span span;
};

struct BenchDecl : ModelDecl {
  ExprPtr step;
  std::optional<Name> method;
  std::vector<RecordDecl> records;
  std::vector<SensorDecl> sensors;
  std::vector<ActuatorDecl> actuators;
  std::vector<FrameDecl> frames;
  std::vector<RackDecl> racks;
  std::vector<MessagesDecl> messages;
  std::vector<ControllerDecl> controllers;
};

struct UseDecl {
  std::string path;
  bool library = false;  ///< `use library "…"`: from the shipped parts, not from beside this file
  Span span;
};

/// What one or several texts declare. Files of a bench are merged into one Document.
struct Document {
  std::vector<UseDecl> uses;
  std::vector<FunctionDecl> functions;
  std::vector<TableDecl> tables;
  std::vector<ChoiceDecl> choices;
  std::vector<ModelDecl> models;
  std::vector<ModuleDecl> modules;
  std::vector<BenchDecl> benches;
  std::vector<ConditionDecl> conditions;
  std::vector<FaultDecl> faults;
  std::vector<ComposeDecl> compositions;
  std::vector<ExpectationDecl> expectations;
  std::vector<ScenarioDecl> scenarios;
  std::vector<ValuesDecl> values;
  std::vector<RequirementDecl> requirements;
  std::vector<MeasureDecl> measures;
  std::vector<HarnessDecl> harnesses;
  std::vector<FigureDecl> figures;
  std::vector<PanelDecl> panels;
  std::vector<CampaignDecl> campaigns;
  std::vector<FailureModesDecl> failure_modes;
  std::vector<BasicEventDecl> basic_events;
  std::vector<HazardDecl> hazards;
  std::vector<CablesDecl> cables;
  std::vector<WiringDecl> wirings;
};

}  // namespace isodyne::lang
