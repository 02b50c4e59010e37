#include "isodyne/engine/block.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <unordered_map>
#include <unordered_set>
#include <utility>

#include "isodyne/engine/code.h"
#include "isodyne/program/tables.h"

namespace isodyne::engine {

using program::Node;
using program::NodeId;
using program::Op;
using program::VarId;

namespace {

bool looks_up(Op op) {
  return op >= Op::table1 && op <= Op::slope2y;
}

std::array<NodeId, 3> operands(const Node& n) {
  return {n.a, n.b, n.c};
}

/// What some expressions need, each node once, operands first.
std::vector<NodeId> in_order(const program::Plant& program, const std::vector<NodeId>& roots) {
  std::unordered_set<NodeId> known{program::kNone};
  std::vector<NodeId> needed, todo = roots;
  while (!todo.empty()) {
    const NodeId id = todo.back();
    todo.pop_back();
    if (!known.insert(id).second) continue;
    needed.push_back(id);
    for (const NodeId operand : operands(program.node(id))) todo.push_back(operand);
  }
  std::sort(needed.begin(), needed.end());  // operands have lower numbers
  return needed;
}

/// Columns: taken, and given back by what is not needed any more, so that what is at work stays near.
class Columns {
 public:
  explicit Columns(std::size_t first) : count_(static_cast<std::int32_t>(first)) {}
  std::int32_t take() {
    if (free_.empty()) return count_++;
    const std::int32_t column = free_.back();
    free_.pop_back();
    return column;
  }
  void give(std::int32_t column) { free_.push_back(column); }
  std::size_t count() const { return static_cast<std::size_t>(count_); }

