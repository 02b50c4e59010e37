#include "isodyne/check/plant/expressions.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "isodyne/check/plant/table_loader.h"
#include "isodyne/core/text.h"
#include "isodyne/program/tables.h"

namespace isodyne::check {

namespace {

Type real_type(const Dimension& d = {}) {
  return {Type::Kind::real, d, kNone};
}
Type integer_type() {
  return {Type::Kind::integer, {}, kNone};
}
/// Radians are dropped beside other units, but a pure number of turns a second is not one of cycles.
std::string angle_advice(const Dimension& a, const Dimension& b) {
  Dimension d = a;
  d.exponents[7] = b.exponents[7];
  if (a == b || d != b) return {};
  return "a plain number and an angle are told apart: multiply by `1 rad`, or by `2 * 3.14159 rad` for cycles";
}

}  // namespace

Expressions::Expressions(Check& check) : check_(check) {
  constexpr double kLargest = 1e9;  // sizes and counters; everything below is an exact int
  check_.whole_number = [this](const lang::Expr& e, const Instance* instance, const Env* env,
                               const char* what) -> std::optional<double> {
    static const std::map<std::string, Typed> kNoNames;
    const ExprScope scope{instance, instance == nullptr ? &kNoNames : nullptr, env};
    const NodeId node = check_as(e, scope, integer_type(), what);
    const auto value = check_.constant(node, e.span, what);
    if (value && std::abs(*value) > kLargest) {
      check_.error(Code::out_of_limits, e.span, fmt::format("{} is beyond 1e9", what));
      return std::nullopt;
    }
    return value;
  };
}

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

NodeId Expressions::look_up(Op op, std::int32_t table, NodeId a, NodeId b) {
  const NodeId made = node(op, a, b);
  check_.program.nodes.back().unit = table;
  return made;
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
      return number(e, scope);
    case ExprKind::boolean:
      return truth(constant(e.value));
    case ExprKind::name:
      return name(e, scope, expected);
    case ExprKind::list:
      return list(e, scope, expected);
    case ExprKind::negate:
      return negate(e, scope);
    case ExprKind::invert:
      return elementwise({check(*e.args[0], scope)}, e.span, [&](const std::vector<Typed>& x) -> Typed {
        if (!x[0].valid()) return {};
        if (x[0].type.kind == Type::Kind::boolean) return truth(node(Op::lnot, x[0].node));
        check_.error(
            Code::type_mismatch, e.args[0]->span,
            fmt::format("what follows `not` must be bool, but this is {}", describe(check_.program, x[0].type)));
        return {};
      });
    case ExprKind::binary:
      return binary(e, scope);
    case ExprKind::is:
    case ExprKind::is_not:
      return equality(e, scope);
    case ExprKind::within:
      return within(e, scope);
    case ExprKind::from_file: {
      const auto column = load_own_column(check_, *this, *e.column);
      if (column.table == kNone) return {};
      Typed t = real(look_up(Op::table1, column.table, variable(kTime)), column.unit.dimension);
      t.type.absolute = column.unit.absolute();
      t.shown = column.unit;
      return t;
    }
    case ExprKind::band:
      return band(e, scope);
    case ExprKind::conditional:
      return conditional(e, scope, expected);
    case ExprKind::call:
      return call(e, scope);
    case ExprKind::at_limit:
      return limit(e, scope);
    case ExprKind::becomes_active:
      return becomes_active(e, scope);
    case ExprKind::over_time:
      check_.error(Code::wrong_kind, e.span, fmt::format("`{}` over time is only for requirements", e.word));
      return {};
  }
  return {};
}

Typed Expressions::number(const lang::Expr& e, const ExprScope& scope) {
  if (e.word.empty()) {
    Typed t = real(constant(e.value), {});
    t.zero = e.value == 0;
    t.whole = std::floor(e.value) == e.value && std::abs(e.value) < 1e15;
    return t;
  }
  const auto unit = check_.unit_named(e.word, scope.instance);
  if (!unit) {
    check_.error(Code::unknown_unit, e.span, fmt::format("`{}` is not a unit", e.word), unit_advice(e.word));
    return {};
  }
  Typed t = real(constant(e.value * unit->factor + unit->offset), unit->dimension);
  t.type.absolute = unit->absolute();
  t.shown = *unit;
  return t;
}

