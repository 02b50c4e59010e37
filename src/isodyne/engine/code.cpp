#include "isodyne/engine/code.h"

#include <algorithm>
#include <bit>
#include <set>

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

std::int32_t CodeMaker::compute(NodeId root, Code& code) {
  if (root == model::kNone) return constant(0);
  // Depth first without recursion: a node is finished once its operands are.
  std::vector<NodeId> todo{root};
  while (!todo.empty()) {
    const NodeId id = todo.back();
    if (known_.contains(id)) {
      todo.pop_back();
      continue;
    }
    const Node& n = program_.node(id);
    if (n.op == Op::constant || n.op == Op::variable) {
      known_[id] = n.op == Op::constant ? constant(n.value) : place_of(n.variable);
      todo.pop_back();
      continue;
    }
    bool ready = true;
    for (const NodeId child : {n.c, n.b, n.a}) {
      if (child == model::kNone || known_.contains(child)) continue;
      todo.push_back(child);
      ready = false;
    }
    if (!ready) continue;
    todo.pop_back();
    const std::int32_t to = kTemporaryBase + next_temporary_++;
    most_temporaries_ = std::max(most_temporaries_, next_temporary_);
    code.push_back({n.op, to, operand(n.a), operand(n.b), operand(n.c), std::max(0, n.unit)});
    known_[id] = to;
  }
  return known_.at(root);
}

void CodeMaker::assign(model::VarId target, NodeId node, Code& code) {
  const std::size_t before = code.size();
  const std::int32_t from = compute(node, code);
  if (code.size() > before && code.back().to == from) {
    code.back().to = place_of(target);  // the last operation writes where it belongs
    known_.erase(node);
  } else {
    code.push_back({Op::variable, place_of(target), from, 0, 0, 0});
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
  }
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

void run(const Instruction* begin, const Instruction* end, double* r, const iso_table* tables) {
  for (const Instruction* i = begin; i != end; ++i) {
    // Each case reads only its own operands: the number of them chooses the call.
    switch (i->op) {
      case Op::constant:
      case Op::variable:
        r[i->to] = r[i->a];
        break;
#define ISODYNE_OPERANDS_1 r[i->a], 0, 0
#define ISODYNE_OPERANDS_2 r[i->a], r[i->b], 0
#define ISODYNE_OPERANDS_3 r[i->a], r[i->b], r[i->c]
#define OP(id, count, text)                                    \
  case Op::id:                                                 \
    r[i->to] = model::apply(Op::id, ISODYNE_OPERANDS_##count); \
    break;
#define LOOKUP(id, count, text)                                            \
  case Op::id:                                                             \
    r[i->to] = model::look_up(Op::id, tables[i->table], r[i->a], r[i->b]); \
    break;
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/model/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
    }
  }
}

Evaluator::Evaluator(const model::Program& program, const std::vector<NodeId>& roots) : tables_(tables_of(program)) {
  CodeMaker maker(program);
  std::set<model::VarId> reads;
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
