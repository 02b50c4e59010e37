#pragma once
// Expressions: names to variables, units checked, functions expanded, the rest to nodes of the Program.
//
// Vectors exist here only: what leaves this class is one node per element.

#include <map>
#include <string>
#include <vector>

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// A checked expression. An invalid type means: already reported, stay silent.
struct Typed {
  NodeId node = kNone;
  Type type;
  Unit shown;                      ///< how people read it
  bool zero = false;               ///< a bare 0, which fits every unit
  bool whole = false;              ///< a bare whole number, which also fits int
  std::vector<NodeId> elements{};  ///< of a vector; `node` is then unused
  bool valid() const { return type.valid(); }
};

struct ExprScope {
  const Instance* instance = nullptr;
  /// Names of values that go before those of the instance. Without an instance (inside a function) only they exist.
  const std::map<std::string, Typed>* arguments = nullptr;
  const Env* env = nullptr;
};

class Expressions {
 public:
  explicit Expressions(Check& check);

  /// `expected` is the choice whose labels may stand here, or kNone.
  Typed check(const lang::Expr& e, const ExprScope& scope, std::int32_t expected = kNone);

  /// Checks `e` as the value of something of type `target`; kNone if it does not fit (reported).
  /// `what` completes "… must be": "the value of `area`".
  NodeId check_as(const lang::Expr& e, const ExprScope& scope, const Type& target, const std::string& what);
  /// The same for a vector: one node per element; a single value stands for every element. Empty if it does
  /// not fit. Also takes a target of size 0, and then gives one node.
  std::vector<NodeId> check_elements(const lang::Expr& e, const ExprScope& scope, const Type& target,
                                     const std::string& what);
  /// How many elements the value has, told before the types of what it reads are known; 0: it is no vector. Reports
  /// nothing: what is wrong is told when it is checked.
  int size_of(const lang::Expr& e, const ExprScope& scope);
  NodeId check_truth(const lang::Expr& e, const ExprScope& scope, const std::string& what);
  /// A constant span of time from 0 s on.
  std::optional<Time> check_span(const lang::Expr& e, const ExprScope& scope, const char* what);

  /// Checks the body of a function once on its own, so that mistakes show even if nobody calls it.
  void check_function(const lang::FunctionDecl& f);

  NodeId constant(double value);
  NodeId variable(VarId id);
  NodeId node(Op op, NodeId a, NodeId b = kNone, NodeId c = kNone);
  NodeId look_up(Op op, std::int32_t table, NodeId a, NodeId b = kNone);

  /// True where a limited state stands on a bound and is pushed outwards.
  NodeId at_limit(const State& state);

  /// Randomness is drawn only in blocks that run at instants: `every`, `when`, `entry`, `exit`.
  void set_sampled(bool sampled) { sampled_ = sampled; }
  /// Measures are known to requirements only.
  void set_measures(bool allowed) { measures_ = allowed; }

 private:
  // expressions.cpp
  Typed number(const lang::Expr& e, const ExprScope& scope);
  Typed name(const lang::Expr& e, const ExprScope& scope, std::int32_t expected);
  Typed argument(const lang::Expr& e, const ExprScope& scope);
  bool misplaced_label(const lang::Expr& e, std::int32_t expected);
  Typed list(const lang::Expr& e, const ExprScope& scope, std::int32_t expected);
  Typed negate(const lang::Expr& e, const ExprScope& scope);
  Typed binary(const lang::Expr& e, const ExprScope& scope);
  Typed logic(const lang::Expr& e, const ExprScope& scope);
  bool is_one(NodeId id) const;
  Typed arithmetic(const lang::Expr& e, Typed a, Typed b);
  Typed add(const lang::Expr& e, Typed a, Typed b);
  Typed raise(const lang::Expr& e, const Typed& base, const Typed& exponent);
  Typed compare(const lang::Expr& e, Op op, Typed a, Typed b);
  Typed equality(const lang::Expr& e, const ExprScope& scope);
  Typed within(const lang::Expr& e, const ExprScope& scope);
  Typed band(const lang::Expr& e, const ExprScope& scope);
  Typed conditional(const lang::Expr& e, const ExprScope& scope, std::int32_t expected);
  Typed limit(const lang::Expr& e, const ExprScope& scope);
  Typed becomes_active(const lang::Expr& e, const ExprScope& scope);