bool Expressions::misplaced_label(const lang::Expr& e, std::int32_t expected) {
  if (expected != kNone && e.path.plain()) {
    const Choice& choice = check_.program.choices[static_cast<std::size_t>(expected)];
    const auto meant = did_you_mean(e.word, choice.labels);
    std::string all;
    for (const std::string& label : choice.labels) list_on(all, label);
    check_.error(Code::unknown_name, e.span, fmt::format("`{}` is not a label of {}", e.word, choice.name),
                 meant.value_or(fmt::format("its labels are {}", all)));
    return true;
  }
  for (const Choice& choice : check_.program.choices) {
    if (std::find(choice.labels.begin(), choice.labels.end(), e.word) == choice.labels.end()) continue;
    check_.error(Code::wrong_kind, e.span,
                 fmt::format("`{}` is a label of {} and has no meaning on its own here", e.word, choice.name),
                 fmt::format("compare with it: `x is {}`", e.word));
    return true;
  }
  return false;
}

Typed Expressions::name(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  if (expected != kNone && e.path.plain()) {
    const auto& labels = check_.program.choices[static_cast<std::size_t>(expected)].labels;
    const auto label = std::find(labels.begin(), labels.end(), e.word);
    if (label != labels.end()) {
      Typed t;
      t.node = constant(static_cast<double>(label - labels.begin()));
      t.type = {Type::Kind::choice, {}, expected};
      return t;
    }
  }
  for (const Env* env = scope.env; env != nullptr && e.path.plain(); env = env->outer) {
    if (env->name == e.word) return {constant(env->value), integer_type(), {}, false, true, {}};
  }
  const bool argued =
      scope.arguments != nullptr && (scope.instance == nullptr || scope.arguments->contains(e.path.parts[0].text));
  const bool own_pi =
      scope.instance == nullptr ? scope.arguments->contains("pi") : check_.knows(*scope.instance, e.path);
  if (e.word == "pi" && !own_pi && !(argued && scope.instance != nullptr)) return real(constant(std::numbers::pi), {});
  if (argued) return argument(e, scope);
  if (e.word == "time") return real(variable(kTime), parse_unit("s")->dimension);
  if (!check_.knows(*scope.instance, e.path) && misplaced_label(e, expected)) return {};
  const Target target = check_.resolve(*scope.instance, e.path, scope.env);
  Typed result;
  for (const VarId id : target.ids) {
    if (!check_.program.variable(id).type.valid()) check_.demand(id, e.span);
    const Variable& v = check_.program.variable(id);
    if (v.role == Role::measure && !measures_) {
      check_.error(Code::wrong_kind, e.span, fmt::format("`{}` is a measure, which only requirements can read", e.word),
                   "it is known when its stretch is over");
      return {};
    }
    if (!v.type.valid()) return {};
    if (!result.elements.empty() && result.type != v.type) {
      check_.error(Code::unit_mismatch, e.span,
                   fmt::format("the elements of `{}` do not have one type: {} and {}", e.word,
                               describe(check_.program, result.type), describe(check_.program, v.type)));
      return {};
    }
    result.type = v.type;
    result.shown = v.unit;
    result.elements.push_back(variable(id));
  }
  if (!target.found()) return {};
  if (target.vector) {
    result.type.size = static_cast<int>(result.elements.size());
  } else {
    result.node = result.elements.front();
    result.elements.clear();
  }
  return result;
}

