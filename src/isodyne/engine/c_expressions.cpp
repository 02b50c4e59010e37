#include "isodyne/engine/c_expressions.h"

#include <cmath>

#include <fmt/format.h>

namespace isodyne::engine {

using program::kNone;
using program::Node;
using program::NodeId;
using program::Op;
using program::VarId;

namespace {

/// Words that cannot name a local: those of C, and what the generated code calls.
const std::set<std::string_view>& reserved() {
  static const std::set<std::string_view> words{
      "auto",     "break",       "case",     "char",       "const",      "continue", "default",     "do",
      "double",   "else",        "enum",     "extern",     "float",      "for",      "goto",        "if",
      "inline",   "int",         "long",     "register",   "restrict",   "return",   "short",       "signed",
      "sizeof",   "static",      "struct",   "switch",     "typedef",    "union",    "unsigned",    "void",
      "volatile", "while",       "v",        "m",          "x",          "dx",       "t",           "c",
      "due",      "h",           "k1",       "work",       "context",    "sin",      "cos",         "tan",
      "asin",     "acos",        "atan",     "atan2",      "exp",        "log",      "pow",         "sqrt",
      "fabs",     "floor",       "ceil",     "round",      "main",       "inputs",   "unknown",     "result",
      "i",        "n",           "linux",    "unix",       "solve",      "step",     "settle",      "equations",
      "events",   "transitions", "remember", "conditions", "trouble_of", "due_at",   "first_entry", "here",
      "any",      "stale",       "bad",      "rows",       "jacobian",   "df_dt",    "chosen",      "restarted",
      "change",   "acted",       "firing",   "count",      "e",          "k",        "is",          "rate",
      "to",       "before",      "trouble",  "first",      "plant",      "p",        "fires",       "turn",
      "now",      "mode",        "memset",   "memcpy",     "isfinite",   "value",    "state",       "slope",
      "NULL",     "INFINITY",    "NAN",      "sampled",    "held",       "scratch",  "low",         "high"};
  return words;
}

std::string plain_name(const std::string& name) {
  std::string c;
  for (const char ch : name) {
    const bool word = (ch >= 'a' && ch <= 'z') || (ch >= 'A' && ch <= 'Z') || (ch >= '0' && ch <= '9');
    if (ch == '\'') {
      c = "d_" + c;
    } else if (word) {
      c += ch;
    } else if (!c.empty() && c.back() != '_' && ch != ']') {
      c += '_';
    }
  }
  if (c.empty() || (c[0] >= '0' && c[0] <= '9') || c[0] == '_') c = "q" + c;
  const bool ours = c.starts_with("iso_") || c.starts_with("i_") || (c[0] == 't' && c.size() > 1 && c[1] <= '9');
  if (ours || reserved().contains(c)) c += "_";
  return c;
}

/// The identifier of an operation in ops.def.
const char* name_of(Op op) {
  switch (op) {
    case Op::constant:
    case Op::variable:
      break;
#define OP(id, count, word) \
  case Op::id:              \
    return #id;
#define LOOKUP(id, count, word) OP(id, count, word)
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
  }
  return "";
}

}  // namespace

CNames::CNames(const program::Plant& program) {
  std::set<std::string> taken;
  for (const program::Variable& v : program.variables) {
    const std::string first = plain_name(v.name);
    std::string name = first;
    for (int k = 2; !taken.insert(name).second; ++k) name = fmt::format("{}_{}", first, k);
    names_.push_back(std::move(name));
  }
}

std::string c_number(double value) {
  if (std::isnan(value)) return "NAN";
  if (std::isinf(value)) return value > 0 ? "INFINITY" : "-INFINITY";
  std::string text = fmt::format("{}", value);
  if (text.find_first_of(".e") == std::string::npos) text += ".0";
  return text;
}

std::string CBlock::Text::as_truth(int most) const {
  if (is_truth) return in(most);
  const Text compared{in(3) + " != 0", 5, true};
  return compared.in(most);
}

void CBlock::expect(const std::vector<NodeId>& roots) {
  count_uses(
      program_, roots, [&](NodeId id) { return known.contains(id); }, uses_);
}

void CBlock::forget() {
  locals_.clear();
  texts_.clear();
  folded_.clear();
  constants_.clear();
  uses_.clear();
}

std::string CBlock::read(VarId id) {
  const auto local = locals_.find(id);
  if (local != locals_.end()) return local->second;
  std::string from = source ? source(id) : std::string{};
  if (from.empty()) from = names_.place(id);
  line(fmt::format("const double {} = {};", names_.of(id), from));
  return locals_[id] = names_.of(id);
}

CBlock::Text CBlock::operand(NodeId id) {
  const Node& n = program_.node(id);
  if (n.op == Op::constant) return {c_number(n.value), std::signbit(n.value) ? 1 : 0, false};
  if (n.op == Op::variable) return {read(n.variable), 0, false};
  return texts_.at(id);
}

CBlock::Text CBlock::infix(const Node& n, const char* sign, int level, bool is_truth) {
  const Text a = operand(n.a).value_text(), b = operand(n.b).value_text();
  return {fmt::format("{} {} {}", a.in(level), sign, b.in(level - 1)), level, is_truth};
}

std::string CBlock::call(const std::string& function, const Node& n) {
  std::string text = function + "(" + operand(n.a).as_value();
  if (n.b != kNone) text += ", " + operand(n.b).as_value();
  if (n.c != kNone) text += ", " + operand(n.c).as_value();
  return text + ")";
}

/// Levels: 0 a thing or a call, 1 sign and cast, 2 * /, 3 + -, 5 comparison, 6 and, 7 or, 8 ?:
CBlock::Text CBlock::compose(const Node& n) {
  switch (n.op) {
    case Op::constant:
    case Op::variable:
      break;
    case Op::add:
      return infix(n, "+", 3, false);
    case Op::sub:
      return infix(n, "-", 3, false);
    case Op::mul:
      return infix(n, "*", 2, false);
    case Op::div:
      return infix(n, "/", 2, false);
    case Op::neg:
      return {"-" + operand(n.a).value_text().in(0), 1, false};
    case Op::lt:
      return infix(n, "<", 5, true);
    case Op::le:
      return infix(n, "<=", 5, true);
    case Op::gt:
      return infix(n, ">", 5, true);
    case Op::ge:
      return infix(n, ">=", 5, true);
    case Op::eq:
      return infix(n, "==", 5, true);
    case Op::ne:
      return infix(n, "!=", 5, true);
    case Op::land:
      return {operand(n.a).as_truth(5) + " && " + operand(n.b).as_truth(5), 6, true};
    case Op::lor:
      return {operand(n.a).as_truth(5) + " || " + operand(n.b).as_truth(5), 7, true};
    case Op::lnot:
      return {"!" + operand(n.a).as_truth(0), 1, true};
    case Op::select: {
      const Text yes = operand(n.b), no = operand(n.c);
      const bool both = yes.is_truth && no.is_truth;
      return {fmt::format("{} ? {} : {}", operand(n.a).as_truth(5), both ? yes.in(5) : yes.value_text().in(5),
                          both ? no.in(5) : no.value_text().in(5)),
              8, both};
    }
    default:
      break;
  }
  // A function: of C by its own name, or of numerics.h.
  const std::string name = name_of(n.op);
  if (n.op >= Op::table1 && n.op <= Op::slope2y) {
    std::string text = fmt::format("iso_{}(&table_{}, {}", name, n.unit, operand(n.a).as_value());
    if (n.b != kNone) text += ", " + operand(n.b).as_value();
    return {text + ")", 0, false};
  }
  if (n.op == Op::abs) return {call("fabs", n), 0, false};
  const bool ours = n.op == Op::normal || n.op == Op::uniform || n.op == Op::sign || n.op == Op::min ||
                    n.op == Op::max || n.op == Op::clamp || n.op == Op::mod;
  return {call((ours ? "iso_" : "") + name, n), 0, false};
}

void CBlock::keep(NodeId id, Text text) {
  constexpr std::size_t kLongest = 160;
  if (uses_[id] > 1 || text.c.size() > kLongest) {
    const std::string local = fmt::format("t{}", ++temporaries_);
    line(fmt::format("const {} {} = {};", text.is_truth ? "int" : "double", local, text.c));
    text = {local, 0, text.is_truth};
  }
  texts_[id] = std::move(text);
}

std::optional<double> CBlock::number(NodeId id) const {
  if (id == kNone) return std::nullopt;
  const Node& n = program_.node(id);
  if (n.op == Op::constant) return n.value;
  if (n.op == Op::variable) {
    const auto held = constants_.find(n.variable);
    return held == constants_.end() ? std::nullopt : std::optional(held->second);
  }
  const auto folded = folded_.find(id);
  return folded == folded_.end() ? std::nullopt : std::optional(folded->second);
}

/// An operation on constants alone.
bool CBlock::fold(NodeId id, const Node& n) {
  if (n.op >= Op::table1 && n.op <= Op::slope2y) return false;
  double operands[3] = {0, 0, 0};
  const NodeId children[3] = {n.a, n.b, n.c};
  for (std::size_t i = 0; i < 3; ++i) {
    if (children[i] == kNone) continue;
    const auto value = number(children[i]);
    if (!value) return false;
    operands[i] = *value;
  }
  const IsoFlushed flushed;  // as where it would be computed
  const double value = program::apply(n.op, operands[0], operands[1], operands[2]);
  folded_[id] = value;
  texts_[id] = {c_number(value), std::signbit(value) ? 1 : 0, false};
  return true;
}

CBlock::Text CBlock::text(NodeId root) {
  if (root == kNone) return {"0.0", 0, false};
  std::vector<NodeId> todo{root};
  while (!todo.empty()) {
    const NodeId id = todo.back();
    const Node& n = program_.node(id);
    if (n.op == Op::constant || n.op == Op::variable || texts_.contains(id)) {
      todo.pop_back();
      continue;
    }
    if (const auto given = known.find(id); given != known.end()) {
      texts_[id] = {given->second, 0, false};
      todo.pop_back();
      continue;
    }
    bool ready = true;
    for (const NodeId child : {n.c, n.b, n.a}) {
      if (child == kNone || texts_.contains(child)) continue;
      const Op op = program_.node(child).op;
      if (op == Op::constant || op == Op::variable) continue;
      todo.push_back(child);
      ready = false;
    }
    if (!ready) continue;
    todo.pop_back();
    if (!fold(id, n)) keep(id, compose(n));
  }
  return operand(root);
}

}  // namespace isodyne::engine
