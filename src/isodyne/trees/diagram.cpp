#include "isodyne/trees/diagram.h"

#include <pthread.h>

#include <algorithm>
#include <exception>
#include <utility>

namespace isodyne::trees {

namespace {

constexpr std::uint32_t kNoVariable = ~0u;
constexpr std::size_t kFirstTable = 1u << 12, kFirstKnown = 1u << 14, kMostKnown = 1u << 22;

std::uint64_t mixed(std::uint64_t a, std::uint64_t b, std::uint64_t c) {
  std::uint64_t h = a * 0x9E3779B97F4A7C15ull ^ b * 0xC2B2AE3D27D4EB4Full ^ c * 0x165667B19E3779F9ull;
  h ^= h >> 29;
  h *= 0xBF58476D1CE4E5B9ull;
  return h ^ (h >> 32);
}

}  // namespace

Diagram::Diagram(Kind kind, std::size_t most_nodes) : kind_(kind), most_(most_nodes) {
  nodes_ = {{kNoVariable, 0, 0}, {kNoVariable, 1, 1}};
  lowest_ = {false, true};
  table_.resize(kFirstTable);
  known_.resize(kFirstKnown);
}

Diagram::Ref Diagram::node(std::uint32_t variable, Ref low, Ref high) {
  if (kind_ == Kind::truths ? low == high : high == kFalse) return low;
  std::size_t at = mixed(variable, low, high) & (table_.size() - 1);
  for (; table_[at] != 0; at = (at + 1) & (table_.size() - 1)) {
    const Node& n = nodes_[table_[at]];
    if (n.variable == variable && n.low == low && n.high == high) return table_[at];
  }
  if (nodes_.size() >= most_) throw TooManyNodes{};
  nodes_.push_back({variable, low, high});
  lowest_.push_back(lowest_[low]);
  const auto made = static_cast<Ref>(nodes_.size() - 1);
  table_[at] = made;
  if (nodes_.size() * 2 > table_.size()) grow();
  return made;
}

void Diagram::grow() {
  table_.assign(table_.size() * 2, 0);
  for (Ref r = 2; r < nodes_.size(); ++r) {
    std::size_t at = mixed(nodes_[r].variable, nodes_[r].low, nodes_[r].high) & (table_.size() - 1);
    while (table_[at] != 0) at = (at + 1) & (table_.size() - 1);
    table_[at] = r;
  }
  // What was computed is forgotten then: it is computed anew.
  if (known_.size() < kMostKnown) known_.assign(known_.size() * 2, {});
}

Diagram::Known& Diagram::known(Operation operation, Ref a, Ref b) {
  return known_[mixed(a, b, operation) & (known_.size() - 1)];
}

Diagram::Ref Diagram::combined(Operation operation, Ref a, Ref b) {
  if (a == b) return a;
  if (a > b) std::swap(a, b);
  // A leaf is the smaller one now.
  if (a == kFalse) return operation == kBoth ? kFalse : b;
  if (a == kTrue) return operation == kBoth ? b : kTrue;
  {
    const Known& k = known(operation, a, b);
    if (k.operation == operation && k.a == a && k.b == b) return k.result;
  }
  const Node na = nodes_[a], nb = nodes_[b];
  const std::uint32_t variable = std::min(na.variable, nb.variable);
  const bool in_a = na.variable == variable, in_b = nb.variable == variable;
  const Ref high = combined(operation, in_a ? na.high : a, in_b ? nb.high : b);
  const Ref low = combined(operation, in_a ? na.low : a, in_b ? nb.low : b);
  const Ref result = node(variable, low, high);
  known(operation, a, b) = {a, b, result, operation};
  return result;
}

Diagram::Ref Diagram::without(Ref a, Ref b) {
  if (a == kFalse || b == kTrue || a == b) return kFalse;
  if (b == kFalse) return a;
  if (a == kTrue) return lowest_[b] ? kFalse : kTrue;  // gone, if the empty set is in `b`
  {
    const Known& k = known(kWithout, a, b);
    if (k.operation == kWithout && k.a == a && k.b == b) return k.result;
  }
  const Node na = nodes_[a], nb = nodes_[b];
  Ref result = kFalse;
  if (nb.variable < na.variable) {
    result = without(a, nb.low);
  } else {
    const bool in_b = nb.variable == na.variable;
    const Ref low_b = in_b ? nb.low : b;
    Ref high = without(na.high, low_b);
    if (in_b) high = without(high, nb.high);
    result = node(na.variable, without(na.low, low_b), high);
  }
  known(kWithout, a, b) = {a, b, result, kWithout};
  return result;
}

std::vector<Diagram::Ref> Diagram::below(Ref root) const {
  std::vector<bool> seen(root + 1);
  seen[root] = true;
  std::vector<Ref> found;
  for (Ref r = root; r > kTrue; --r) {
    if (!seen[r]) continue;
    found.push_back(r);
    seen[nodes_[r].low] = seen[nodes_[r].high] = true;
  }
  std::reverse(found.begin(), found.end());
  return found;
}

namespace {

struct DeepWork {
  const std::function<void()>* work;
  std::exception_ptr thrown;
};

void* do_deep_work(void* given) {
  auto& deep = *static_cast<DeepWork*>(given);
  try {
    (*deep.work)();
  } catch (...) {
    deep.thrown = std::current_exception();
  }
  return nullptr;
}

}  // namespace

void with_deep_stack(const std::function<void()>& work) {
  constexpr std::size_t kStack = std::size_t{256} << 20;  // address space: what is not used costs nothing
  DeepWork deep{&work, nullptr};
  pthread_attr_t attributes;
  pthread_t thread;
  pthread_attr_init(&attributes);
  pthread_attr_setstacksize(&attributes, kStack);
  const int refused = pthread_create(&thread, &attributes, do_deep_work, &deep);
  pthread_attr_destroy(&attributes);
  if (refused != 0) throw TooManyNodes{};
  pthread_join(thread, nullptr);
  if (deep.thrown) std::rethrow_exception(deep.thrown);
}

}  // namespace isodyne::trees