Typed Expressions::argument(const lang::Expr& e, const ExprScope& scope) {
  const auto found = scope.arguments->find(e.path.parts[0].text);
  if (found == scope.arguments->end()) {
    std::vector<std::string> known;
    for (const auto& [text, value] : *scope.arguments) known.push_back(text);
    const auto meant = did_you_mean(e.word, known);
    check_.error(Code::unknown_name, e.span,
                 known.empty() ? fmt::format("`{}` cannot be used here: only numbers can", e.word)
                               : fmt::format("this function has no argument called `{}`", e.word),
                 meant           ? *meant
                 : known.empty() ? std::string{}
                                 : "a function sees its arguments and nothing else");
    return {};
  }
  const lang::PathStep& step = e.path.parts[0];
  if (e.path.parts.size() > 1 || (step.index && found->second.type.size == 0)) {
    check_.error(Code::wrong_kind, e.span, fmt::format("argument `{}` has nothing inside it", step.text));
    return {};
  }
  if (!step.index) return found->second;
  const NodeId index = check_as(*step.index, scope, integer_type(), "the number of an element");
  const auto number = check_.constant(index, step.index->span, "the number of an element");
  if (!number) return {};
  if (*number < 1 || *number > found->second.type.size) {
    check_.error(Code::out_of_limits, step.span,
                 fmt::format("argument `{}` has {} elements; there is no number {:.0f}", step.text,
                             found->second.type.size, *number));
    return {};
  }
  return element(found->second, static_cast<std::size_t>(*number - 1));
}

Typed Expressions::list(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  std::vector<Typed> values;
  for (const lang::ExprPtr& arg : e.args) {
    values.push_back(check(*arg, scope, expected));
    if (!values.back().valid()) return {};
    if (values.back().type.size > 0) {
      check_.error(Code::type_mismatch, arg->span, "a vector has single values as elements, not vectors");
      return {};
    }
  }
  Typed result = values[0];
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (!agree(result, values[i], e.args[i]->span, "put into one vector")) return {};
    if (result.zero) result.shown = values[i].shown;
    result.zero = result.zero && values[i].zero;
    result.whole = result.whole && values[i].whole;
    result.elements.push_back(values[i].node);
  }
  result.node = kNone;
  result.type.size = static_cast<int>(result.elements.size());
  return result;
}

Typed Expressions::negate(const lang::Expr& e, const ExprScope& scope) {
  const lang::Expr& of = *e.args[0];
  const char next = e.span.known() ? check_.program.sources->text(e.span.source)[e.span.begin + 1] : '\0';
  if (of.kind == lang::ExprKind::number && next >= '0' && next <= '9') {  // -20 degC: a number with its sign
    const lang::ExprPtr literal = lang::clone(of);
    literal->value = -of.value;
    return number(*literal, scope);
  }
  return elementwise({check(*e.args[0], scope)}, e.span, [&](std::vector<Typed> x) -> Typed {
    if (!x[0].valid() || !need_numeric(x[0], e.args[0]->span, "after `-`")) return {};
    if (!need_difference(x[0], e.args[0]->span)) return {};
    x[0].node = node(Op::neg, x[0].node);
    return x[0];
  });
}

Typed Expressions::binary(const lang::Expr& e, const ExprScope& scope) {
  if (e.word == "and" || e.word == "or" || e.word == "implies") return logic(e, scope);
  const Typed left = check(*e.args[0], scope);
  const Typed right = check(*e.args[1], scope);
  if (!left.valid() || !right.valid()) return {};
  return elementwise({left, right}, e.span, [&](const std::vector<Typed>& x) -> Typed {
    const Typed &a = x[0], &b = x[1];
    if (e.word == "<") return compare(e, Op::lt, a, b);
    if (e.word == "<=") return compare(e, Op::le, a, b);
    if (e.word == ">") return compare(e, Op::gt, a, b);
    if (e.word == ">=") return compare(e, Op::ge, a, b);
    const std::string where = fmt::format("next to `{}`", e.word);
    if (!need_numeric(a, e.args[0]->span, where) || !need_numeric(b, e.args[1]->span, where)) return {};
    if (e.word == "^") return raise(e, a, b);
    return arithmetic(e, a, b);
  });
}