  int size_of_call(const lang::Expr& e, const ExprScope& scope);
  int largest_size(const lang::Expr& e, const ExprScope& scope);

  // calls.cpp
  Typed call(const lang::Expr& e, const ExprScope& scope);
  Typed reduce(const lang::Expr& e, std::vector<Typed> args);
  Typed dot(const lang::Expr& e, std::vector<Typed> args);
  Typed pick(const lang::Expr& e, std::vector<Typed> args);
  Typed temperature(const lang::Expr& e, const Typed& arg);
  Typed random(const lang::Expr& e, const ExprScope& scope);
  Typed delayed(const lang::Expr& e, const ExprScope& scope, std::vector<Typed> args);
  Typed delayed_element(const lang::Expr& e, const Typed& value, NodeId lag, Time longest, std::int32_t group);
  Typed table(const lang::Expr& e, const lang::TableDecl& t, std::vector<Typed> args);
  const lang::TableDecl* table_called(const std::string& word, const ExprScope& scope, bool& found) const;
  Typed builtin(const lang::Expr& e, Op op, std::string_view rule, std::vector<Typed> args);
  Typed same_unit(const lang::Expr& e, Op op, std::vector<Typed> args);
  bool need_plain(const lang::Expr& e, const std::vector<Typed>& args, bool angle_too);
  Typed expand(const lang::Expr& e, const lang::FunctionDecl& f, std::vector<Typed> args);

  /// Applies `operation` to single values, once for each element of the vectors among `args`.
  template <typename Operation>
  Typed elementwise(const std::vector<Typed>& args, Span span, Operation operation);
  static Typed element(const Typed& vector, std::size_t i);
  /// The common number of elements of the vectors among `args`; 0 if there is none, nothing if they differ.
  std::optional<int> common_size(const std::vector<Typed>& args, Span span);

  /// Brings two values to one type; reports with `verb` ("add", "compare") if they have none.
  bool agree(Typed& a, Typed& b, Span span, const char* verb);
  bool fits(const Typed& value, const Type& target) const;
  bool need_numeric(const Typed& value, Span span, std::string_view where);
  /// Not an absolute temperature: those can only be compared, subtracted, and shifted.
  bool need_difference(const Typed& value, Span span);
  Typed truth(NodeId node) const { return {node, {Type::Kind::boolean, {}, kNone}, {}, false, false, {}}; }
  Typed real(NodeId node, const Dimension& d) const {
    return {node, {Type::Kind::real, d, kNone}, si_unit(d), false, false, {}};
  }

  Check& check_;
  /// Functions are expanded where they are called, so calls within calls multiply.
  static constexpr int kMostCalls = 10'000;
  std::vector<const lang::FunctionDecl*> calls_;
  int expansions_ = 0;  ///< within the present expression
  bool sampled_ = false, measures_ = false;
};

/// Whether a call makes one value of vectors, as `sum` does.
bool makes_one(const lang::Expr& call);

/// Functions that the language has by itself.
bool is_function_word(const std::string& word);
std::vector<std::string> function_words();

template <typename Operation>
Typed Expressions::elementwise(const std::vector<Typed>& args, Span span, Operation operation) {
  const auto size = common_size(args, span);
  if (!size) return {};
  if (*size == 0) return operation(args);
  Typed result;
  for (std::size_t i = 0; i < static_cast<std::size_t>(*size); ++i) {
    std::vector<Typed> single;
    for (const Typed& arg : args) single.push_back(element(arg, i));
    Typed one = operation(std::move(single));
    if (!one.valid()) return {};
    std::vector<NodeId> elements = std::move(result.elements);
    elements.push_back(one.node);
    result = std::move(one);
    result.elements = std::move(elements);
  }
  result.type.size = *size;
  result.node = kNone;
  return result;
}

/// A number with its unit as it is written, a truth, or a name.
lang::ExprPtr simple_expression(lang::ExprKind kind, double value, const std::string& word, Span span);
/// Zero, false, or the first label.
lang::ExprPtr nothing_of(const Program& program, const Type& type, Span span);

}  // namespace isodyne::check
