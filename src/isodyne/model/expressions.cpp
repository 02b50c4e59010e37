#include "isodyne/model/expressions.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::model {

namespace {

struct Builtin {
  const char* word;
  Op op;
  int arity;
  const char* rule;
};

constexpr Builtin kBuiltins[] = {
#define OP(id, count, text)
#define FUNCTION(id, count, word, rule) {word, Op::id, count, #rule},
#include "isodyne/model/ops.def"
#undef OP
#undef FUNCTION
};

Type real_type(const Dimension& d = {}) {
  return {Type::Kind::real, d, kNone};
}
Type integer_type() {
  return {Type::Kind::integer, {}, kNone};
}

}  // namespace

NodeId Expressions::constant(double value) {
  Node n;
  n.value = value;
  check_.program.nodes.push_back(n);
  return static_cast<NodeId>(check_.program.nodes.size() - 1);
}

NodeId Expressions::variable(VarId id) {
  Node n;
  n.op = Op::variable;
  n.variable = id;
  check_.program.nodes.push_back(n);
  return static_cast<NodeId>(check_.program.nodes.size() - 1);
}

NodeId Expressions::node(Op op, NodeId a, NodeId b, NodeId c) {
  Node n;
  n.op = op;
  n.a = a;
  n.b = b;
  n.c = c;
  check_.program.nodes.push_back(n);
  return static_cast<NodeId>(check_.program.nodes.size() - 1);
}

NodeId Expressions::at_limit(const State& state) {
  const NodeId x = variable(state.value), rate = variable(state.derivative), zero = constant(0);
  const NodeId low = node(Op::land, node(Op::le, x, state.lowest), node(Op::lt, rate, zero));
  const NodeId high = node(Op::land, node(Op::ge, x, state.highest), node(Op::gt, rate, zero));
  return node(Op::lor, low, high);
}

Typed Expressions::check(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  using lang::ExprKind;
  if (check_.program.nodes.size() > Check::kMostNodes) {
    if (!check_.overflow) {
      check_.error(Code::too_large, e.span, fmt::format("this bench has more than {} operations", Check::kMostNodes),
                   "do functions or parts contain each other many times over?");
    }
    check_.overflow = true;
    return {};
  }
  switch (e.kind) {
    case ExprKind::number:
      return number(e);
    case ExprKind::boolean:
      return truth(constant(e.value));
    case ExprKind::name:
      return name(e, scope, expected);
    case ExprKind::negate: {
      Typed a = check(*e.args[0], scope);
      if (!a.valid() || !need_numeric(a, e.args[0]->span, "after `-`")) return {};
      a.node = node(Op::neg, a.node);
      return a;
    }
    case ExprKind::invert: {
      const NodeId a = check_truth(*e.args[0], scope, "what follows `not`");
      return a == kNone ? Typed{} : truth(node(Op::lnot, a));
    }
    case ExprKind::binary:
      return binary(e, scope);
    case ExprKind::is:
    case ExprKind::is_not:
      return equality(e, scope);
    case ExprKind::within:
      return within(e, scope);
    case ExprKind::conditional:
      return conditional(e, scope, expected);
    case ExprKind::call:
      return call(e, scope);
    case ExprKind::at_limit:
      return limit(e, scope);
    case ExprKind::becomes_active:
      return becomes_active(e, scope);
  }
  return {};
}

Typed Expressions::number(const lang::Expr& e) {
  if (e.word.empty()) {
    Typed t = real(constant(e.value), {});
    t.zero = e.value == 0;
    t.whole = std::floor(e.value) == e.value && std::abs(e.value) < 1e15;
    return t;
  }
  const auto unit = parse_unit(e.word);
  if (!unit) {
    const auto meant = closest(e.word, unit_names());
    check_.error(
        Code::unknown_unit, e.span, fmt::format("`{}` is not a unit", e.word),
        meant ? fmt::format("did you mean `{}`?", *meant) : "units are written like `m`, `m/s^2` or `kg/(m*s)`");
    return {};
  }
  Typed t = real(constant(e.value * unit->factor), unit->dimension);
  t.shown = *unit;
  return t;
}

