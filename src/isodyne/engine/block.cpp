#include "isodyne/engine/block.h"

#include <algorithm>
#include <functional>
#include <unordered_map>

#include "isodyne/engine/code.h"
#include "isodyne/model/tables.h"

namespace isodyne::engine {

using model::Node;
using model::NodeId;
using model::Op;
using model::VarId;

BlockEvaluator::BlockEvaluator(const model::Program& program, const std::vector<NodeId>& roots)
    : tables_(tables_of(program)) {
  std::unordered_map<NodeId, std::int32_t> known;
  std::unordered_map<VarId, std::int32_t> variables;
  for (const NodeId root : roots) {
    if (root == model::kNone) continue;
    for (const VarId id : program.reads(root)) {
      if (variables.try_emplace(id, static_cast<std::int32_t>(reads_.size())).second) reads_.push_back(id);
    }
  }
  std::int32_t columns = static_cast<std::int32_t>(reads_.size());
  const std::int32_t zero = columns++;
  std::vector<std::pair<std::int32_t, double>> constants{{zero, 0.0}};
  const std::function<std::int32_t(NodeId)> place = [&](NodeId id) { return id == model::kNone ? zero : known.at(id); };
  for (const NodeId root : roots) {
    // Operands come before what needs them, and so do their numbers: a walk without recursion, then in order.
    std::vector<NodeId> todo{root}, needed;
    while (!todo.empty()) {
      const NodeId id = todo.back();
      todo.pop_back();
      if (id == model::kNone || known.contains(id)) continue;
      known[id] = -1;
      needed.push_back(id);
      const Node& n = program.node(id);
      for (const NodeId operand : {n.a, n.b, n.c}) todo.push_back(operand);
    }
    std::sort(needed.begin(), needed.end());
    for (const NodeId id : needed) {
      const Node& n = program.node(id);
      if (n.op == Op::variable) {
        known[id] = variables.at(n.variable);
        continue;
      }
      known[id] = columns++;
      if (n.op == Op::constant) {
        constants.emplace_back(known[id], n.value);
        continue;
      }
      const bool look_up = n.op >= Op::table1 && n.op <= Op::slope2y;
      steps_.push_back({n.op, known[id], place(n.a), place(n.b), look_up ? n.unit : place(n.c)});
    }
    results_.push_back(place(root));
  }
  columns_.resize(kRows * static_cast<std::size_t>(columns));
  for (const auto& [column, value] : constants) std::fill_n(at(column), kRows, value);
}

/// Rows to columns, in squares that stay in the nearest cache.
void BlockEvaluator::turn(const double* rows, std::size_t count) {
  constexpr std::size_t kSquare = 8;
  const std::size_t reads = reads_.size();
  for (std::size_t c = 0; c < reads; c += kSquare) {
    const std::size_t end = std::min(reads, c + kSquare);
    for (std::size_t r = 0; r < count; ++r) {
      const double* row = rows + r * reads;
      for (std::size_t i = c; i < end; ++i) columns_[i * kRows + r] = row[i];
    }
  }
}

namespace {
template <Op op>
[[gnu::always_inline]] inline void all_rows(const double* __restrict a, const double* __restrict b,
                                            const double* __restrict c, double* __restrict to) {
  for (std::size_t r = 0; r < BlockEvaluator::kRows; ++r) to[r] = model::apply(op, a[r], b[r], c[r]);
}
}  // namespace

ISODYNE_WIDE void BlockEvaluator::run(const Step& s) {
  double* to = at(s.to);
  const double *a = at(s.a), *b = at(s.b);
  switch (s.op) {
#define OP(id, count, text)              \
  case Op::id:                           \
    all_rows<Op::id>(a, b, at(s.c), to); \
    return;
#define LOOKUP(id, count, text)                                                           \
  case Op::id:                                                                            \
    for (std::size_t r = 0; r < kRows; ++r)                                               \
      to[r] = model::look_up(Op::id, tables_[static_cast<std::size_t>(s.c)], a[r], b[r]); \
    return;
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/model/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
    case Op::constant:
    case Op::variable:
      return;
  }
}

void BlockEvaluator::compute(const double* rows, std::size_t count) {
  turn(rows, count);
  for (const Step& s : steps_) run(s);
}

}  // namespace isodyne::engine