Typed Expressions::logic(const lang::Expr& e, const ExprScope& scope) {
  const Typed left = check(*e.args[0], scope);
  const Typed right = check(*e.args[1], scope);
  if (!left.valid() || !right.valid()) return {};
  return elementwise({left, right}, e.span, [&](const std::vector<Typed>& x) -> Typed {
    for (std::size_t i = 0; i < 2; ++i) {
      if (x[i].type.kind == Type::Kind::boolean) continue;
      check_.error(Code::type_mismatch, e.args[i]->span,
                   fmt::format("what stands next to `{}` must be bool, but this is {}", e.word,
                               describe(check_.program, x[i].type)));
      return {};
    }
    if (e.word == "and") return truth(node(Op::land, x[0].node, x[1].node));
    if (e.word == "or") return truth(node(Op::lor, x[0].node, x[1].node));
    return truth(node(Op::lor, node(Op::lnot, x[0].node), x[1].node));
  });
}

bool Expressions::is_one(NodeId id) const {
  const Node& n = check_.program.node(id);
  return n.op == Op::constant && n.value == 1;
}

Typed Expressions::arithmetic(const lang::Expr& e, Typed a, Typed b) {
  if (e.word == "+" || e.word == "-") return add(e, std::move(a), std::move(b));
  if (!need_difference(a, e.args[0]->span) || !need_difference(b, e.args[1]->span)) return {};
  const bool integers = (a.type.kind == Type::Kind::integer || a.whole) &&
                        (b.type.kind == Type::Kind::integer || b.whole) &&
                        (a.type.kind == Type::Kind::integer || b.type.kind == Type::Kind::integer);
  const bool times = e.word == "*";
  const auto dimension =
      times ? multiply(a.type.dimension, b.type.dimension) : divide(a.type.dimension, b.type.dimension);
  if (!dimension) {
    check_.error(Code::unit_mismatch, e.span, "the unit of this product has exponents beyond 100");
    return {};
  }
  // Seconds and the like are often written as a factor 1, which changes no bit.
  const bool same_as_a = is_one(b.node), same_as_b = times && is_one(a.node);
  const NodeId result = same_as_a ? a.node : same_as_b ? b.node : node(times ? Op::mul : Op::div, a.node, b.node);
  if (times && integers) return {result, integer_type(), {}, false, false, {}};
  Typed t = real(result, *dimension);
  t.whole = times && a.whole && b.whole;
  return t;
}

// absolute - absolute = difference; absolute + difference, difference + absolute, absolute - difference =
// absolute; the rest means nothing.
Typed Expressions::add(const lang::Expr& e, Typed a, Typed b) {
  const bool plus = e.word == "+";
  const bool temperatures = a.type.absolute || b.type.absolute;
  if (temperatures && a.type.dimension == b.type.dimension && a.type.absolute != b.type.absolute &&
      (plus || a.type.absolute)) {
    Typed t = a.type.absolute ? a : b;
    t.node = node(plus ? Op::add : Op::sub, a.node, b.node);
    return t;
  }
  if (temperatures && a.type == b.type && plus) {
    check_.error(Code::unit_mismatch, e.span, "the sum of two absolute temperatures means nothing",
                 "add a difference in K, or take the mean as `a + 0.5 * (b - a)`");
    return {};
  }
  if (!agree(a, b, e.span, plus ? "add" : "subtract")) return {};
  Typed t = a;
  const bool integers = t.type.kind == Type::Kind::integer;
  t.zero = false;
  t.whole = integers ? false : a.whole && b.whole;
  t.shown = a.zero ? b.shown : a.shown;
  if (t.type.absolute) {
    t.type.absolute = false;
    t.shown = difference_unit(t.shown);
  }
  t.node = node(plus ? Op::add : Op::sub, a.node, b.node);
  return t;
}

Typed Expressions::raise(const lang::Expr& e, const Typed& base, const Typed& exponent) {
  if (!need_difference(base, e.args[0]->span)) return {};
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
  // Products and quotients are rounded the same everywhere; compilers replace these powers in their own ways.
  if (value && *value == 2) return real(node(Op::mul, base.node, base.node), dimension);
  if (value && *value == 3) return real(node(Op::mul, node(Op::mul, base.node, base.node), base.node), dimension);
  if (value && *value == 1) return real(base.node, dimension);
  if (value && *value == -1) return real(node(Op::div, constant(1), base.node), dimension);
  return real(node(Op::pow, base.node, exponent.node), dimension);
}

