#pragma once
// Names while a bench is being checked: one Instance per part, holding what can be named in it.

#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <tuple>
#include <unordered_map>
#include <vector>

#include "isodyne/core/diagnostics.h"
#include "isodyne/lang/syntax.h"
#include "isodyne/model/program.h"

namespace isodyne::model {

/// One part of the flattened bench. The bench itself is the root, with an empty prefix. Sensors,
/// actuators and controllers appear as parts too, so that `level_tx.counts` and `plc.alarm` resolve.
struct Instance {
  const lang::ModelDecl* decl = nullptr;  ///< null for channels and controllers
  std::string prefix;                     ///< "upstream." or ""
  Instance* parent = nullptr;
  const lang::PartDecl* part = nullptr;
  std::map<std::string, VarId> variables;
  std::map<std::string, std::unique_ptr<Instance>> parts;
};

/// What all passes of one check share.
struct Check {
  /// A bench with more than this has run away (parts of parts of parts); real ones stay far below.
  static constexpr std::size_t kMostVariables = 1'000'000;
  static constexpr std::size_t kMostNodes = 8'000'000;

  Check(Program& p, Diagnostics& d, const lang::Document& text) : program(p), diagnostics(d), document(text) {}

  Program& program;
  Diagnostics& diagnostics;
  const lang::Document& document;

  Instance root;
  std::map<std::string, const lang::FunctionDecl*> functions;
  std::map<std::string, const lang::ModelDecl*> models;
  std::map<std::string, std::int32_t> choices;

  /// Where each variable gets its value, to find second and missing definitions.
  std::unordered_map<VarId, Span> defined;
  std::unordered_map<VarId, std::size_t> state_of;  ///< state variable → index into program.states
  std::unordered_map<VarId, NodeId> start_value;
  /// Work that gives a variable its type; done on first demand, so that no order of text is asked for.
  std::unordered_map<VarId, std::function<void()>> pending;
  std::set<VarId> resolving;
  /// Connections that lead nowhere (owner, first and last name): what they meant to connect is not reported
  /// a second time.
  std::vector<std::tuple<const Instance*, std::string, std::string>> lost;
  int demand_depth = 0;
  bool overflow = false;
  bool alone = false;  ///< a model without a bench: its parameters and inputs need no values

  Diagnostic& error(Code code, Span span, std::string message, std::string advice = {}) {
    return diagnostics.error(code, span, std::move(message), std::move(advice));
  }

  /// Adds a variable under `name` in `owner`; reports a second definition and then returns the first.
  VarId define(Instance& owner, const lang::Name& name, Variable variable);
  /// Adds a variable nobody can name.
  VarId define_hidden(std::string name, Type type, Unit unit = {});

  /// Runs the pending work for a variable, if there is any.
  void demand(VarId id, Span user);
  void demand_all();

  /// The variable a path means, seen from `from`; reports and returns kNone if there is none.
  VarId resolve(const Instance& from, const lang::Path& path);
  /// The same without a report.
  VarId find(const Instance& from, const lang::Path& path) const;

  /// The type a declaration names; reports unknown units. `unit` receives how people read it.
  Type type_of(const lang::TypeRef& ref, Unit& unit);

  /// A constant expression (literals, fixed params) of the given dimension, in SI.
  std::optional<double> constant(NodeId node, Span span, const char* what);
};

/// All names in an instance, for suggestions.
std::vector<std::string> names_in(const Instance& instance);

/// "m (length)", "bool", "choice Push": for messages.
std::string describe(const Program& program, const Type& type);

}  // namespace isodyne::model