Typed Expressions::name(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  if (expected != kNone && e.path.parts.size() == 1) {
    const auto& labels = check_.program.choices[static_cast<std::size_t>(expected)].labels;
    const auto label = std::find(labels.begin(), labels.end(), e.word);
    if (label != labels.end()) {
      return {
          constant(static_cast<double>(label - labels.begin())), {Type::Kind::choice, {}, expected}, {}, false, false};
    }
  }
  if (scope.arguments != nullptr) {
    const auto found = scope.arguments->find(e.word);
    if (found != scope.arguments->end()) return found->second;
    std::vector<std::string> known;
    for (const auto& [text, value] : *scope.arguments) known.push_back(text);
    const auto meant = closest(e.word, known);
    check_.error(Code::unknown_name, e.span, fmt::format("this function has no argument called `{}`", e.word),
                 meant ? fmt::format("did you mean `{}`?", *meant) : "a function sees its arguments and nothing else");
    return {};
  }
  if (e.word == "time") {
    Typed t = real(variable(0), parse_unit("s")->dimension);
    return t;
  }
  const bool known = check_.find(*scope.instance, e.path) != kNone;
  if (!known && expected != kNone && e.path.parts.size() == 1) {
    const Choice& choice = check_.program.choices[static_cast<std::size_t>(expected)];
    const auto meant = closest(e.word, choice.labels);
    std::string all;
    for (const std::string& label : choice.labels) all += (all.empty() ? "" : ", ") + label;
    check_.error(Code::unknown_name, e.span, fmt::format("`{}` is not a label of {}", e.word, choice.name),
                 meant ? fmt::format("did you mean `{}`?", *meant) : fmt::format("its labels are {}", all));
    return {};
  }
  if (!known) {
    for (const Choice& choice : check_.program.choices) {
      if (std::find(choice.labels.begin(), choice.labels.end(), e.word) == choice.labels.end()) continue;
      check_.error(Code::wrong_kind, e.span,
                   fmt::format("`{}` is a label of {} and has no meaning on its own here", e.word, choice.name),
                   fmt::format("compare with it: `x is {}`", e.word));
      return {};
    }
  }
  const VarId id = check_.resolve(*scope.instance, e.path);
  if (id == kNone) return {};
  if (!check_.program.variable(id).type.valid()) check_.demand(id, e.span);
  const Variable& v = check_.program.variable(id);
  if (!v.type.valid()) return {};
  return {variable(id), v.type, v.unit, false, false};
}

Typed Expressions::binary(const lang::Expr& e, const ExprScope& scope) {
  if (e.word == "and" || e.word == "or" || e.word == "implies") return logic(e, scope);
  Typed a = check(*e.args[0], scope);
  Typed b = check(*e.args[1], scope);
  if (!a.valid() || !b.valid()) return {};
  if (e.word == "<") return compare(e, Op::lt, a, b);
  if (e.word == "<=") return compare(e, Op::le, a, b);
  if (e.word == ">") return compare(e, Op::gt, a, b);
  if (e.word == ">=") return compare(e, Op::ge, a, b);
  const std::string where = fmt::format("next to `{}`", e.word);
  if (!need_numeric(a, e.args[0]->span, where) || !need_numeric(b, e.args[1]->span, where)) return {};
  if (e.word == "^") return raise(e, a, b);
  return arithmetic(e, a, b);
}

Typed Expressions::logic(const lang::Expr& e, const ExprScope& scope) {
  const std::string what = fmt::format("what stands next to `{}`", e.word);
  const NodeId a = check_truth(*e.args[0], scope, what);
  const NodeId b = check_truth(*e.args[1], scope, what);
  if (a == kNone || b == kNone) return {};
  if (e.word == "and") return truth(node(Op::land, a, b));
  if (e.word == "or") return truth(node(Op::lor, a, b));
  return truth(node(Op::lor, node(Op::lnot, a), b));
}

