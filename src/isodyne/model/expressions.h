#pragma once
// Expressions: names to variables, units checked, functions expanded, the rest to nodes of the Program.

#include <map>
#include <string>
#include <vector>

#include "isodyne/model/scope.h"

namespace isodyne::model {

/// A checked expression. An invalid type means: already reported, stay silent.
struct Typed {
  NodeId node = kNone;
  Type type;
  Unit shown;          ///< how people read it
  bool zero = false;   ///< a bare 0, which fits every unit
  bool whole = false;  ///< a bare whole number, which also fits int
  bool valid() const { return type.valid(); }
};

struct ExprScope {
  const Instance* instance = nullptr;
  const std::map<std::string, Typed>* arguments = nullptr;  ///< inside a function: only these names exist
};

class Expressions {
 public:
  explicit Expressions(Check& check) : check_(check) {}

  /// `expected` is the choice whose labels may stand here, or kNone.
  Typed check(const lang::Expr& e, const ExprScope& scope, std::int32_t expected = kNone);

  /// Checks `e` as the value of something of type `target`; kNone if it does not fit (reported).
  /// `what` completes "… must be": "the value of `area`".
  NodeId check_as(const lang::Expr& e, const ExprScope& scope, const Type& target, const std::string& what);
  NodeId check_truth(const lang::Expr& e, const ExprScope& scope, const std::string& what);
  /// A constant span of time of at least 1 ns.
  std::optional<Time> check_span(const lang::Expr& e, const ExprScope& scope, const char* what);

  /// Checks the body of a function once on its own, so that mistakes show even if nobody calls it.
  void check_function(const lang::FunctionDecl& f);

  NodeId constant(double value);
  NodeId variable(VarId id);
  NodeId node(Op op, NodeId a, NodeId b = kNone, NodeId c = kNone);

  /// True where a limited state stands on a bound and is pushed outwards.
  NodeId at_limit(const State& state);

 private:
  Typed number(const lang::Expr& e);
  Typed name(const lang::Expr& e, const ExprScope& scope, std::int32_t expected);
  Typed binary(const lang::Expr& e, const ExprScope& scope);
  Typed logic(const lang::Expr& e, const ExprScope& scope);
  Typed arithmetic(const lang::Expr& e, Typed a, Typed b);
  Typed raise(const lang::Expr& e, const Typed& base, const Typed& exponent);
  Typed compare(const lang::Expr& e, Op op, Typed a, Typed b);
  Typed equality(const lang::Expr& e, const ExprScope& scope);
  Typed within(const lang::Expr& e, const ExprScope& scope);
  Typed conditional(const lang::Expr& e, const ExprScope& scope, std::int32_t expected);
  Typed call(const lang::Expr& e, const ExprScope& scope);
  Typed builtin(const lang::Expr& e, Op op, std::string_view rule, std::vector<Typed> args);
  Typed expand(const lang::Expr& e, const lang::FunctionDecl& f, std::vector<Typed> args);
  Typed limit(const lang::Expr& e, const ExprScope& scope);
  Typed becomes_active(const lang::Expr& e, const ExprScope& scope);

  /// Brings two values to one type; reports with `verb` ("add", "compare") if they have none.
  bool agree(Typed& a, Typed& b, Span span, const char* verb);
  bool fits(const Typed& value, const Type& target) const;
  bool need_numeric(const Typed& value, Span span, std::string_view where);
  Typed truth(NodeId node) const { return {node, {Type::Kind::boolean, {}, kNone}, {}, false, false}; }
  Typed real(NodeId node, const Dimension& d) const {
    return {node, {Type::Kind::real, d, kNone}, si_unit(d), false, false};
  }

  Check& check_;
  /// Functions are expanded where they are called, so calls within calls multiply.
  static constexpr int kMostCalls = 10'000;
  std::vector<const lang::FunctionDecl*> calls_;
  int expansions_ = 0;  ///< within the present expression
};

}  // namespace isodyne::model
