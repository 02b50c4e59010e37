#pragma once
// Names while a bench is being checked: one Instance per part, holding what can be named in it.

#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <tuple>
#include <unordered_map>
#include <vector>

#include "isodyne/core/diagnostics.h"
#include "isodyne/lang/syntax.h"
#include "isodyne/program/program.h"

namespace isodyne::check {

using namespace program;  // what is made here is a Program, so its words are ours

struct Instance;

/// Counters of `for`, innermost first.
struct Env {
  const Env* outer = nullptr;
  std::string name;
  double value = 0;
};

/// A declaration and the counters it stands under; loops unrolled, variants chosen.
template <typename Decl>
struct Placed {
  const Decl* decl = nullptr;
  const Env* env = nullptr;
};

struct Expanded {
  std::vector<Placed<lang::VarDecl>> variables;
  std::vector<Placed<lang::PlaceDecl>> places;
  std::vector<Placed<lang::PartDecl>> parts;
  std::vector<Placed<lang::Equation>> equations;
  std::vector<Placed<lang::ModesDecl>> modes;  ///< the outermost
  std::vector<Placed<lang::EveryDecl>> periodic_tasks;
  std::vector<Placed<lang::WhenDecl>> events;
  std::vector<Placed<lang::SolveDecl>> solves;
};

/// A value that a part got from outside: in the brackets after its model, or after `with`.
struct PartValue {
  const lang::PartDecl::Arg* arg = nullptr;
  std::size_t depth = 0;            ///< how many steps of the path have been taken
  const Instance* scope = nullptr;  ///< where the value is understood
  const Env* env = nullptr;
};

/// The elements of a vector are variables next to each other, "i[1]" first.
struct Elements {
  VarId first = kNone;
  int size = 0;
};

/// A terminal, a node, or `ground`; of a vector one element. What lies at it is joined with it.
struct Place {
  std::string path;                 ///< "hull.shore[1]"
  std::string kind;                 ///< "electric"
  const Instance* owner = nullptr;  ///< in which it was declared; null: `ground`
  bool terminal = false, open = false;
  bool of_element = false;                    ///< a terminal of an element
  std::int32_t lies_at = kNone;               ///< of a terminal: the place outside its part
  std::vector<std::int32_t> inside, outside;  ///< terminals of parts that lie at it, within its model and beside it
  VarId voltage = kNone, current = kNone;
  Span span;
};

/// The places of a vector lie next to each other.
struct Places {
  std::int32_t first = kNone;
  int size = 0;  ///< 0: a single one
  int count() const { return size == 0 ? 1 : size; }
};

/// One part of the flattened bench. The bench itself is the root, with an empty prefix. Sensors,
/// actuators and controllers appear as parts too, so that `level_tx.counts` and `plc.alarm` resolve.
struct Instance {
  const lang::ModelDecl* decl = nullptr;  ///< null for channels and controllers
  std::string prefix;                     ///< "upstream." or ""
  Instance* parent = nullptr;
  const lang::PartDecl* part = nullptr;
  std::map<std::string, VarId> variables;  ///< single values, and elements as "i[1]"
  std::map<std::string, Elements> vectors;
  std::map<std::string, std::unique_ptr<Instance>> parts;  ///< of an array: "wagon[3]"
  std::map<std::string, int> arrays;                       ///< name and number of parts
  std::map<std::string, Places> places;                    ///< terminals and nodes
  std::set<std::string> hidden;                            ///< private names
  UnitNames units;
  std::map<std::string, const lang::TableDecl*> tables;  ///< what it was given for those of its model; null: nothing
  Expanded members;
  std::set<std::string> assigned;  ///< names given with `:=`
  std::vector<PartValue> overrides;
  std::int32_t group = 0;  ///< index into Check::groups
  bool misplaced = false;  ///< where it lies could not be understood, and was reported
};

/// Parts that are stepped together, while the bench's own step is not known yet.
struct GroupDraft {
  std::optional<Time> step;  ///< none: that of the bench
  std::optional<Method> method;
  std::int32_t core = 0;
  Span span;
};

/// What a path means: one variable, or several in order.
struct Target {
  std::vector<VarId> ids;
  bool vector = false;
  bool found() const { return !ids.empty(); }
};

/// What a path means where places are named: one, or several in order.
struct PlacesMeant {
  std::vector<std::int32_t> ids;
  bool vector = false;
};

/// What all passes of one check share.
struct Check {
  /// A bench with more than this has run away (parts of parts of parts); real ones stay far below.
  static constexpr std::size_t kMostVariables = 1'000'000;
  static constexpr std::size_t kMostNodes = 8'000'000;
  static constexpr std::size_t kMostParts = 200'000;
  static constexpr int kMostElements = 100'000;