Typed Expressions::arithmetic(const lang::Expr& e, Typed a, Typed b) {
  const bool integers = (a.type.kind == Type::Kind::integer || a.whole) &&
                        (b.type.kind == Type::Kind::integer || b.whole) &&
                        (a.type.kind == Type::Kind::integer || b.type.kind == Type::Kind::integer);
  if (e.word == "+" || e.word == "-") {
    if (!agree(a, b, e.span, e.word == "+" ? "add" : "subtract")) return {};
    Typed t = a;
    t.zero = t.whole = false;
    t.shown = a.zero ? b.shown : a.shown;
    t.node = node(e.word == "+" ? Op::add : Op::sub, a.node, b.node);
    return t;
  }
  const bool times = e.word == "*";
  const auto dimension =
      times ? multiply(a.type.dimension, b.type.dimension) : divide(a.type.dimension, b.type.dimension);
  if (!dimension) {
    check_.error(Code::unit_mismatch, e.span, "the unit of this product has exponents beyond 100");
    return {};
  }
  const NodeId result = node(times ? Op::mul : Op::div, a.node, b.node);
  if (times && integers) return {result, integer_type(), {}, false, false};
  return real(result, *dimension);
}

Typed Expressions::raise(const lang::Expr& e, const Typed& base, const Typed& exponent) {
  if (!exponent.type.dimension.none()) {
    check_.error(
        Code::unit_mismatch, e.args[1]->span,
        fmt::format("an exponent has no unit, but this one is in {}", describe(check_.program, exponent.type)));
    return {};
  }
  const auto value = fold(check_.program, exponent.node, [](VarId) { return std::nullopt; });
  const bool small = value && std::floor(*value) == *value && std::abs(*value) <= 9;
  if (!base.type.dimension.none() && !small) {
    check_.error(
        Code::unit_mismatch, e.args[1]->span,
        fmt::format("{} can only be raised to a whole number from -9 to 9", describe(check_.program, base.type)),
        "divide by a reference value first, so that no unit is left");
    return {};
  }
  Dimension dimension;
  if (!base.type.dimension.none()) {
    const auto raised = power(base.type.dimension, static_cast<int>(*value));
    if (!raised) return {};
    dimension = *raised;
  }
  if (value && *value == 2) return real(node(Op::mul, base.node, base.node), dimension);
  return real(node(Op::pow, base.node, exponent.node), dimension);
}

Typed Expressions::compare(const lang::Expr& e, Op op, Typed a, Typed b) {
  if (!need_numeric(a, e.args[0]->span, fmt::format("next to `{}`", e.word))) return {};
  if (!need_numeric(b, e.args[1]->span, fmt::format("next to `{}`", e.word))) return {};
  if (!agree(a, b, e.span, "compare")) return {};
  const NodeId result = node(op, a.node, b.node);
  // The margin is read in the unit of the written limit, else in that of the signal.
  const bool literal = e.args[1]->kind == lang::ExprKind::number && !e.args[1]->word.empty();
  check_.program.units.push_back(literal ? b.shown : a.zero ? b.shown : a.shown);
  check_.program.nodes.back().unit = static_cast<std::int32_t>(check_.program.units.size() - 1);
  return truth(result);
}

Typed Expressions::equality(const lang::Expr& e, const ExprScope& scope) {
  Typed a = check(*e.args[0], scope);
  if (!a.valid()) return {};
  Typed b = check(*e.args[1], scope, a.type.choice);
  if (!b.valid()) return {};
  const auto float_like = [](const Typed& t) { return t.type.kind == Type::Kind::real && !t.whole; };
  if (float_like(a) || float_like(b)) {
    check_.error(Code::type_mismatch, e.span, "`is` compares truth values, whole numbers and choices",
                 "compare measured values with a tolerance: `x within 5 cm of y`");
    return {};
  }
  if (!agree(a, b, e.span, "compare")) return {};
  return truth(node(e.kind == lang::ExprKind::is ? Op::eq : Op::ne, a.node, b.node));
}

// x within t of y  ⇔  |x − y| <= t
Typed Expressions::within(const lang::Expr& e, const ExprScope& scope) {
  Typed x = check(*e.args[0], scope);
  Typed tolerance = check(*e.args[1], scope);
  Typed y = check(*e.args[2], scope);
  if (!x.valid() || !tolerance.valid() || !y.valid()) return {};
  for (std::size_t i = 0; i < 3; ++i) {
    if (!need_numeric(i == 0 ? x : i == 1 ? tolerance : y, e.args[i]->span, "next to `within`")) return {};
  }
  if (!agree(x, y, e.span, "compare") || !agree(x, tolerance, e.args[1]->span, "compare")) return {};
  const NodeId distance = node(Op::abs, node(Op::sub, x.node, y.node));
  const NodeId result = node(Op::le, distance, tolerance.node);
  check_.program.units.push_back(tolerance.shown);
  check_.program.nodes.back().unit = static_cast<std::int32_t>(check_.program.units.size() - 1);
  return truth(result);
}

