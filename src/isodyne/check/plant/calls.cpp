// Calls: the functions of the language, tables, delays, randomness, and functions of the engineer's own.

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "isodyne/check/plant/expressions.h"
#include "isodyne/check/plant/gates.h"
#include "isodyne/core/random.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

struct Builtin {
  const char* word;
  Op op;
  int arity;
  const char* rule;
};

constexpr Builtin kBuiltins[] = {
#define OP(id, count, text)
#define LOOKUP(id, count, text)
#define FUNCTION(id, count, word, rule) {word, Op::id, count, #rule},
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
};

/// Functions that are more than one operation on single values: word, fewest and most arguments.
struct Special {
  const char* word;
  std::size_t least, most;
};
constexpr std::array<Special, 12> kSpecial = {{{"sum", 1, 1},
                                               {"any", 1, 1},
                                               {"all", 1, 1},
                                               {"mean", 1, 1},
                                               {"dot", 2, 2},
                                               {"pick", 2, 2},
                                               {"delay", 2, 3},
                                               {"normal", 0, 0},
                                               {"uniform", 0, 0},
                                               {"kelvin", 1, 1},
                                               {"from_kelvin", 1, 1},
                                               {"norm", 1, 1}}};

const Special* special(const std::string& word) {
  const auto found = std::find_if(kSpecial.begin(), kSpecial.end(), [&](const Special& s) { return word == s.word; });
  return found == kSpecial.end() ? nullptr : &*found;
}

}  // namespace

bool makes_one(const lang::Expr& call) {
  if (call.word == "min" || call.word == "max") return call.args.size() == 1;
  return special(call.word) != nullptr && call.word != "delay" && call.word != "kelvin" && call.word != "from_kelvin";
}

bool is_function_word(const std::string& word) {
  return special(word) != nullptr ||
         std::any_of(std::begin(kBuiltins), std::end(kBuiltins), [&](const Builtin& b) { return word == b.word; });
}

std::vector<std::string> function_words() {
  std::vector<std::string> words;
  for (const Builtin& b : kBuiltins) words.emplace_back(b.word);
  for (const Special& s : kSpecial) words.emplace_back(s.word);
  std::sort(words.begin(), words.end());
  return words;
}

namespace {
/// What others call otherwise, or have as a function: a name that is merely near would compute something else.
std::string written_otherwise(const std::string& word) {
  static const std::pair<const char*, const char*> kOthers[] = {
      {"log10", "write `log(x) / log(10)`; `log` is the natural logarithm"},
      {"log2", "write `log(x) / log(2)`; `log` is the natural logarithm"},
      {"ln", "the natural logarithm is `log`"},
      {"tanh", "write `1 - 2 / (exp(2 * x) + 1)`"},
      {"sinh", "write `(exp(x) - exp(-x)) / 2`"},
      {"cosh", "write `(exp(x) + exp(-x)) / 2`"},
      {"pow", "write `x ^ y`"},
      {"fmod", "the remainder is `mod`"},
      {"fabs", "the absolute value is `abs`"},
      {"arctan", "the function is `atan`"},
      {"arcsin", "the function is `asin`"},
      {"arccos", "the function is `acos`"},
      {"ceiling", "the function is `ceil`"}};
  for (const auto& [name, advice] : kOthers) {
    if (word == name) return advice;
  }
  return "";
}
}  // namespace

namespace {
std::span<const lang::TableDecl> tables_of(const ExprScope& scope) {
  if (scope.instance == nullptr || scope.instance->decl == nullptr) return {};
  return scope.instance->decl->tables;
}
}  // namespace

/// Those that a part was given go before those of the text.
const lang::TableDecl* Expressions::table_called(const std::string& word, const ExprScope& scope, bool& found) const {
  found = true;
  for (const lang::TableDecl& own : tables_of(scope)) {
    if (own.name.text != word) continue;
    const lang::TableDecl* const given = scope.instance->tables.at(word);
    return given == nullptr && check_.alone ? &own : given;
  }
  const auto known = check_.table_decls.find(word);
  found = known != check_.table_decls.end();
  return found ? known->second : nullptr;
}