 private:
  std::int32_t count_;
  std::vector<std::int32_t> free_;
};

}  // namespace

BlockEvaluator::BlockEvaluator(const program::Plant& program, const std::vector<std::vector<NodeId>>& groups)
    : tables_(tables_of(program)) {
  std::vector<std::vector<NodeId>> needed;
  for (const auto& roots : groups) {
    for (const NodeId id : needed.emplace_back(in_order(program, roots))) {
      if (program.node(id).op == Op::variable) reads_.push_back(program.node(id).variable);
    }
  }
  std::sort(reads_.begin(), reads_.end());
  reads_.erase(std::unique(reads_.begin(), reads_.end()), reads_.end());

  Columns columns(reads_.size());
  std::unordered_map<std::uint64_t, std::int32_t> constants;
  const auto constant = [&](double value) {
    const auto [found, fresh] = constants.try_emplace(std::bit_cast<std::uint64_t>(value));
    if (fresh) found->second = columns.take();
    return found->second;
  };
  std::unordered_map<NodeId, std::int32_t> lasting{{program::kNone, constant(0)}};
  for (const auto& nodes : needed) {
    for (const NodeId id : nodes) {
      const Node& n = program.node(id);
      if (n.op == Op::variable)
        lasting[id] =
            static_cast<std::int32_t>(std::lower_bound(reads_.begin(), reads_.end(), n.variable) - reads_.begin());
      if (n.op == Op::constant) lasting[id] = constant(n.value);
    }
  }
  for (std::size_t g = 0; g < groups.size(); ++g) {
    Group& group = groups_.emplace_back();
    group.begin = steps_.size();
    std::unordered_map<NodeId, std::size_t> uses;
    for (const NodeId id : groups[g]) ++uses[id];
    for (const NodeId id : needed[g]) {
      for (const NodeId operand : operands(program.node(id))) ++uses[operand];
      if (program.node(id).op == Op::variable) group.reads.push_back(lasting.at(id));
    }
    std::unordered_map<NodeId, std::int32_t> known;
    const auto place = [&](NodeId id) {
      const auto found = lasting.find(id);
      return found != lasting.end() ? found->second : known.at(id);
    };
    const auto used = [&](NodeId id) {
      if (--uses[id] == 0 && !lasting.contains(id)) columns.give(known.at(id));
    };
    for (const NodeId id : needed[g]) {
      if (lasting.contains(id)) continue;
      const Node& n = program.node(id);
      known[id] = columns.take();
      steps_.push_back({n.op, known[id], place(n.a), place(n.b), looks_up(n.op) ? n.unit : place(n.c)});
      for (const NodeId operand : operands(n)) used(operand);  // only now: no result lies over its operands
    }
    for (const NodeId id : groups[g]) results_.push_back(place(id));
    for (const NodeId id : groups[g]) used(id);
    group.end = steps_.size();
  }
  columns_.resize(kRows * columns.count());
  ranges_.resize(columns.count());
  fetched_.resize(reads_.size());
  for (auto* all : {&lows_, &highs_, &sums_}) all->resize(reads_.size());
  for (const auto& [bits, column] : constants) {
    const auto value = std::bit_cast<double>(bits);
    std::fill_n(at(column), kRows, value);
    ranges_[static_cast<std::size_t>(column)] = {value, value};
  }
}

/// One row after another, as they lie.
ISODYNE_WIDE void BlockEvaluator::outline_reads() {
  const std::size_t reads = reads_.size();
  double* __restrict low = lows_.data();
  double* __restrict high = highs_.data();
  double* __restrict sum = sums_.data();
  for (std::size_t i = 0; i < reads; ++i) low[i] = high[i] = sum[i] = rows_[i];
  for (std::size_t r = 1; r < count_; ++r) {
    const double* __restrict row = rows_ + r * reads;
    for (std::size_t i = 0; i < reads; ++i) {
      low[i] = row[i] < low[i] ? row[i] : low[i];
      high[i] = row[i] > high[i] ? row[i] : high[i];
      sum[i] += row[i];
    }
  }
  for (std::size_t i = 0; i < reads; ++i)
    ranges_[i] = std::isfinite(sum[i]) ? program::Interval{low[i], high[i]} : program::Interval{};
}

void BlockEvaluator::load(const double* rows, std::size_t count) {
  rows_ = rows;
  count_ = count;
  ++loads_;
  outline_reads();
}

void BlockEvaluator::outline(std::size_t group) {
  const auto range = [&](std::int32_t column) { return ranges_[static_cast<std::size_t>(column)]; };
  for (std::size_t i = groups_[group].begin; i < groups_[group].end; ++i) {
    const Step& s = steps_[i];
    ranges_[static_cast<std::size_t>(s.to)] =
        looks_up(s.op) ? program::Interval{} : program::over(s.op, range(s.a), range(s.b), range(s.c));
  }
}

/// Columns of what a group reads.
void BlockEvaluator::fetch(const Group& g) {
  for (const std::int32_t column : g.reads) {
    if (std::exchange(fetched_[static_cast<std::size_t>(column)], loads_) == loads_) continue;
    const double* from = rows_ + column;
    double* to = at(column);
    for (std::size_t r = 0; r < count_; ++r) to[r] = from[r * reads_.size()];
  }
}

void BlockEvaluator::compute(std::size_t group) {
  fetch(groups_[group]);
  run(groups_[group]);
}

void BlockEvaluator::keep(std::size_t group, double* to) {
  fetch(groups_[group]);
  for (const std::int32_t column : groups_[group].reads) to = std::copy_n(at(column), count_, to);
}

void BlockEvaluator::compute_kept(std::size_t group, const double* from, std::size_t count) {
  for (const std::int32_t column : groups_[group].reads) {
    std::copy_n(from, count, at(column));
    from += count;
    fetched_[static_cast<std::size_t>(column)] = 0;  // others are to fetch it again
  }
  run(groups_[group]);
}

namespace {
template <Op op>
[[gnu::always_inline]] inline void all_rows(const double* __restrict a, const double* __restrict b,
                                            const double* __restrict c, double* __restrict to) {
  for (std::size_t r = 0; r < BlockEvaluator::kRows; ++r) to[r] = program::apply(op, a[r], b[r], c[r]);
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
#define LOOKUP(id, count, text)                                                             \
  case Op::id:                                                                              \
    for (std::size_t r = 0; r < kRows; ++r)                                                 \
      to[r] = program::look_up(Op::id, tables_[static_cast<std::size_t>(s.c)], a[r], b[r]); \
    return;
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
    case Op::constant:
    case Op::variable:
      return;
  }
}

void BlockEvaluator::run(const Group& g) {
  for (std::size_t i = g.begin; i < g.end; ++i) run(steps_[i]);
}

}  // namespace isodyne::engine
