#include "isodyne/engine/code.h"

#include <algorithm>
#include <bit>
#include <set>

#include "isodyne/engine/plan.h"
#include "isodyne/model/tables.h"

namespace isodyne::engine {

using model::Node;
using model::NodeId;
using model::Op;
using model::VarId;

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
  kept_temporaries_ = next_temporary_;
}

void CodeMaker::restart() {
  uses_.clear();
  kept_.clear();
  renamed_.clear();
  kept_temporaries_ = 0;
  forget();
}

std::int32_t CodeMaker::rename(VarId id) {
  const std::int32_t to = kTemporaryBase + next_temporary_++;
  most_temporaries_ = std::max(most_temporaries_, next_temporary_);
  renamed_[id] = to;
  return to;
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
  return node == model::kNone ? 0 : known_.at(node);
}

namespace {

/// Place of + - * / among themselves, and of < <= > >=; -1 for others.
int arithmetic(Op op) {
  return op >= Op::add && op <= Op::div ? static_cast<int>(op) - static_cast<int>(Op::add) : -1;
}
int comparison_of(Op op) {
  return op >= Op::lt && op <= Op::ge ? static_cast<int>(op) - static_cast<int>(Op::lt) : -1;
}
Action action(Action first, int offset) {
  return static_cast<Action>(static_cast<int>(first) + offset);
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
  if (child == model::kNone || known_.contains(child)) return false;
  const Op op = program_.node(child).op;
  if ((comparison ? comparison_of(op) : arithmetic(op)) < 0) return false;
  const auto uses = uses_.find(child);
  return uses != uses_.end() && uses->second == 1;
}

/// The instruction for a node, its registers still 0, and the nodes whose results it reads, in order.
Instruction CodeMaker::joined(const Node& n, std::vector<NodeId>& operands) const {
  const auto add = [&](std::initializer_list<NodeId> some) {
    for (const NodeId id : some) {
      if (id != model::kNone) operands.push_back(id);
    }
  };
  Instruction i;
  const int own = arithmetic(n.op);
  const bool left = own >= 0 && joins(n.a, false), right = own >= 0 && n.b != n.a && joins(n.b, false);
  if (left && right) {
    const Node &a = program_.node(n.a), &b = program_.node(n.b);
    i.action = action(Action::first_both, (arithmetic(a.op) * 4 + own) * 4 + arithmetic(b.op));
    add({a.a, a.b, b.a, b.b});
  } else if (left || right) {
    const Node& inner = program_.node(left ? n.a : n.b);
    i.action = action(left ? Action::first_left : Action::first_right, arithmetic(inner.op) * 4 + own);
    add({inner.a, inner.b, left ? n.b : n.a});
  } else if (n.op == Op::select && joins(n.a, true)) {
    const Node& inner = program_.node(n.a);
    i.action = action(Action::first_choice, comparison_of(inner.op));
    add({inner.a, inner.b, n.b, n.c});
  } else {
    // Operations and the plain actions stand in the same order; constants and variables are copied.
    i.action = action(Action::copy, static_cast<int>(n.op) - static_cast<int>(Op::variable));
    add({n.a, n.b, n.c});
  }
  return i;
}

std::int32_t CodeMaker::compute(NodeId root, Code& code) {
  if (root == model::kNone) return constant(0);
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
    std::int32_t* const places[] = {&i.a, &i.b, &i.c, &i.d};
    for (std::size_t k = 0; k < operands.size(); ++k) *places[k] = operand(operands[k]);
    if (n.op >= Op::table1 && n.op <= Op::slope2y) i.c = n.unit;
    i.to = kTemporaryBase + next_temporary_++;
    most_temporaries_ = std::max(most_temporaries_, next_temporary_);
    code.push_back(i);
    known_[id] = i.to;
  }
  return known_.at(root);
}

void CodeMaker::assign(model::VarId target, NodeId node, Code& code) {
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
  }
  if (code.empty() || code.back().action == Action::end) return;
  code.emplace_back().action = Action::end;
}

std::vector<double> CodeMaker::registers() const {
  std::vector<double> all(static_cast<std::size_t>(variables_ + most_temporaries_) + constants_.size(), 0.0);
  std::copy(constants_.begin(), constants_.end(), all.begin() + variables_);
  return all;
}

std::vector<iso_table> tables_of(const model::Program& program) {
  std::vector<iso_table> tables;
  for (const model::Table& t : program.tables) tables.push_back(model::plain(t));
  return tables;
}

// Every action jumps to the next by itself: processors predict these jumps better than one that all share.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wpedantic"

#define ISO_ARITHMETIC(NEXT, ...) \
  NEXT(add, +, __VA_ARGS__) NEXT(sub, -, __VA_ARGS__) NEXT(mul, *, __VA_ARGS__) NEXT(div, /, __VA_ARGS__)