Typed Expressions::call(const lang::Expr& e, const ExprScope& scope) {
  std::vector<Typed> args;
  bool valid = true;
  for (const lang::ExprPtr& arg : e.args) {
    args.push_back(check(*arg, scope));
    valid = valid && args.back().valid();
  }
  const Builtin* found = nullptr;
  for (const Builtin& b : kBuiltins) {
    if (e.word == b.word) found = &b;
  }
  const Special* other = special(e.word);
  const auto user = check_.functions.find(e.word);
  bool is_table = false;
  const lang::TableDecl* const table_decl = table_called(e.word, scope, is_table);
  if (found == nullptr && other == nullptr && user == check_.functions.end() && !is_table) {
    std::vector<std::string> known = function_words();
    for (const auto& [name, f] : check_.functions) known.push_back(name);
    for (const auto& [name, t] : check_.table_decls) known.push_back(name);
    for (const lang::TableDecl& t : tables_of(scope)) known.push_back(t.name.text);
    const auto meant = did_you_mean(e.word, known);
    const std::string other_words = written_otherwise(e.word);
    check_.error(Code::unknown_name, e.path.span, fmt::format("there is no function called `{}`", e.word),
                 !other_words.empty() ? other_words : meant.value_or(""));
    return {};
  }
  if (is_table && table_decl == nullptr) return {};  // it was given none
  const bool many = found != nullptr && (found->op == Op::min || found->op == Op::max);
  const std::size_t least = found != nullptr                 ? static_cast<std::size_t>(many ? 1 : found->arity)
                            : other != nullptr               ? other->least
                            : user != check_.functions.end() ? user->second->params.size()
                                                             : table_decl->params.size();
  const std::size_t most = many ? 1000 : other != nullptr ? other->most : least;
  if (args.size() < least || args.size() > most) {
    check_.error(Code::wrong_arguments, e.span,
                 fmt::format("`{}` takes {}{}, not {}", e.word, many ? "at least " : "", counted(least, "argument"),
                             args.size()));
    return {};
  }
  if (!valid) return {};
  if (user != check_.functions.end()) return expand(e, *user->second, std::move(args));
  if (is_table) return table(e, *table_decl, std::move(args));
  if (found != nullptr) {
    if (many && args.size() == 1) return reduce(e, std::move(args));
    return elementwise(args, e.span,
                       [&](std::vector<Typed> a) { return builtin(e, found->op, found->rule, std::move(a)); });
  }
  if (e.word == "dot") return dot(e, std::move(args));
  if (e.word == "pick") return pick(e, std::move(args));
  if (e.word == "delay") return delayed(e, scope, std::move(args));
  if (e.word == "normal" || e.word == "uniform") return random(e, scope);
  if (e.word == "kelvin" || e.word == "from_kelvin")
    return elementwise(args, e.span, [&](const std::vector<Typed>& a) { return temperature(e, a[0]); });
  return reduce(e, std::move(args));
}

// ---- vectors --------------------------------------------------------------------------------------------

/// One value out of the elements of a vector: sum, mean, norm, min, max, any, all.
Typed Expressions::reduce(const lang::Expr& e, std::vector<Typed> args) {
  const Typed& v = args[0];
  if (v.type.size == 0) {
    check_.error(
        Code::type_mismatch, e.args[0]->span,
        fmt::format("`{}` of one argument takes a vector, but this is {}", e.word, describe(check_.program, v.type)));
    return {};
  }
  const bool logical = e.word == "any" || e.word == "all";
  if (logical != (v.type.kind == Type::Kind::boolean) || (!logical && !v.type.numeric())) {
    check_.error(Code::type_mismatch, e.args[0]->span,
                 fmt::format("`{}` takes {}, but this is {}", e.word, logical ? "truth values" : "numbers",
                             describe(check_.program, v.type)));
    return {};
  }
  const bool extreme = e.word == "min" || e.word == "max";
  if (!extreme && !need_difference(v, e.args[0]->span)) return {};
  const Op op = e.word == "any"   ? Op::lor
                : e.word == "all" ? Op::land
                : e.word == "min" ? Op::min
                : e.word == "max" ? Op::max
                                  : Op::add;
  Typed result = element(v, 0);
  result.zero = result.whole = false;
  if (e.word == "norm") return dot(e, {v, v});
  for (std::size_t i = 1; i < v.elements.size(); ++i) result.node = node(op, result.node, v.elements[i]);
  if (e.word == "mean") {
    result.node = node(Op::div, result.node, constant(static_cast<double>(v.elements.size())));
    result.type.kind = Type::Kind::real;
  }
  return result;
}