  Check(Program& p, Diagnostics& d, const lang::Document& text) : program(p), diagnostics(d), document(text) {}

  Program& program;
  Diagnostics& diagnostics;
  const lang::Document& document;

  Instance root;
  std::map<std::string, const lang::FunctionDecl*> functions;
  std::map<std::string, const lang::TableDecl*> table_decls;
  std::map<std::string, std::int32_t> tables;  ///< those that are in order: index into Program::tables
  /// A bench's own model goes before one of the library with the same name, but not within the library.
  std::map<std::string, const lang::ModelDecl*> models, shadowed_models;
  std::map<std::string, std::int32_t> choices;
  std::deque<Env> environments;
  std::vector<GroupDraft> groups{GroupDraft{}};
  std::vector<Place> places;              ///< of the whole bench; the first is `ground`
  std::vector<const Instance*> elements;  ///< in the order of the text
  /// What faults put into networks: a contact that closes while its fault acts, or one that opens.
  struct FaultContact {
    VarId active = kNone;
    bool opens = false;
    std::int32_t a = kNone, b = kNone;  ///< places; what opens cuts `a`, a terminal, from `b`, where it lies
    double resistance = 0;              ///< while it is closed, ohm
    std::string fault;
    Span span;
  };
  std::vector<FaultContact> fault_contacts;

  /// The value of a constant expression; set by Expressions, which knows how. Reports what is wrong with it.
  std::function<std::optional<double>(const lang::Expr&, const Instance*, const Env*, const char* what)> whole_number;

  /// A file as the text at `where` names it, among the sources; reports that it cannot be read. Set by whoever reads.
  std::function<std::optional<std::int32_t>(const std::string&, Span where)> read_file;

  /// Where each variable gets its value, to find second and missing definitions.
  std::unordered_map<VarId, Span> defined;
  std::unordered_map<VarId, std::size_t> state_of;  ///< state variable → index into program.states
  std::unordered_map<VarId, NodeId> start_value;
  /// Fixed parameters whose value has decided something before the run: another one would not be heard.
  std::set<VarId> decided;
  /// Work that gives a variable its type; done on first demand, so that no order of text is asked for.
  std::unordered_map<VarId, std::function<void()>> pending;
  std::set<VarId> resolving;
  /// Connections that lead nowhere (owner, first and last name): what they meant to connect is not reported
  /// a second time.
  std::vector<std::tuple<const Instance*, std::string, std::string>> lost;
  std::map<std::string, int> random_users;  ///< per part: how many uses of randomness it has
  /// Equations without a loop that a value may be taken apart into, per variable: for `solve`.
  std::unordered_map<VarId, std::size_t> equation_of;
  int demand_depth = 0;
  std::set<VarId> inferred_gates;  ///< `let`s without a type through which the edges of gates come
  bool overflow = false;
  bool alone = false;  ///< a model without a bench: its parameters and inputs need no values

  /// What is wrong with a text that somebody else wrote for many uses is told at the use, with a note.
  struct OnBehalf {
    Span of, use;
    const char* note = "";
  };
  std::optional<OnBehalf> on_behalf;