#define ISO_ARITHMETIC_2(NEXT, ...) \
  NEXT(add, +, __VA_ARGS__) NEXT(sub, -, __VA_ARGS__) NEXT(mul, *, __VA_ARGS__) NEXT(div, /, __VA_ARGS__)
#define ISO_ARITHMETIC_3(NEXT, ...) \
  NEXT(add, +, __VA_ARGS__) NEXT(sub, -, __VA_ARGS__) NEXT(mul, *, __VA_ARGS__) NEXT(div, /, __VA_ARGS__)

void run(const Instruction* i, double* r, const iso_table* tables) {
  static const void* const labels[] = {
      &&do_copy,
#define OP(id, count, text) &&do_##id,
#define LOOKUP(id, count, text) OP(id, count, text)
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/model/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
#define ISO_LABEL(outer, sign2, inner, sign1, kind) &&do_##kind##_##inner##_##outer,
#define ISO_ROW(inner, sign1, kind) ISO_ARITHMETIC_2(ISO_LABEL, inner, sign1, kind)
      ISO_ARITHMETIC(ISO_ROW, left) ISO_ARITHMETIC(ISO_ROW, right)
#define ISO_LABEL_3(last, sign3, outer, sign2, inner, sign1) &&do_both_##inner##_##outer##_##last,
#define ISO_ROW_3(outer, sign2, inner, sign1) ISO_ARITHMETIC_3(ISO_LABEL_3, outer, sign2, inner, sign1)
#define ISO_BLOCK_3(inner, sign1, none) ISO_ARITHMETIC_2(ISO_ROW_3, inner, sign1)
              ISO_ARITHMETIC(ISO_BLOCK_3, ) &&
          do_choice_lt,
      &&do_choice_le,
      &&do_choice_gt,
      &&do_choice_ge,
      &&do_end,
  };
#define ISO_GO goto* labels[static_cast<int>(i->action)]
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
#define OP(id, count, text)                                        \
  do_##id : r[i->to] = model::apply(Op::id, ISO_OPERANDS_##count); \
  ISO_NEXT;
#define LOOKUP(id, count, text)                                                                \
  do_##id : r[i->to] = model::look_up(Op::id, tables[i->c], r[i->a], count > 1 ? r[i->b] : 0); \
  ISO_NEXT;
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/model/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
#define ISO_LEFT(outer, sign2, inner, sign1)                                    \
  do_left_##inner##_##outer : r[i->to] = (r[i->a] sign1 r[i->b])sign2 r[i->c];  \
  ISO_NEXT;                                                                     \
  do_right_##inner##_##outer : r[i->to] = r[i->c] sign2(r[i->a] sign1 r[i->b]); \
  ISO_NEXT;
#define ISO_LEFT_ROW(inner, sign1, none) ISO_ARITHMETIC_2(ISO_LEFT, inner, sign1)
  ISO_ARITHMETIC(ISO_LEFT_ROW, )
#define ISO_BOTH(last, sign3, outer, sign2, inner, sign1)                                              \
  do_both_##inner##_##outer##_##last : r[i->to] = (r[i->a] sign1 r[i->b])sign2(r[i->c] sign3 r[i->d]); \
  ISO_NEXT;
#define ISO_BOTH_ROW(outer, sign2, inner, sign1) ISO_ARITHMETIC_3(ISO_BOTH, outer, sign2, inner, sign1)
#define ISO_BOTH_BLOCK(inner, sign1, none) ISO_ARITHMETIC_2(ISO_BOTH_ROW, inner, sign1)
  ISO_ARITHMETIC(ISO_BOTH_BLOCK, )
do_choice_lt:
  r[i->to] = r[i->a] < r[i->b] ? r[i->c] : r[i->d];
  ISO_NEXT;
do_choice_le:
  r[i->to] = r[i->a] <= r[i->b] ? r[i->c] : r[i->d];
  ISO_NEXT;
do_choice_gt:
  r[i->to] = r[i->a] > r[i->b] ? r[i->c] : r[i->d];
  ISO_NEXT;
do_choice_ge:
  r[i->to] = r[i->a] >= r[i->b] ? r[i->c] : r[i->d];
  ISO_NEXT;
do_end:
  return;
}
#pragma GCC diagnostic pop

Evaluator::Evaluator(const model::Program& program, const std::vector<NodeId>& roots) : tables_(tables_of(program)) {
  CodeMaker maker(program);
  std::set<model::VarId> reads;
  maker.expect(roots);
  for (const NodeId root : roots) {
    results_.push_back(maker.compute(root, code_));
    for (const model::VarId id : program.reads(root)) reads.insert(id);
  }
  maker.link(code_);
  for (std::int32_t& result : results_) result = maker.linked(result);
  reads_.assign(reads.begin(), reads.end());
  registers_ = maker.registers();
}

void Evaluator::evaluate(const double* variables) {
  for (const model::VarId id : reads_) registers_[static_cast<std::size_t>(id)] = variables[id];
  run(code_, registers_.data(), tables_.data());
}

}  // namespace isodyne::engine