Typed Expressions::compare(const lang::Expr& e, Op op, Typed a, Typed b) {
  if (!need_numeric(a, e.args[0]->span, fmt::format("next to `{}`", e.word))) return {};
  if (!need_numeric(b, e.args[1]->span, fmt::format("next to `{}`", e.word))) return {};
  if (!agree(a, b, e.span, "compare")) return {};
  const NodeId result = node(op, a.node, b.node);
  // The margin is read in the unit of the written limit, else in that of the signal.
  const bool literal = e.args[1]->kind == lang::ExprKind::number && !e.args[1]->word.empty();
  check_.program.units.push_back(difference_unit(literal || a.zero ? b.shown : a.shown));
  check_.program.nodes.back().unit = static_cast<std::int32_t>(check_.program.units.size() - 1);
  return truth(result);
}

Typed Expressions::equality(const lang::Expr& e, const ExprScope& scope) {
  const Typed left = check(*e.args[0], scope);
  if (!left.valid()) return {};
  const Typed right = check(*e.args[1], scope, left.type.choice);
  if (!right.valid()) return {};
  return elementwise({left, right}, e.span, [&](std::vector<Typed> x) -> Typed {
    const auto float_like = [](const Typed& t) { return t.type.kind == Type::Kind::real && !t.whole; };
    if (float_like(x[0]) || float_like(x[1])) {
      check_.error(Code::type_mismatch, e.span, "`is` compares truth values, whole numbers and choices",
                   "compare measured values with a tolerance: `x within 5 cm of y`");
      return {};
    }
    if (!agree(x[0], x[1], e.span, "compare")) return {};
    return truth(node(e.kind == lang::ExprKind::is ? Op::eq : Op::ne, x[0].node, x[1].node));
  });
}

// x within t of y  ⇔  |x − y| <= t
Typed Expressions::within(const lang::Expr& e, const ExprScope& scope) {
  std::vector<Typed> args;
  for (const lang::ExprPtr& arg : e.args) {
    args.push_back(check(*arg, scope));
    if (!args.back().valid()) return {};
  }
  return elementwise(args, e.span, [&](std::vector<Typed> a) -> Typed {
    for (std::size_t i = 0; i < 3; ++i) {
      if (!need_numeric(a[i], e.args[i]->span, "next to `within`")) return {};
    }
    Typed &x = a[0], &tolerance = a[1], &y = a[2];
    if (!agree(x, y, e.span, "compare") || !need_difference(tolerance, e.args[1]->span)) return {};
    x.type.absolute = false;
    if (!agree(x, tolerance, e.args[1]->span, "compare")) return {};
    const NodeId distance = node(Op::abs, node(Op::sub, x.node, y.node));
    const NodeId result = node(Op::le, distance, tolerance.node);
    check_.program.units.push_back(tolerance.shown);
    check_.program.nodes.back().unit = static_cast<std::int32_t>(check_.program.units.size() - 1);
    return truth(result);
  });
}

/// Between the lower and the upper edge of what the file says, widened in value and in time.
Typed Expressions::band(const lang::Expr& e, const ExprScope& scope) {
  Typed x = check(*e.args[0], scope);
  if (!x.valid() || !need_numeric(x, e.args[0]->span, "next to `within`")) return {};
  if (x.type.size > 0) {
    check_.error(Code::type_mismatch, e.args[0]->span, "a file is about single quantities", "say which element");
    return {};
  }
  Type difference = x.type;
  difference.absolute = false;
  const NodeId tolerance = check_as(*e.args[1], scope, difference, "how far it may be away");
  if (tolerance == kNone) return {};
  const auto constant = check_.constant(tolerance, e.args[1]->span, "how far it may be away");
  const auto time = e.args.size() > 2 ? check_span(*e.args[2], scope, "how far it may be off in time") : Time{};
  if (!constant || !time) return {};
  const double width = *constant;
  const std::int32_t table = load_column(check_, *this, *e.column, x.type);
  if (table == kNone) return {};
  const NodeId now = variable(kTime);
  const std::int32_t low = add_edge(check_.program, table, -width, *time),
                     high = add_edge(check_.program, table, width, *time);
  const NodeId above = node(Op::ge, x.node, look_up(Op::table1, low, now));
  check_.program.units.push_back(x.shown);
  const auto unit = static_cast<std::int32_t>(check_.program.units.size() - 1);
  check_.program.nodes.back().unit = unit;
  const NodeId below = node(Op::le, x.node, look_up(Op::table1, high, now));
  check_.program.nodes.back().unit = unit;
  return truth(node(Op::land, above, below));
}