  Diagnostic& error(Code code, Span span, std::string message, std::string advice = {}) {
    const bool elsewhere = on_behalf && span.source == on_behalf->of.source && span.begin >= on_behalf->of.begin &&
                           span.end <= on_behalf->of.end;
    if (!elsewhere) return diagnostics.error(code, span, std::move(message), std::move(advice));
    Diagnostic& d = diagnostics.error(code, on_behalf->use, std::move(message), std::move(advice));
    d.notes.push_back({span, on_behalf->note});
    return d;
  }

  /// Adds a variable under `name` in `owner`; reports a second definition and then returns the first. With
  /// variable.type.size it adds that many, and returns the first element.
  VarId define(Instance& owner, const lang::Name& name, Variable variable);
  /// Adds a variable nobody can name.
  VarId define_hidden(std::string name, Type type, Unit unit = {}, std::int32_t group = 0);

  /// The model that a name means where it stands; null: there is none.
  const lang::ModelDecl* model_named(const lang::Name& name) const;

  /// Runs the pending work for a variable, if there is any.
  void demand(VarId id, Span user);
  void demand_all();

  /// What a path means, seen from `from`; reports it if there is nothing.
  Target resolve(const Instance& from, const lang::Path& path, const Env* env = nullptr);
  /// The same for one single value; reports a vector. kNone if there is none.
  /// What a run may be asked to begin with: also `gate_slow.amount`, a setting of a fault. Faults are defined before.
  std::vector<VarId> resolve_start(const lang::Path& path);
  VarId resolve_one(const Instance& from, const lang::Path& path, const Env* env = nullptr);
  /// The nodes and terminals that a path names, seen from `from`; reports it if there are none.
  std::optional<PlacesMeant> resolve_places(const Instance& from, const lang::Path& path, const Env* env = nullptr);
  /// Whether a path ends at a node or a terminal, without a report.
  bool knows_place(const lang::Path& path) const;
  /// Whether a path of names without indices means anything, without a report.
  bool knows(const Instance& from, const lang::Path& path) const;
  /// The key of a step in Instance::parts or ::variables: "wagon[3]"; reports an index that is none.
  std::optional<std::string> key(const lang::PathStep& step, const Instance& from, const Env* env);

  /// A unit by what is written, where a model may have names of its own; its text is what they stand for.
  std::optional<Unit> unit_named(const std::string& text, const Instance* instance) const;
  /// The type a declaration names; reports unknown units. `unit` receives how people read it. `instance` may
  /// be null: then there are no units of its own.
  Type type_of(const lang::TypeRef& ref, Unit& unit, const Instance* instance = nullptr, const Env* env = nullptr);

  /// A constant expression (literals, fixed params) of the given dimension, in SI.
  std::optional<double> constant(NodeId node, Span span, const char* what);
  /// The value a variable starts with, if that can be told before the run.
  std::optional<double> first_value(VarId id) const;

 private:
  /// Where resolve() is: a step of the path, and what messages call the way so far.
  struct Step {
    const lang::Path& path;
    std::size_t i;
    const std::string& so_far;  ///< "chamber." or ""
    const std::string& key;
    const lang::PathStep& written() const { return path.parts[i]; }
  };
  std::optional<PlacesMeant> places_in(const Instance& at, const lang::PathStep& step, const Instance& from,
                                       const Env* env, const std::string& so_far);
  bool take_last(const Step& step, const Instance& at, Target& target);
  void report_unknown(const Step& step, const Instance& at);
};

/// Reports that there is no `what` of this name, with the nearest of those that there are, or all of them.
void report_unknown_word(Check& check, const lang::Name& name, const char* what, const std::vector<std::string>& known);

/// Functions, tables, models and choices of the document into `check`; reports what is defined twice.
void declare_file_level(Check& check);

/// All names in an instance, for suggestions.
std::vector<std::string> names_in(const Instance& instance);

/// "m (length)", "bool", "choice Push", "3 of V (voltage)": for messages.
std::string describe(const Program& program, const Type& type);

}  // namespace isodyne::check
