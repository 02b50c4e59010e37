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

struct Name {
  std::string text;
  Span span;
};

/// a.b.c
struct Path {
  std::vector<Name> parts;
  Span span;

  std::string text() const {
    std::string all;
    for (const Name& part : parts) all += (all.empty() ? "" : ".") + part.text;
    return all;
  }
};

enum class ExprKind {
  number,         ///< value, unit text in `word`
  boolean,        ///< value 0 or 1
  name,           ///< path
  negate,         ///< -a
  invert,         ///< not a
  binary,         ///< a word b, where word is + - * / ^ < <= > >= and or implies
  is,             ///< a is b
  is_not,         ///< a is not b
  within,         ///< a within b of c
  conditional,    ///< if a then b else c
  call,           ///< path(args)
  at_limit,       ///< a at limit
  becomes_active  ///< a becomes active
};

struct Expr;
using ExprPtr = std::unique_ptr<Expr>;

struct Expr {
  static constexpr int kMostHeight = 500;

  ExprKind kind = ExprKind::number;
  Span span;
  std::string word;
  double value = 0;
  Path path;
  std::vector<ExprPtr> args;
  int height = 1;
};

/// A unit, `bool`, `int` or the name of a choice, as written after a colon.
struct TypeRef {
  std::string text;
  Span span;
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

enum class VarKind { param, fixed_param, input, state, output, memory, let };

struct VarDecl {
  VarKind kind = VarKind::let;
  bool is_output = false;  ///< `output state …`, `output memory …`, `output …`
  Name name;
  std::optional<TypeRef> type;
  ExprPtr value;            ///< after `=`
  ExprPtr lowest, highest;  ///< `from … to …` of a param, `limited … .. …` of a state
  std::string doc;
};

struct PartDecl {
  struct Arg {
    Name name;
    ExprPtr value;
  };
  Name name;
  Name model;
  std::vector<Arg> args;
  std::string doc;
};

/// target = value, or target' = value
struct Equation {
  Path target;
  bool derivative = false;
  ExprPtr value;
};

struct Transition {
  Name from, to;
  ExprPtr condition;  ///< `when …`; empty for `after …`
  ExprPtr after;      ///< `after …`: time since the mode was entered
  Span span;
};

struct ModesDecl {
  Name name;
  Name first;
  std::vector<Transition> transitions;
  std::string doc;
};

/// every PERIOD { target := value … }
struct EveryDecl {
  ExprPtr period;
  std::vector<Equation> assignments;
  Span span;
};

struct ModelDecl {
  Name name;
  std::string doc;
  std::vector<VarDecl> variables;
  std::vector<PartDecl> parts;
  std::vector<Equation> equations;
  std::vector<ModesDecl> modes;
  std::vector<EveryDecl> samplers;
};

/// LOW .. HIGH
struct Interval {
  ExprPtr low, high;
};

struct SensorDecl {
  Name name;
  ExprPtr of;
  std::optional<Interval> range, electrical, counts;
  ExprPtr every, filter, noise;
  std::string doc;
};

struct ActuatorDecl {
  Name name;
  TypeRef type;
  std::optional<Interval> counts, as;
  ExprPtr start;
  std::string doc;
};

struct ControllerDecl {
  struct Write {
    Name name;
    std::optional<TypeRef> type;  ///< given: a value of the controller itself; absent: an actuator
  };
  struct Setting {
    Name name;
    std::string library;
    Span span;
  };
  Name name;
  ExprPtr every;
  std::vector<Path> reads;
  std::vector<Write> writes;
  std::vector<Setting> settings;
  std::string doc;
};

struct ConditionDecl {
  Name name;
  ExprPtr value;
  std::string doc;
};

struct FaultDecl {
  enum class Time { whole_run, from, once, while_ };
  Name name;
  Path target;
  Name kind;       ///< a word of the table of fault kinds
  ExprPtr amount;  ///< may be empty: `freeze`
  Time time = Time::whole_run;
  ExprPtr begin, end;  ///< from … [to …]
  ExprPtr condition;   ///< once … , while …
  ExprPtr lasting;     ///< once … lasting …
  std::string doc;
};

struct ScenarioStep {
  enum class Kind { start, set, ramp, wait, hold };
  Kind kind = Kind::hold;
  Path target;
  ExprPtr value;     ///< new value, or the condition waited for
  ExprPtr duration;  ///< over …, within …, hold …
  Span span;
};

struct ScenarioDecl {
  Name name;
  std::vector<ScenarioStep> steps;
  std::string doc;
};

struct RequirementDecl {
  enum class Form { always, never, whenever };
  Name name;
  std::string source;
  Form form = Form::always;
  ExprPtr trigger;  ///< whenever …
  ExprPtr check;
  ExprPtr within;  ///< then within …
  Span span;       ///< of the formula
  std::string doc;
};

struct FigureDecl {
  Name name;
  std::string title;
  std::vector<std::vector<Path>> panels;
  std::string doc;
};

struct BenchDecl : ModelDecl {
  ExprPtr step;
  std::optional<Name> method;
  ExprPtr record;
  std::vector<SensorDecl> sensors;
  std::vector<ActuatorDecl> actuators;
  std::vector<ControllerDecl> controllers;
};

struct UseDecl {
  std::string path;
  Span span;
};

/// What one or several texts declare. Files of a bench are merged into one Document.
struct Document {
  std::vector<UseDecl> uses;
  std::vector<FunctionDecl> functions;
  std::vector<ChoiceDecl> choices;
  std::vector<ModelDecl> models;
  std::vector<BenchDecl> benches;
  std::vector<ConditionDecl> conditions;
  std::vector<FaultDecl> faults;
  std::vector<ScenarioDecl> scenarios;
  std::vector<RequirementDecl> requirements;
  std::vector<FigureDecl> figures;
};

}  // namespace isodyne::lang