Typed Expressions::conditional(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  const NodeId condition = check_truth(*e.args[0], scope, "the condition of `if`");
  Typed yes = check(*e.args[1], scope, expected);
  Typed no = check(*e.args[2], scope, yes.valid() && yes.type.kind == Type::Kind::choice ? yes.type.choice : expected);
  if (condition == kNone || !yes.valid() || !no.valid()) return {};
  if (!agree(yes, no, e.span, "choose between")) return {};
  Typed t = yes;
  t.zero = yes.zero && no.zero;
  t.whole = yes.whole && no.whole;
  t.shown = yes.zero ? no.shown : yes.shown;
  t.node = node(Op::select, condition, yes.node, no.node);
  return t;
}

Typed Expressions::call(const lang::Expr& e, const ExprScope& scope) {
  std::vector<Typed> args;
  bool valid = true;
  for (const lang::ExprPtr& arg : e.args) {
    args.push_back(check(*arg, scope));
    valid = valid && args.back().valid();
  }
  const Builtin* found = nullptr;
  std::vector<std::string> known;
  for (const Builtin& b : kBuiltins) {
    known.emplace_back(b.word);
    if (e.word == b.word) found = &b;
  }
  for (const auto& [name, f] : check_.functions) known.push_back(name);
  const auto user = check_.functions.find(e.word);
  if (found == nullptr && user == check_.functions.end()) {
    const auto meant = closest(e.word, known);
    check_.error(Code::unknown_name, e.path.span, fmt::format("there is no function called `{}`", e.word),
                 meant ? fmt::format("did you mean `{}`?", *meant) : std::string{});
    return {};
  }
  const bool many = found != nullptr && (found->op == Op::min || found->op == Op::max);
  const std::size_t wanted = found != nullptr ? static_cast<std::size_t>(found->arity) : user->second->params.size();
  if (many ? args.size() < 2 : args.size() != wanted) {
    check_.error(Code::wrong_arguments, e.span,
                 fmt::format("`{}` takes {}{}, not {}", e.word, many ? "at least " : "", counted(wanted, "argument"),
                             args.size()));
    return {};
  }
  if (!valid) return {};
  return found != nullptr ? builtin(e, found->op, found->rule, std::move(args))
                          : expand(e, *user->second, std::move(args));
}

Typed Expressions::builtin(const lang::Expr& e, Op op, std::string_view rule, std::vector<Typed> args) {
  for (std::size_t i = 0; i < args.size(); ++i) {
    if (!need_numeric(args[i], e.args[i]->span, fmt::format("in `{}`", e.word))) return {};
  }
  const auto need_plain = [&](bool angle_too) {
    const Dimension radian = parse_unit("rad")->dimension;
    for (std::size_t i = 0; i < args.size(); ++i) {
      const Dimension& d = args[i].type.dimension;
      if (d.none() || (angle_too && d == radian)) continue;
      check_.error(Code::unit_mismatch, e.args[i]->span,
                   fmt::format("`{}` takes {}, not {}", e.word, angle_too ? "an angle" : "a number without unit",
                               describe(check_.program, args[i].type)),
                   "divide by a reference value first");
      return false;
    }
    return true;
  };
  if (rule == "same") {
    Typed t = args[0];
    for (std::size_t i = 1; i < args.size(); ++i) {
      if (!agree(t, args[i], e.span, "mix")) return {};
      if (op != Op::clamp) t.node = node(op, t.node, args[i].node);
      t.zero = t.whole = false;
    }
    if (op == Op::clamp) {
      if (!agree(args[0], args[2], e.span, "mix") || !agree(args[1], args[2], e.span, "mix")) return {};
      t = args[0];
      t.node = node(op, args[0].node, args[1].node, args[2].node);
    }
    if (op == Op::abs) t.node = node(op, args[0].node);
    t.zero = t.whole = false;
    return t;
  }
  if (rule == "sign") return real(node(op, args[0].node), {});
  if (rule == "root") {
    const auto dimension = square_root(args[0].type.dimension);
    if (dimension) return real(node(op, args[0].node), *dimension);
    check_.error(Code::unit_mismatch, e.args[0]->span,
                 fmt::format("there is no square root of {}", describe(check_.program, args[0].type)),
                 "every exponent of the unit must be even, as in m^2/s^2");
    return {};
  }
  if (rule == "angle") return need_plain(true) ? real(node(op, args[0].node), {}) : Typed{};
  if (rule == "arc") return need_plain(false) ? real(node(op, args[0].node), parse_unit("rad")->dimension) : Typed{};
  if (rule == "arc2") {
    if (!agree(args[0], args[1], e.span, "mix")) return {};
    return real(node(op, args[0].node, args[1].node), parse_unit("rad")->dimension);
  }
  if (!need_plain(false)) return {};
  const NodeId result = node(op, args[0].node);
  const bool rounds = op == Op::floor || op == Op::ceil || op == Op::round;
  return rounds ? Typed{result, integer_type(), {}, false, false} : real(result, {});
}