/// Sum of products; of a vector with itself under a root, for `norm`.
Typed Expressions::dot(const lang::Expr& e, std::vector<Typed> args) {
  const bool vectors = args[0].type.size > 0 && args[0].type.size == args[1].type.size;
  if (!vectors) {
    check_.error(Code::type_mismatch, e.span, fmt::format("`{}` takes two vectors of the same size", e.word));
    return {};
  }
  for (const Typed& a : args) {
    if (!need_numeric(a, e.span, fmt::format("in `{}`", e.word)) || !need_difference(a, e.span)) return {};
  }
  const auto dimension = multiply(args[0].type.dimension, args[1].type.dimension);
  if (!dimension) return {};
  NodeId total = kNone;
  for (std::size_t i = 0; i < args[0].elements.size(); ++i) {
    const NodeId product = node(Op::mul, args[0].elements[i], args[1].elements[i]);
    total = total == kNone ? product : node(Op::add, total, product);
  }
  if (e.word == "dot") return real(total, *dimension);
  Typed result = element(args[0], 0);
  result.type.kind = Type::Kind::real;
  result.node = node(Op::sqrt, total);
  result.zero = result.whole = false;
  return result;
}

/// The k-th element; beyond the ends the nearest one.
Typed Expressions::pick(const lang::Expr& e, std::vector<Typed> args) {
  const Typed &v = args[0], &k = args[1];
  if (v.type.size == 0 || !(k.type.kind == Type::Kind::integer || k.whole) || k.type.size > 0) {
    check_.error(Code::type_mismatch, e.span, "`pick` takes a vector and the number of an element (an int)");
    return {};
  }
  Typed result = element(v, v.elements.size() - 1);
  result.zero = result.whole = false;
  for (std::size_t i = v.elements.size() - 1; i-- > 0;) {
    const NodeId here = node(Op::le, k.node, constant(static_cast<double>(i + 1)));
    result.node = node(Op::select, here, v.elements[i], result.node);
  }
  return result;
}

// ---- what is more than arithmetic -------------------------------------------------------------------------

/// Inside, absolute temperatures are kelvins already: only the type changes.
Typed Expressions::temperature(const lang::Expr& e, const Typed& arg) {
  const Unit kelvin = *parse_unit("K");
  const bool to_kelvin = e.word == "kelvin";
  if (arg.type.kind != Type::Kind::real || arg.type.dimension != kelvin.dimension || arg.type.absolute != to_kelvin) {
    check_.error(Code::unit_mismatch, e.args[0]->span,
                 fmt::format("`{}` takes {}, but this is {}", e.word,
                             to_kelvin ? "an absolute temperature, such as one in degC" : "kelvins above absolute zero",
                             describe(check_.program, arg.type)));
    return {};
  }
  Typed result = arg;
  result.type.absolute = !to_kelvin;
  result.shown = to_kelvin ? kelvin : *parse_unit("degC");
  return result;
}

Typed Expressions::random(const lang::Expr& e, const ExprScope& scope) {
  if (!sampled_ || scope.instance == nullptr || scope.arguments != nullptr) {
    check_.error(Code::wrong_kind, e.span,
                 fmt::format("`{}()` is drawn at instants, so it stands in `every` or `when` only", e.word),
                 "let a memory hold it: `every 10 ms { hiss := 2 mV * normal() }`");
    return {};
  }
  const int number = check_.random_users[scope.instance->prefix]++;
  const double key = random_key(fnv1a(fmt::format("{}#{}", scope.instance->prefix, number)));
  const Op op = e.word == "normal" ? Op::normal : Op::uniform;
  const NodeId user = constant(key), seed = variable(kSeed), now = variable(kTime);
  return real(node(op, user, seed, now), {});
}

