#include "isodyne/engine/code.h"

#include <algorithm>
#include <bit>
#include <set>

#include "isodyne/engine/plan.h"
#include "isodyne/program/tables.h"

namespace isodyne::engine {

using program::Node;
using program::NodeId;
using program::Op;
using program::VarId;

namespace {
// Until link(), a register number says what kind of register it is.
constexpr std::int32_t kConstantBase = 1 << 28;
constexpr std::int32_t kTemporaryBase = 1 << 29;
}  // namespace

void CodeMaker::forget() {
  known_ = kept_;
  next_temporary_ = kept_temporaries_;
}

void CodeMaker::keep() {
  kept_ = known_;
  kept_temporaries_ = next_temporary_;
}

void CodeMaker::reserve() {
  kept_temporaries_ = highest_;
}

void CodeMaker::restart() {
  uses_.clear();
  kept_.clear();
  renamed_.clear();
  kept_temporaries_ = highest_ = 0;
  forget();
}

std::int32_t CodeMaker::room(std::int32_t count) {
  const std::int32_t first = kTemporaryBase + next_temporary_;
  next_temporary_ += count;
  highest_ = std::max(highest_, next_temporary_);
  most_temporaries_ = std::max(most_temporaries_, highest_);
  return first;
}

std::int32_t CodeMaker::rename(VarId id) {
  return renamed_[id] = room(1);
}

std::int32_t CodeMaker::place_of(VarId id) const {
  const auto found = renamed_.find(id);
  return found == renamed_.end() ? id : found->second;
}

std::int32_t CodeMaker::constant(double value) {
  const auto [found, fresh] =
      constant_index_.try_emplace(std::bit_cast<std::uint64_t>(value), static_cast<std::int32_t>(constants_.size()));
  if (fresh) constants_.push_back(value);
  return kConstantBase + found->second;
}

std::int32_t CodeMaker::operand(NodeId node) const {
  return node == program::kNone ? 0 : known_.at(node);
}

namespace {

/// Place of + - * / among themselves, and of < <= > >=; -1 for others.
int arithmetic(Op op) {
  return op >= Op::add && op <= Op::div ? static_cast<int>(op) - static_cast<int>(Op::add) : -1;
}
int comparison_of(Op op) {
  return op >= Op::lt && op <= Op::ge ? static_cast<int>(op) - static_cast<int>(Op::lt) : -1;
}
Opcode action(Opcode first, int offset) {
  return static_cast<Opcode>(static_cast<int>(first) + offset);
}
bool is_leaf(Op op) {
  return op == Op::constant || op == Op::variable;
}

}  // namespace

void CodeMaker::expect(const std::vector<NodeId>& roots) {
  count_uses(
      program_, roots, [&](NodeId id) { return known_.contains(id); }, uses_);
}

/// Whether the operation at `child` may be done together with the one that needs it.
bool CodeMaker::joins(NodeId child, bool comparison) const {
  if (child == program::kNone || known_.contains(child)) return false;
  const Op op = program_.node(child).op;
  if ((comparison ? comparison_of(op) : arithmetic(op)) < 0) return false;
  const auto uses = uses_.find(child);
  return uses != uses_.end() && uses->second == 1;
}

/// An operation that is done together with the one below it, whose result it reads.
struct CodeMaker::Tail {
  NodeId below = program::kNone;  ///< kNone: there is none
  NodeId other = program::kNone;  ///< the other operand
  int form = 0;                   ///< + - * /, then - and / with the result below behind
};

/// With two to choose from, the operation on the left.
CodeMaker::Tail CodeMaker::tail_of(const Node& n) const {
  const int own = arithmetic(n.op);
  if (own < 0) return {};
  if (joins(n.a, false)) return {n.a, n.b, own};
  if (n.b == n.a || !joins(n.b, false)) return {};
  const bool turned = n.op == Op::sub || n.op == Op::div;  // sums and products round the same either way
  return {n.b, n.a, !turned ? own : n.op == Op::sub ? 4 : 5};
}

Instruction CodeMaker::joined_arithmetic(const Node& n, std::vector<NodeId>& operands) const {
  Instruction i;
  const int own = arithmetic(n.op);
  if (joins(n.a, false) && n.b != n.a && joins(n.b, false)) {
    const Node &a = program_.node(n.a), &b = program_.node(n.b);
    const Tail left = tail_of(a);
    if (left.below != program::kNone && (n.op == Op::add || n.op == Op::sub) && b.op == Op::mul) {
      const Node& inner = program_.node(left.below);
      i.action = action(Opcode::first_sum, (arithmetic(inner.op) * 6 + left.form) * 2 + (n.op == Op::sub ? 1 : 0));
      operands = {inner.a, inner.b, left.other, b.a, b.b};
      return i;
    }
    i.action = action(Opcode::first_both, (arithmetic(a.op) * 4 + own) * 4 + arithmetic(b.op));
    operands = {a.a, a.b, b.a, b.b};
    return i;
  }
  const Tail last = tail_of(n);
  const Node& below = program_.node(last.below);
  const Tail middle = tail_of(below);
  if (middle.below == program::kNone) {
    i.action = action(Opcode::first_pair, arithmetic(below.op) * 6 + last.form);
    operands = {below.a, below.b, last.other};
  } else {
    const Node& inner = program_.node(middle.below);
    i.action = action(Opcode::first_chain, (arithmetic(inner.op) * 6 + middle.form) * 6 + last.form);
    operands = {inner.a, inner.b, middle.other, last.other};
  }
  return i;
}

/// The instruction for a node, its registers still 0, and the nodes whose results it reads, in order.
Instruction CodeMaker::joined(const Node& n, std::vector<NodeId>& operands) const {
  if (tail_of(n).below != program::kNone) return joined_arithmetic(n, operands);
  Instruction i;
  if (n.op == Op::select && joins(n.a, true)) {
    const Node& inner = program_.node(n.a);
    i.action = action(Opcode::first_choice, comparison_of(inner.op));
    operands = {inner.a, inner.b, n.b, n.c};
    return i;
  }
  // Operations and the plain actions stand in the same order; constants and variables are copied.
  i.action = action(Opcode::copy, static_cast<int>(n.op) - static_cast<int>(Op::variable));
  for (const NodeId id : {n.a, n.b, n.c}) {
    if (id != program::kNone) operands.push_back(id);
  }
  return i;
}

std::int32_t CodeMaker::compute(NodeId root, Code& code) {
  if (root == program::kNone) return constant(0);
  // Depth first without recursion: a node is finished once its operands are.
  std::vector<NodeId> todo{root}, operands;
  while (!todo.empty()) {
    const NodeId id = todo.back();
    if (known_.contains(id)) {
      todo.pop_back();
      continue;
    }
    const Node& n = program_.node(id);
    if (is_leaf(n.op)) {
      known_[id] = n.op == Op::constant ? constant(n.value) : place_of(n.variable);
      todo.pop_back();
      continue;
    }
    operands.clear();
    Instruction i = joined(n, operands);
    bool ready = true;
    for (std::size_t k = operands.size(); k-- > 0;) {
      if (known_.contains(operands[k])) continue;
      todo.push_back(operands[k]);
      ready = false;
    }
    if (!ready) continue;
    todo.pop_back();
    std::int32_t* const places[] = {&i.a, &i.b, &i.c, &i.d, &i.e};
    for (std::size_t k = 0; k < operands.size(); ++k) *places[k] = operand(operands[k]);
    if (n.op >= Op::table1 && n.op <= Op::slope2y) i.c = n.unit;
    i.to = room(1);
    code.push_back(i);
    known_[id] = i.to;
  }
  return known_.at(root);
}

void CodeMaker::assign(program::VarId target, NodeId node, Code& code) {
  const std::size_t before = code.size();
  const std::int32_t from = compute(node, code);
  if (code.size() > before && code.back().to == from) {
    code.back().to = place_of(target);  // the last operation writes where it belongs
    known_.erase(node);                 // a tap may change the variable
  } else {
    Instruction copy;
    copy.to = place_of(target);
    copy.a = from;
    code.push_back(copy);
  }
}

namespace {

/// One stretch: by how many instructions one after the other each has to wait for. What overwrites a register stays
/// behind those that read it before, because instructions of one level keep their order.
void spread_stretch(Instruction* begin, std::size_t count) {
  std::unordered_map<std::int32_t, int> written, read;
  std::vector<std::pair<int, Instruction>> order(count);
  const auto level_of = [](const std::unordered_map<std::int32_t, int>& levels, std::int32_t reg) {
    const auto found = levels.find(reg);
    return found == levels.end() ? -1 : found->second;
  };
  for (std::size_t k = 0; k < count; ++k) {
    const Instruction& i = begin[k];
    int level = std::max({0, level_of(written, i.to), level_of(read, i.to)});
    for (const std::int32_t reg : {i.a, i.b, i.c, i.d, i.e}) level = std::max(level, level_of(written, reg) + 1);
    written[i.to] = level;
    for (const std::int32_t reg : {i.a, i.b, i.c, i.d, i.e}) read[reg] = std::max(level_of(read, reg), level);
    order[k] = {level, i};
  }
  std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  for (std::size_t k = 0; k < count; ++k) begin[k] = order[k].second;
}

}  // namespace

void spread(Code& code, std::size_t begin) {
  constexpr std::size_t kTogether = 64;  // more would take what belongs together out of the nearest cache
  for (std::size_t at = begin; at < code.size(); at += kTogether)
    spread_stretch(code.data() + at, std::min(kTogether, code.size() - at));
}

std::int32_t CodeMaker::linked(std::int32_t reg) const {
  if (reg >= kTemporaryBase) return variables_ + static_cast<std::int32_t>(constants_.size()) + (reg - kTemporaryBase);
  if (reg >= kConstantBase) return variables_ + (reg - kConstantBase);
  return reg;
}

void CodeMaker::link(Code& code) const {
  for (Instruction& i : code) {
    i.to = linked(i.to);
    i.a = linked(i.a);
    i.b = linked(i.b);
    i.c = linked(i.c);
    i.d = linked(i.d);
    i.e = linked(i.e);
  }
  if (!code.empty() && code.back().action != Opcode::end) code.emplace_back().action = Opcode::end;
  for (Instruction& i : code) place(i);
}

std::vector<double> CodeMaker::registers() const {
  std::vector<double> all(static_cast<std::size_t>(variables_ + most_temporaries_) + constants_.size(), 0.0);
  std::copy(constants_.begin(), constants_.end(), all.begin() + variables_);
  return all;
}

std::vector<iso_table> tables_of(const program::Plant& program) {
  std::vector<iso_table> tables;
  for (const program::LookupTable& t : program.tables) tables.push_back(program::plain(t));
  return tables;
}

// Every action jumps to the next by itself: processors predict these jumps better than one that all share.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wpedantic"

// What is done with a result x and another value y; plain operations and those with the result behind.
#define ISO_DO_add(x, y) ((x) + (y))
#define ISO_DO_sub(x, y) ((x) - (y))
#define ISO_DO_mul(x, y) ((x) * (y))
#define ISO_DO_div(x, y) ((x) / (y))
#define ISO_DO_from(x, y) ((y) - (x))
#define ISO_DO_into(x, y) ((y) / (x))
// The same lists several times: a macro does not expand within itself.
#define ISO_FOUR(NEXT, ...) NEXT(add, __VA_ARGS__) NEXT(sub, __VA_ARGS__) NEXT(mul, __VA_ARGS__) NEXT(div, __VA_ARGS__)
#define ISO_FOUR_2(NEXT, ...) \
  NEXT(add, __VA_ARGS__) NEXT(sub, __VA_ARGS__) NEXT(mul, __VA_ARGS__) NEXT(div, __VA_ARGS__)
#define ISO_FOUR_3(NEXT, ...) \
  NEXT(add, __VA_ARGS__) NEXT(sub, __VA_ARGS__) NEXT(mul, __VA_ARGS__) NEXT(div, __VA_ARGS__)
#define ISO_SIX_2(NEXT, ...) ISO_FOUR_2(NEXT, __VA_ARGS__) NEXT(from, __VA_ARGS__) NEXT(into, __VA_ARGS__)
#define ISO_SIX_3(NEXT, ...) ISO_FOUR_3(NEXT, __VA_ARGS__) NEXT(from, __VA_ARGS__) NEXT(into, __VA_ARGS__)

namespace {

/// Without instructions it gives the places of all actions, and does nothing else.
const void* const* execute(const Instruction* i, double* r, const iso_table* tables) {
#define ISO_PLACE(label) &&label,
  static const void* const places[] = {ISO_PLACE(do_copy)
#define OP(id, count, text) ISO_PLACE(do_##id)
#define LOOKUP(id, count, text) OP(id, count, text)
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
#define ISO_LABEL_PAIR(outer, inner) ISO_PLACE(do_pair_##inner##_##outer)
#define ISO_LABELS_PAIR(inner, none) ISO_SIX_2(ISO_LABEL_PAIR, inner)
                                           ISO_FOUR(ISO_LABELS_PAIR, )
#define ISO_LABEL_BOTH(last, outer, inner) ISO_PLACE(do_both_##inner##_##outer##_##last)
#define ISO_LABELS_BOTH(outer, inner) ISO_FOUR_3(ISO_LABEL_BOTH, outer, inner)
#define ISO_ALL_BOTH(inner, none) ISO_FOUR_2(ISO_LABELS_BOTH, inner)
                                               ISO_FOUR(ISO_ALL_BOTH, )
#define ISO_LABEL_CHAIN(last, outer, inner) ISO_PLACE(do_chain_##inner##_##outer##_##last)
#define ISO_LABELS_CHAIN(outer, inner) ISO_SIX_3(ISO_LABEL_CHAIN, outer, inner)
#define ISO_ALL_CHAIN(inner, none) ISO_SIX_2(ISO_LABELS_CHAIN, inner)
                                                   ISO_FOUR(ISO_ALL_CHAIN, )
#define ISO_LABELS_SUM(outer, inner) ISO_PLACE(do_sum_##inner##_##outer##_add) ISO_PLACE(do_sum_##inner##_##outer##_sub)
#define ISO_ALL_SUM(inner, none) ISO_SIX_2(ISO_LABELS_SUM, inner)
                                                       ISO_FOUR(ISO_ALL_SUM, ) ISO_PLACE(do_choice_lt)
                                                           ISO_PLACE(do_choice_le) ISO_PLACE(do_choice_gt)
                                                               ISO_PLACE(do_choice_ge) ISO_PLACE(do_end)};
  if (i == nullptr) return places;
#define ISO_GO goto* reinterpret_cast<void*>(i->action)
#define ISO_NEXT \
  ++i;           \
  ISO_GO
  ISO_GO;
do_copy:
  r[i->to] = r[i->a];
  ISO_NEXT;
  // Each action reads only its own operands: the number of them chooses the call.
#define ISO_OPERANDS_1 r[i->a], 0, 0
#define ISO_OPERANDS_2 r[i->a], r[i->b], 0
#define ISO_OPERANDS_3 r[i->a], r[i->b], r[i->c]
#define OP(id, count, text)                                          \
  do_##id : r[i->to] = program::apply(Op::id, ISO_OPERANDS_##count); \
  ISO_NEXT;
#define LOOKUP(id, count, text)                                                                  \
  do_##id : r[i->to] = program::look_up(Op::id, tables[i->c], r[i->a], count > 1 ? r[i->b] : 0); \
  ISO_NEXT;
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
#define ISO_PAIR(outer, inner)                                                                      \
  do_pair_##inner##_##outer : r[i->to] = ISO_DO_##outer(ISO_DO_##inner(r[i->a], r[i->b]), r[i->c]); \
  ISO_NEXT;
#define ISO_PAIRS(inner, none) ISO_SIX_2(ISO_PAIR, inner)
  ISO_FOUR(ISO_PAIRS, )
#define ISO_BOTH(last, outer, inner)                                                                  \
  do_both_##inner##_##outer##_##last                                                                  \
      : r[i->to] = ISO_DO_##outer(ISO_DO_##inner(r[i->a], r[i->b]), ISO_DO_##last(r[i->c], r[i->d])); \
  ISO_NEXT;
#define ISO_BOTHS(outer, inner) ISO_FOUR_3(ISO_BOTH, outer, inner)
#define ISO_BOTHS_2(inner, none) ISO_FOUR_2(ISO_BOTHS, inner)
  ISO_FOUR(ISO_BOTHS_2, )
#define ISO_CHAIN(last, outer, inner)                                                                 \
  do_chain_##inner##_##outer##_##last                                                                 \
      : r[i->to] = ISO_DO_##last(ISO_DO_##outer(ISO_DO_##inner(r[i->a], r[i->b]), r[i->c]), r[i->d]); \
  ISO_NEXT;
#define ISO_CHAINS(outer, inner) ISO_SIX_3(ISO_CHAIN, outer, inner)
#define ISO_CHAINS_2(inner, none) ISO_SIX_2(ISO_CHAINS, inner)
  ISO_FOUR(ISO_CHAINS_2, )
#define ISO_SUM(outer, inner)                                                                                         \
  do_sum_##inner##_##outer##_add : r[i->to] =                                                                         \
                                       ISO_DO_##outer(ISO_DO_##inner(r[i->a], r[i->b]), r[i->c]) + r[i->d] * r[i->e]; \
  ISO_NEXT;                                                                                                           \
  do_sum_##inner##_##outer##_sub : r[i->to] =                                                                         \
                                       ISO_DO_##outer(ISO_DO_##inner(r[i->a], r[i->b]), r[i->c]) - r[i->d] * r[i->e]; \
  ISO_NEXT;
#define ISO_SUMS(inner, none) ISO_SIX_2(ISO_SUM, inner)
  ISO_FOUR(ISO_SUMS, )
do_choice_lt:
  r[i->to] = r[r[i->a] < r[i->b] ? i->c : i->d];
  ISO_NEXT;
do_choice_le:
  r[i->to] = r[r[i->a] <= r[i->b] ? i->c : i->d];
  ISO_NEXT;
do_choice_gt:
  r[i->to] = r[r[i->a] > r[i->b] ? i->c : i->d];
  ISO_NEXT;
do_choice_ge:
  r[i->to] = r[r[i->a] >= r[i->b] ? i->c : i->d];
  ISO_NEXT;
do_end:
  return nullptr;
}

}  // namespace
#pragma GCC diagnostic pop

void run(const Instruction* begin, double* registers, const iso_table* tables) {
  execute(begin, registers, tables);
}

/// From the name of an action to the place of its code.
void CodeMaker::place(Instruction& i) {
  const void* const at = execute(nullptr, nullptr, nullptr)[static_cast<std::size_t>(i.action)];
  i.action = static_cast<Opcode>(reinterpret_cast<std::intptr_t>(at));
}

Evaluator::Evaluator(const program::Plant& program, const std::vector<NodeId>& roots) : tables_(tables_of(program)) {
  CodeMaker maker(program);
  std::set<program::VarId> reads;
  maker.expect(roots);
  for (const NodeId root : roots) {
    results_.push_back(maker.compute(root, code_));
    for (const program::VarId id : program.reads(root)) reads.insert(id);
  }
  maker.link(code_);
  for (std::int32_t& result : results_) result = maker.linked(result);
  reads_.assign(reads.begin(), reads.end());
  registers_ = maker.registers();
}

void Evaluator::load(const double* variables) {
  for (const program::VarId id : reads_) registers_[static_cast<std::size_t>(id)] = variables[id];
}

void Evaluator::compute() {
  run(code_, registers_.data(), tables_.data());
}

}  // namespace isodyne::engine