Typed Expressions::expand(const lang::Expr& e, const lang::FunctionDecl& f, std::vector<Typed> args) {
  if (std::find(calls_.begin(), calls_.end(), &f) != calls_.end()) {
    check_.error(Code::recursion, e.span, fmt::format("function `{}` calls itself", f.name.text),
                 "functions are expanded where they are used and cannot be recursive");
    return {};
  }
  if (calls_.size() >= 50) {
    check_.error(Code::too_deep, e.span, "functions call each other more than 50 deep here");
    return {};
  }
  if (calls_.empty()) expansions_ = 0;
  if (++expansions_ > kMostCalls) {
    if (expansions_ == kMostCalls + 1) {
      check_.error(Code::too_large, e.span,
                   fmt::format("the calls of this expression expand to more than {} calls", kMostCalls),
                   "name intermediate results with `let`");
    }
    return {};
  }
  std::map<std::string, Typed> bound;
  for (std::size_t i = 0; i < args.size(); ++i) {
    Unit unit;
    const Type type = check_.type_of(f.params[i].type, unit);
    if (!type.valid()) return {};
    if (!fits(args[i], type)) {
      check_.error(Code::unit_mismatch, e.args[i]->span,
                   fmt::format("`{}` of `{}` is {}, but this is {}", f.params[i].name.text, f.name.text,
                               describe(check_.program, type), describe(check_.program, args[i].type)));
      return {};
    }
    bound[f.params[i].name.text] = {args[i].node, type, unit, false, false};
  }
  Unit unit;
  const Type result = check_.type_of(f.result, unit);
  if (!result.valid()) return {};
  calls_.push_back(&f);
  const NodeId body = check_as(*f.body, {nullptr, &bound}, result, fmt::format("the value of `{}`", f.name.text));
  calls_.pop_back();
  if (body == kNone) return {};
  return {body, result, unit, false, false};
}

void Expressions::check_function(const lang::FunctionDecl& f) {
  std::map<std::string, Typed> bound;
  bool valid = true;
  for (const auto& param : f.params) {
    Unit unit;
    const Type type = check_.type_of(param.type, unit);
    valid = valid && type.valid();
    if (bound.contains(param.name.text)) {
      check_.error(Code::duplicate, param.name.span, fmt::format("argument `{}` is named twice", param.name.text));
    }
    bound[param.name.text] = {constant(1), type, unit, false, false};
  }
  Unit unit;
  const Type result = check_.type_of(f.result, unit);
  if (!valid || !result.valid()) return;
  expansions_ = 0;
  calls_.push_back(&f);
  check_as(*f.body, {nullptr, &bound}, result, fmt::format("the value of `{}`", f.name.text));
  calls_.pop_back();
}

Typed Expressions::limit(const lang::Expr& e, const ExprScope& scope) {
  const lang::Expr& operand = *e.args[0];
  const VarId id = operand.kind == lang::ExprKind::name && scope.instance != nullptr
                       ? check_.resolve(*scope.instance, operand.path)
                       : kNone;
  if (operand.kind == lang::ExprKind::name && id == kNone) return {};
  const auto state = id == kNone ? check_.state_of.end() : check_.state_of.find(id);
  if (state == check_.state_of.end() || check_.program.states[state->second].lowest == kNone) {
    check_.error(Code::wrong_kind, operand.span, "only a state with limits can be `at limit`",
                 "declare it as `state x : unit = start  limited low .. high`");
    return {};
  }
  return truth(at_limit(check_.program.states[state->second]));
}