Typed Expressions::delayed(const lang::Expr& e, const ExprScope& scope, std::vector<Typed> args) {
  const Dimension second = parse_unit("s")->dimension;
  for (std::size_t i = 1; i < args.size(); ++i) {
    if (args[i].type.kind == Type::Kind::real && args[i].type.dimension == second && args[i].type.size == 0) continue;
    check_.error(Code::unit_mismatch, e.args[i]->span,
                 fmt::format("the lag of `delay` is a time, but this is {}", describe(check_.program, args[i].type)));
    return {};
  }
  if (scope.arguments != nullptr) {
    check_.error(Code::wrong_kind, e.span, "a function has no memory, so `delay` cannot stand in one",
                 "write it where the function is called, or make a model");
    return {};
  }
  const lang::Expr& bound = *e.args.back();
  const auto seconds = fold(check_.program, args.back().node, [&](VarId id) -> std::optional<double> {
    if (check_.program.variable(id).role != Role::fixed_param) return std::nullopt;
    check_.decided.insert(id);
    return check_.first_value(id);
  });
  const auto longest = seconds ? time_from_seconds(*seconds) : std::nullopt;
  if (!longest || longest->count() <= 0) {
    check_.error(Code::not_constant, bound.span,
                 "the longest lag of `delay` must be known before the run, and above 0 s",
                 "use numbers and `fixed param`s; a lag that changes is bounded: `delay(x, lag, 2 s)`");
    return {};
  }
  return elementwise({args[0]}, e.span, [&](const std::vector<Typed>& a) {
    const std::int32_t group = scope.instance == nullptr ? 0 : scope.instance->group;
    return delayed_element(e, a[0], args[1].node, *longest, group);
  });
}

Typed Expressions::delayed_element(const lang::Expr& e, const Typed& value, NodeId lag, Time longest,
                                   std::int32_t group) {
  Delay d;
  d.out =
      check_.define_hidden(fmt::format("delay {}", check_.program.delays.size() + 1), value.type, value.shown, group);
  d.input = value.node;
  d.lag = lag;
  d.longest = longest;
  if (value.type.kind == Type::Kind::boolean && gate_valued(check_.program, value.node)) {
    check_.program.variables[static_cast<std::size_t>(d.out)].gate = true;
  }
  d.held = value.type.kind != Type::Kind::real;
  d.span = e.span;
  check_.program.delays.push_back(d);
  Typed result = value;
  result.node = variable(d.out);
  result.zero = result.whole = false;
  return result;
}

Typed Expressions::table(const lang::Expr& e, const lang::TableDecl& t, std::vector<Typed> args) {
  const auto index = check_.tables.find(t.name.text);
  Unit unit;
  const Type result = check_.type_of(t.result, unit);
  if (index == check_.tables.end() || !result.valid()) return {};  // reported with the table
  for (std::size_t i = 0; i < args.size(); ++i) {
    Unit ignored;
    Type wanted = check_.type_of(t.params[i].type, ignored);
    if (!wanted.valid()) return {};
    wanted.size = args[i].type.size;
    if (fits(args[i], wanted)) continue;
    check_.error(Code::unit_mismatch, e.args[i]->span,
                 fmt::format("`{}` of table `{}` is {}, but this is {}", t.params[i].name.text, t.name.text,
                             describe(check_.program, wanted), describe(check_.program, args[i].type)));
    return {};
  }
  return elementwise(args, e.span, [&](const std::vector<Typed>& a) {
    Typed value;
    value.type = result;
    value.shown = unit;
    value.node = a.size() == 1 ? look_up(Op::table1, index->second, a[0].node)
                               : look_up(Op::table2, index->second, a[0].node, a[1].node);
    return value;
  });
}

// ---- operations by name -------------------------------------------------------------------------------------

bool Expressions::need_plain(const lang::Expr& e, const std::vector<Typed>& args, bool angle_too) {
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
}

/// min, max, clamp, abs, mod: all arguments and the result have one unit.
Typed Expressions::same_unit(const lang::Expr& e, Op op, std::vector<Typed> args) {
  const bool ordering = op == Op::min || op == Op::max || op == Op::clamp;
  if (!ordering && !need_difference(args[0], e.args[0]->span)) return {};
  Typed t = args[0];
  for (std::size_t i = 1; i < args.size(); ++i) {
    if (!agree(t, args[i], e.span, "mix")) return {};
    if (t.zero) t.shown = args[i].shown;
    t.zero = t.zero && args[i].zero;
    t.whole = t.whole && args[i].whole;
    if (op != Op::clamp) t.node = node(op, t.node, args[i].node);
  }
  if (op == Op::clamp) t.node = node(op, args[0].node, args[1].node, args[2].node);
  if (op == Op::abs) t.node = node(op, args[0].node);
  t.zero = t.whole = false;
  return t;
}