Typed Expressions::conditional(const lang::Expr& e, const ExprScope& scope, std::int32_t expected) {
  const Typed condition = check(*e.args[0], scope);
  if (condition.valid() && condition.type.kind != Type::Kind::boolean) {
    check_.error(
        Code::type_mismatch, e.args[0]->span,
        fmt::format("the condition of `if` must be bool, but this is {}", describe(check_.program, condition.type)));
    return {};
  }
  const Typed yes = check(*e.args[1], scope, expected);
  const Typed no =
      check(*e.args[2], scope, yes.valid() && yes.type.kind == Type::Kind::choice ? yes.type.choice : expected);
  if (!condition.valid() || !yes.valid() || !no.valid()) return {};
  return elementwise({condition, yes, no}, e.span, [&](std::vector<Typed> x) -> Typed {
    if (!agree(x[1], x[2], e.span, "choose between")) return {};
    Typed t = x[1];
    t.zero = x[1].zero && x[2].zero;
    t.whole = x[1].whole && x[2].whole;
    t.shown = x[1].zero ? x[2].shown : x[1].shown;
    t.node = node(Op::select, x[0].node, x[1].node, x[2].node);
    return t;
  });
}

Typed Expressions::limit(const lang::Expr& e, const ExprScope& scope) {
  const lang::Expr& operand = *e.args[0];
  const VarId id = operand.kind == lang::ExprKind::name && scope.instance != nullptr
                       ? check_.resolve_one(*scope.instance, operand.path, scope.env)
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
                       ? check_.resolve_one(*scope.instance, operand.path, scope.env)
                       : kNone;
  if (operand.kind == lang::ExprKind::name && id == kNone) return {};
  const Role role = id == kNone ? Role::hidden : check_.program.variable(id).role;
  if (role != Role::fault && role != Role::condition) {
    check_.error(Code::wrong_kind, operand.span, "only a fault or a condition can become active", "name one");
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

bool Expressions::need_difference(const Typed& value, Span span) {
  if (!value.type.absolute) return true;
  check_.error(Code::unit_mismatch, span,
               "an absolute temperature can be compared, subtracted and shifted, nothing else",
               "take a difference, `T - 20 degC`, or the kelvins above absolute zero, `kelvin(T)`");
  return false;
}

bool Expressions::agree(Typed& a, Typed& b, Span span, const char* verb) {
  if (a.type == b.type) return true;
  if (a.type.numeric() && b.type.numeric() && a.type.absolute == b.type.absolute) {
    if (a.type.kind == Type::Kind::integer && b.whole) return b.type = a.type, true;
    if (b.type.kind == Type::Kind::integer && a.whole) return a.type = b.type, true;
    if (a.zero && b.type.kind == Type::Kind::real) return a.type = b.type, true;
    if (b.zero && a.type.kind == Type::Kind::real) return b.type = a.type, true;
    if (a.type.dimension == b.type.dimension) return a.type = b.type = real_type(a.type.dimension), true;
  }
  const bool units = a.type.kind == Type::Kind::real && b.type.kind == Type::Kind::real;
  std::string advice = units ? angle_advice(a.type.dimension, b.type.dimension) : "";
  if (a.type.absolute != b.type.absolute && units) {
    advice = "20 degC is a temperature, 20 K a difference of temperatures";
  } else if (units && advice.empty() && (a.type.dimension.none() || b.type.dimension.none())) {
    advice = "give the plain number a unit, such as `5 cm`";
  }
  check_.error(
      units ? Code::unit_mismatch : Code::type_mismatch, span,
      fmt::format("cannot {} {} and {}", verb, describe(check_.program, a.type), describe(check_.program, b.type)),
      advice);
  return false;
}

bool Expressions::fits(const Typed& value, const Type& target) const {
  if (value.type == target) return true;
  if (value.type.size != target.size) return false;
  if (target.kind == Type::Kind::integer) return value.type.kind == Type::Kind::integer || value.whole;
  if (target.kind != Type::Kind::real || !value.type.numeric() || value.type.absolute != target.absolute) return false;
  return value.zero || value.type.dimension == target.dimension;
}

Typed Expressions::element(const Typed& vector, std::size_t i) {
  if (vector.type.size == 0) return vector;
  Typed one = vector;
  one.type.size = 0;
  one.node = vector.elements[i];
  one.elements.clear();
  return one;
}

std::optional<int> Expressions::common_size(const std::vector<Typed>& args, Span span) {
  int size = 0;
  for (const Typed& arg : args) {
    if (arg.type.size == 0) continue;
    if (size != 0 && size != arg.type.size) {
      check_.error(Code::type_mismatch, span,
                   fmt::format("a vector of {} and one of {} do not go together", size, arg.type.size));
      return std::nullopt;
    }
    size = arg.type.size;
  }
  return size;
}

std::vector<NodeId> Expressions::check_elements(const lang::Expr& e, const ExprScope& scope, const Type& target,
                                                const std::string& what) {
  Typed value = check(e, scope, target.choice);
  if (!value.valid() || !target.valid()) return {};
  const auto size = static_cast<std::size_t>(target.size);
  if (size > 0 && value.type.size == 0) {  // one value for all elements
    value.elements.assign(size, value.node);
    value.type.size = target.size;
  }
  if (fits(value, target)) return size > 0 ? value.elements : std::vector<NodeId>{value.node};
  const bool units = value.type.kind == Type::Kind::real && target.kind == Type::Kind::real;
  std::string advice = units ? angle_advice(value.type.dimension, target.dimension) : "";
  if (units && advice.empty() && value.type.dimension.none())
    advice = fmt::format("give it a unit, such as {}", target.absolute ? "degC" : si_text(target.dimension));
  if (units && value.type.absolute != target.absolute)
    advice = "20 degC is a temperature, 20 K a difference of temperatures";
  if (target.kind == Type::Kind::integer && value.type.kind == Type::Kind::real) advice = "round it: `round(x)`";
  if (value.type.size > 0 && target.size == 0)
    advice = "take one element, `x[1]`, or `sum`, `min`, `max`, `any`, `all` of it";
  check_.error(units ? Code::unit_mismatch : Code::type_mismatch, e.span,
               fmt::format("{} must be {}, but this is {}", what, describe(check_.program, target),
                           describe(check_.program, value.type)),
               advice);
  return {};
}

NodeId Expressions::check_as(const lang::Expr& e, const ExprScope& scope, const Type& target, const std::string& what) {
  Type single = target;
  single.size = 0;
  const std::vector<NodeId> nodes = check_elements(e, scope, single, what);
  return nodes.empty() ? kNone : nodes.front();
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

lang::ExprPtr simple_expression(lang::ExprKind kind, double value, const std::string& word, Span span) {
  auto e = std::make_unique<lang::Expr>();
  e->kind = kind;
  e->value = value;
  e->word = word;
  e->span = span;
  if (kind == lang::ExprKind::name) e->path = lang::Path(lang::Name{word, span});
  return e;
}

lang::ExprPtr nothing_of(const Program& program, const Type& type, Span span) {
  if (type.kind == Type::Kind::boolean) return simple_expression(lang::ExprKind::boolean, 0, "", span);
  if (type.kind == Type::Kind::choice)
    return simple_expression(lang::ExprKind::name, 0,
                             program.choices[static_cast<std::size_t>(type.choice)].labels.front(), span);
  if (type.absolute) return simple_expression(lang::ExprKind::number, 0, "degC", span);
  const bool plain = type.kind == Type::Kind::integer || type.dimension.none();
  return simple_expression(lang::ExprKind::number, 0, plain ? "" : si_text(type.dimension), span);
}

}  // namespace isodyne::check