Typed Expressions::becomes_active(const lang::Expr& e, const ExprScope& scope) {
  const lang::Expr& operand = *e.args[0];
  const VarId id = operand.kind == lang::ExprKind::name && scope.instance != nullptr
                       ? check_.resolve(*scope.instance, operand.path)
                       : kNone;
  if (operand.kind == lang::ExprKind::name && id == kNone) return {};
  if (id == kNone || check_.program.variable(id).role != Role::fault) {
    check_.error(Code::wrong_kind, operand.span, "only a fault can become active", "name a fault");
    return {};
  }
  Edge edge;
  edge.now = variable(id);
  edge.previous = check_.define_hidden(check_.program.variable(id).name + " before", {Type::Kind::boolean, {}, kNone});
  check_.program.edges.push_back(edge);
  return truth(node(Op::land, edge.now, node(Op::lnot, variable(edge.previous))));
}

bool Expressions::need_numeric(const Typed& value, Span span, std::string_view where) {
  if (value.type.numeric()) return true;
  check_.error(Code::type_mismatch, span,
               fmt::format("{} a number is needed, not a {}", where, describe(check_.program, value.type)));
  return false;
}

bool Expressions::agree(Typed& a, Typed& b, Span span, const char* verb) {
  if (a.type == b.type) return true;
  if (a.type.numeric() && b.type.numeric()) {
    if (a.type.kind == Type::Kind::integer && b.whole) return b.type = a.type, true;
    if (b.type.kind == Type::Kind::integer && a.whole) return a.type = b.type, true;
    if (a.zero && b.type.kind == Type::Kind::real) return a.type = b.type, true;
    if (b.zero && a.type.kind == Type::Kind::real) return b.type = a.type, true;
    if (a.type.dimension == b.type.dimension) return a.type = b.type = real_type(a.type.dimension), true;
  }
  const bool units = a.type.kind == Type::Kind::real && b.type.kind == Type::Kind::real;
  check_.error(
      units ? Code::unit_mismatch : Code::type_mismatch, span,
      fmt::format("cannot {} {} and {}", verb, describe(check_.program, a.type), describe(check_.program, b.type)),
      units && (a.type.dimension.none() || b.type.dimension.none()) ? "give the plain number a unit, such as `5 cm`"
                                                                    : std::string{});
  return false;
}

bool Expressions::fits(const Typed& value, const Type& target) const {
  if (value.type == target) return true;
  if (target.kind == Type::Kind::integer) return value.whole;
  if (target.kind != Type::Kind::real || !value.type.numeric()) return false;
  return value.zero || value.type.dimension == target.dimension;
}

NodeId Expressions::check_as(const lang::Expr& e, const ExprScope& scope, const Type& target, const std::string& what) {
  const Typed value = check(e, scope, target.choice);
  if (!value.valid() || !target.valid()) return kNone;
  if (fits(value, target)) return value.node;
  const bool units = value.type.kind == Type::Kind::real && target.kind == Type::Kind::real;
  std::string advice;
  if (units && value.type.dimension.none())
    advice = fmt::format("give it a unit, such as {}", si_text(target.dimension));
  if (target.kind == Type::Kind::integer && value.type.kind == Type::Kind::real) advice = "round it: `round(x)`";
  check_.error(units ? Code::unit_mismatch : Code::type_mismatch, e.span,
               fmt::format("{} must be {}, but this is {}", what, describe(check_.program, target),
                           describe(check_.program, value.type)),
               advice);
  return kNone;
}

NodeId Expressions::check_truth(const lang::Expr& e, const ExprScope& scope, const std::string& what) {
  return check_as(e, scope, {Type::Kind::boolean, {}, kNone}, what);
}

std::optional<Time> Expressions::check_span(const lang::Expr& e, const ExprScope& scope, const char* what) {
  const NodeId node = check_as(e, scope, real_type(parse_unit("s")->dimension), what);
  const auto seconds = check_.constant(node, e.span, what);
  if (!seconds) return std::nullopt;
  const auto span = time_from_seconds(*seconds);
  if (!span || span->count() < 0) {
    check_.error(Code::bad_period, e.span, fmt::format("{} must be a time from 0 s to 290 years", what));
    return std::nullopt;
  }
  return span;
}

}  // namespace isodyne::model