Typed Expressions::builtin(const lang::Expr& e, Op op, std::string_view rule, std::vector<Typed> args) {
  for (std::size_t i = 0; i < args.size(); ++i) {
    if (!need_numeric(args[i], e.args[i]->span, fmt::format("in `{}`", e.word))) return {};
  }
  if (rule == "same") return same_unit(e, op, std::move(args));
  for (std::size_t i = 0; i < args.size(); ++i) {
    if (!need_difference(args[i], e.args[i]->span)) return {};
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
  const Dimension radian = parse_unit("rad")->dimension;
  if (rule == "angle") return need_plain(e, args, true) ? real(node(op, args[0].node), {}) : Typed{};
  if (rule == "arc") return need_plain(e, args, false) ? real(node(op, args[0].node), radian) : Typed{};
  if (rule == "arc2") {
    if (!agree(args[0], args[1], e.span, "mix")) return {};
    return real(node(op, args[0].node, args[1].node), radian);
  }
  if (!need_plain(e, args, false)) return {};
  Typed result = real(node(op, args[0].node), {});
  const bool rounds = op == Op::floor || op == Op::ceil || op == Op::round;
  if (rounds) result.type = {Type::Kind::integer, {}, kNone};
  return result;
}

// ---- functions of the engineer's own ------------------------------------------------------------------------

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
  std::vector<Type> types;
  std::vector<Unit> units(args.size());
  bool single = true;  // every argument that is a vector meets one that is none: element by element
  for (std::size_t i = 0; i < args.size(); ++i) {
    types.push_back(check_.type_of(f.params[i].type, units[i]));
    if (!types[i].valid()) return {};
    single = single && types[i].size == 0;
  }
  Unit unit;
  const Type result = check_.type_of(f.result, unit);
  if (!result.valid()) return {};
  const auto once = [&](const std::vector<Typed>& given) -> Typed {
    if (++expansions_ > kMostCalls) {
      if (expansions_ == kMostCalls + 1) {
        check_.error(Code::too_large, e.span,
                     fmt::format("the calls of this expression expand to more than {} calls", kMostCalls),
                     "name intermediate results with `let`");
      }
      return {};
    }
    std::map<std::string, Typed> bound;
    for (std::size_t i = 0; i < given.size(); ++i) {
      if (!fits(given[i], types[i])) {
        check_.error(Code::unit_mismatch, e.args[i]->span,
                     fmt::format("`{}` of `{}` is {}, but this is {}", f.params[i].name.text, f.name.text,
                                 describe(check_.program, types[i]), describe(check_.program, given[i].type)));
        return {};
      }
      bound[f.params[i].name.text] = {given[i].node, types[i], units[i], false, false, given[i].elements};
    }
    calls_.push_back(&f);
    const std::vector<NodeId> body =
        check_elements(*f.body, {nullptr, &bound, nullptr}, result, fmt::format("the value of `{}`", f.name.text));
    calls_.pop_back();
    if (body.empty()) return {};
    if (result.size == 0) return {body.front(), result, unit, false, false, {}};
    return {kNone, result, unit, false, false, body};
  };
  return single && result.size == 0 ? elementwise(args, e.span, once) : once(args);
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
    const NodeId one = constant(1);
    bound[param.name.text] = {one,   type,  unit,
                              false, false, std::vector<NodeId>(static_cast<std::size_t>(std::max(0, type.size)), one)};
  }
  if (is_function_word(f.name.text)) {
    check_.error(Code::duplicate, f.name.span, fmt::format("`{}` is a function of the language", f.name.text),
                 "choose another name");
  }
  Unit unit;
  const Type result = check_.type_of(f.result, unit);
  if (!valid || !result.valid()) return;
  expansions_ = 0;
  calls_.push_back(&f);
  check_elements(*f.body, {nullptr, &bound, nullptr}, result, fmt::format("the value of `{}`", f.name.text));
  calls_.pop_back();
}

}  // namespace isodyne::check
