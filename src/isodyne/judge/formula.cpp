#include "isodyne/judge/formula.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <optional>
#include <variant>

#include "isodyne/judge/sliding_fold.h"

namespace isodyne::judge {

using Kind = model::FormulaNode::Kind;

/// At the end of a run: the least and the greatest key that an instant can have.
struct Range {
  std::int64_t low = 0, high = 0;
};

namespace {

constexpr double kFar = std::numeric_limits<double>::infinity();
constexpr std::int64_t kMost = 0x7ff0000000000000;  // plus infinity
constexpr std::int64_t kLeast = ~kMost;

/// The order of doubles as whole numbers: a negative one's bits count backwards.
std::int64_t ordered(double distance) {
  const auto bits = std::bit_cast<std::int64_t>(distance);
  return bits ^ ((bits >> 63) & std::numeric_limits<std::int64_t>::max());
}
double distance_of(std::int64_t key) {
  return std::bit_cast<double>(key ^ ((key >> 63) & std::numeric_limits<std::int64_t>::max()));
}
/// What holds is at least plus zero, what does not at most minus zero. What is no number does not hold, or is far.
std::int64_t key_of(double distance, bool holds) {
  if (distance != distance) return holds ? kMost : kLeast;
  const std::int64_t key = ordered(distance);
  return holds ? std::max<std::int64_t>(key, 0) : std::min<std::int64_t>(key, -1);
}

/// The same for many, without a branch.
ISODYNE_WIDE void keys_of(const double* distances, const double* truths, std::size_t count, std::int64_t* keys) {
  for (std::size_t i = 0; i < count; ++i) {
    const auto bits = std::bit_cast<std::int64_t>(distances[i]);
    const std::int64_t key = bits ^ ((bits >> 63) & std::numeric_limits<std::int64_t>::max());
    const bool holds = truths[i] != 0, far = distances[i] != distances[i];
    const std::int64_t held = far ? kMost : key < 0 ? 0 : key;
    const std::int64_t not_held = far ? kLeast : key > -1 ? -1 : key;
    keys[i] = holds ? held : not_held;
  }
}
ISODYNE_WIDE std::int64_t least_of(const std::int64_t* keys, std::size_t count, std::int64_t most) {
  for (std::size_t i = 0; i < count; ++i) most = keys[i] < most ? keys[i] : most;
  return most;
}

std::int64_t opposite(std::int64_t k) {
  return ~k;
}
std::int64_t least(std::int64_t a, std::int64_t b) {
  return std::min(a, b);
}
std::int64_t greatest(std::int64_t a, std::int64_t b) {
  return std::max(a, b);
}
Range opposite(const Range& r) {
  return {~r.high, ~r.low};
}
Range least(const Range& a, const Range& b) {
  return {std::min(a.low, b.low), std::min(a.high, b.high)};
}
Range greatest(const Range& a, const Range& b) {
  return {std::max(a.low, b.low), std::max(a.high, b.high)};
}
Range range_of(std::int64_t key) {
  return {key, key};
}
Value value_of(std::int64_t k) {
  const double d = distance_of(k);
  return {d, d, k >= 0, k >= 0};
}
Value value_of(const Range& r) {
  return {distance_of(r.low), distance_of(r.high), r.low >= 0, r.high >= 0};
}

struct Least {
  template <typename V>
  V operator()(const V& a, const V& b) const {
    return least(a, b);
  }
};
struct Greatest {
  template <typename V>
  V operator()(const V& a, const V& b) const {
    return greatest(a, b);
  }
};
/// Of a stretch of instants: whether a holds in all of it, and whether b comes with a up to there.
template <typename V>
struct Stretch {
  V all, reached;
};
Stretch<Range> range_of(const Stretch<std::int64_t>& s) {
  return {range_of(s.all), range_of(s.reached)};
}
struct Join {
  template <typename V>
  Stretch<V> operator()(const Stretch<V>& first, const Stretch<V>& then) const {
    return {least(first.all, then.all), greatest(first.reached, least(first.all, then.reached))};
  }
};

template <typename V>
const V& result(const V& v) {
  return v;
}
template <typename V>
const V& result(const Stretch<V>& s) {
  return s.reached;
}

/// Instants by their number, as far back as somebody still asks for them.
struct Instants {
  std::vector<Time> times;
  std::int64_t base = 0;

  Time operator[](std::int64_t i) const { return times[static_cast<std::size_t>(i - base)]; }
  std::int64_t end() const { return base + static_cast<std::int64_t>(times.size()); }
  void forget(std::int64_t before) {
    const std::int64_t gone = before - base;
    if (gone < 1024 || 2 * gone < static_cast<std::int64_t>(times.size())) return;
    times.erase(times.begin(), times.begin() + gone);
    base = before;
  }
};

constexpr auto kRangeOf = [](const auto& x) { return range_of(x); };

struct Truth {};
struct Edge {
  bool begun = false;
  double before = 0;
};
struct Logic {};
// While instants are at equal distances, windows have as many elements throughout, and `steady` keeps them.
template <typename Element, typename Operation>
struct Ahead {  ///< within, stays, until
  SlidingFold<Element, Operation> window;
  std::int64_t oldest = 0;  ///< the first instant whose window is open
  std::optional<SteadyFold<Element, Operation>> steady;
};
template <typename V, typename Operation>
struct Behind {  ///< held, last
  SlidingFold<V, Operation> window;
  std::int64_t oldest = 0;  ///< the first instant in the window
  Time begin{};
  std::optional<SteadyFold<V, Operation>> steady;
};

/// From now on instants come as they like.
template <typename Memory>
void leave_steady(Memory& m, std::int64_t taken) {
  if (!m.steady) return;
  m.steady->last(static_cast<std::size_t>(taken - m.oldest), [&](const auto& e) { m.window.push(e); });
  m.steady.reset();
}
template <typename V>
struct Since {
  V before{};
};

// What a memory is once things are unknown.
template <typename Same>
Same taken_over(const Same& m) {
  return m;
}
template <typename Operation>
Ahead<Range, Operation> taken_over(const Ahead<std::int64_t, Operation>& m) {
  return {m.window.converted(kRangeOf), m.oldest, std::nullopt};
}
Ahead<Stretch<Range>, Join> taken_over(const Ahead<Stretch<std::int64_t>, Join>& m) {
  return {m.window.converted(kRangeOf), m.oldest, std::nullopt};
}
template <typename Operation>
Behind<Range, Operation> taken_over(const Behind<std::int64_t, Operation>& m) {
  return {m.window.converted(kRangeOf), m.oldest, m.begin, std::nullopt};
}
Since<Range> taken_over(const Since<std::int64_t>& m) {
  return {range_of(m.before)};
}

}  // namespace

/// The nodes of a formula at work, over values of one kind.
template <typename V>
class Machine {
 public:
  explicit Machine(const model::Requirement& r) : trigger_(r.trigger_root), check_(r.check_root) {
    for (const model::FormulaNode& n : r.nodes) nodes_.push_back({n, memory_for(n.kind), {}, 0});
  }
  /// Goes on where another one is.
  template <typename Other>
  explicit Machine(const Machine<Other>& o)
      : instants_(o.instants_), trigger_(o.trigger_), check_(o.check_), emitted_(o.emitted_), steady_(false) {
    for (const auto& n : o.nodes_)
      nodes_.push_back({n.node, std::visit([](const auto& m) { return Memory(taken_over(m)); }, n.memory),
                        n.said.converted(kRangeOf), n.taken});
  }

  void block(const Time* at, std::size_t count, const engine::BlockEvaluator& e, std::size_t first) {
    note_steps(at, count);
    instants_.times.insert(instants_.times.end(), at, at + count);
    for (std::size_t i = 0; i < nodes_.size(); ++i) {
      Node& n = nodes_[i];
      if (n.node.a == model::kNone) {
        look(n, count, e.column(first + 2 * i), n.node.margin == model::kNone ? nullptr : e.column(first + 2 * i + 1));
      } else {
        take(n);
      }
    }
    forget();
  }

  /// Instants at equal distances from the first one on: the usual case, which is quicker.
  void note_steps(const Time* at, std::size_t count) {
    for (std::size_t i = 0; i < count && steady_; ++i, ++seen_) {
      if (seen_ == 1) step_ = at[i] - last_;
      steady_ = seen_ < 2 || at[i] - last_ == step_;
      last_ = at[i];
    }
    if (!steady_) leave_all_steady();
  }
  /// Windows are folds of any number of elements again. To be called before the machine is taken over.
  void leave_all_steady() {
    steady_ = false;
    for (Node& n : nodes_) {
      std::visit(
          [&](auto& memory) {
            if constexpr (requires { memory.steady; }) leave_steady(memory, n.taken);
          },
          n.memory);
    }
  }

  /// Everything that is left, where what lies ahead can be anything.
  void finish() {
    for (Node& n : nodes_) {
      take(n);
      std::visit(
          [&](auto& memory) {
            if constexpr (requires { finish_ahead(n, memory); }) finish_ahead(n, memory);
          },
          n.memory);
    }
  }

  std::optional<Formula::Held> held() {
    Queue<V>& checked = said(check_);
    std::size_t count = checked.size();
    if (trigger_ != model::kNone) count = std::min(count, said(trigger_).size());
    if (count == 0) return Formula::Held{};
    if constexpr (std::is_same_v<V, std::int64_t>) {
      const std::int64_t* keys = checked.data();
      const std::int64_t lowest = least_of(keys, count, kMost);
      const std::int64_t asked = trigger_ == model::kNone ? 0 : least_of(said(trigger_).data(), count, 0);
      if (lowest < 0 || asked < 0) return std::nullopt;
      const auto where = std::find(keys, keys + count, lowest) - keys;
      const Formula::Held all{count, distance_of(lowest), instants_[emitted_ + where]};
      checked.pop(count);
      if (trigger_ != model::kNone) said(trigger_).pop(count);
      emitted_ += static_cast<std::int64_t>(count);
      return all;
    } else {
      return std::nullopt;
    }
  }

  bool next(Time& at, Value& trigger, Value& check) {
    Queue<V>& checked = said(check_);
    if (checked.empty() || (trigger_ != model::kNone && said(trigger_).empty())) return false;
    at = instants_[emitted_++];
    check = value_of(checked.front());
    checked.pop();
    if (trigger_ == model::kNone) {
      trigger = {kFar, kFar, true, true};
    } else {
      trigger = value_of(said(trigger_).front());
      said(trigger_).pop();
    }
    return true;
  }

 private:
  template <typename Other>
  friend class Machine;

  using Memory = std::variant<Truth, Edge, Logic, Ahead<V, Greatest>, Ahead<V, Least>, Ahead<Stretch<V>, Join>,
                              Behind<V, Least>, Behind<V, Greatest>, Since<V>>;
  struct Node {
    model::FormulaNode node;
    Memory memory;
    Queue<V> said;           ///< and not yet taken by what it is an operand of
    std::int64_t taken = 0;  ///< the next instant that it takes of its operands
  };

  static Memory memory_for(Kind kind) {
    switch (kind) {
      case Kind::truth:
        return Truth{};
      case Kind::rises:
      case Kind::falls:
      case Kind::changes:
        return Edge{};
      case Kind::lnot:
      case Kind::land:
      case Kind::lor:
        return Logic{};
      case Kind::within:
        return Ahead<V, Greatest>{};
      case Kind::stays:
        return Ahead<V, Least>{};
      case Kind::until:
        return Ahead<Stretch<V>, Join>{};
      case Kind::held:
        return Behind<V, Least>{};
      case Kind::last:
        return Behind<V, Greatest>{};
      case Kind::since:
        return Since<V>{};
    }
    return Truth{};
  }

  static V exactly(std::int64_t key) {
    if constexpr (std::is_same_v<V, std::int64_t>) {
      return key;
    } else {
      return range_of(key);
    }
  }

  Queue<V>& said(std::int32_t place) { return nodes_[static_cast<std::size_t>(place)].said; }

  void look(Node& n, std::size_t count, const double* values, const double* margins) {
    auto* edge = std::get_if<Edge>(&n.memory);
    V* said = n.said.extend(count);
    if (edge == nullptr && margins != nullptr) {
      if constexpr (std::is_same_v<V, std::int64_t>) keys_of(margins, values, count, said);
    } else if (edge == nullptr) {
      for (std::size_t i = 0; i < count; ++i) said[i] = exactly(values[i] != 0 ? kMost : kLeast);
    } else {
      for (std::size_t i = 0; i < count; ++i) {
        const double more = edge->begun ? values[i] - edge->before : 0;
        const bool holds = n.node.kind == Kind::rises ? more > 0 : n.node.kind == Kind::falls ? more < 0 : more != 0;
        const double distance = n.node.kind == Kind::rises ? more : n.node.kind == Kind::falls ? -more : std::abs(more);
        edge->begun = true;
        edge->before = values[i];
        said[i] = exactly(n.node.number ? key_of(distance, holds) : holds ? kMost : kLeast);
      }
    }
  }

  /// Calls `each` with the operands of every instant of which they are all there, and with their number.
  template <typename Each>
  void operands(Node& n, Each each) {
    Queue<V>& a = said(n.node.a);
    Queue<V>& b = n.node.b == model::kNone ? a : said(n.node.b);
    const std::size_t count = std::min(a.size(), b.size());
    const V *left = a.data(), *right = b.data();
    for (std::size_t i = 0; i < count; ++i) each(left[i], right[i], n.taken + static_cast<std::int64_t>(i));
    n.taken += static_cast<std::int64_t>(count);
    a.pop(count);
    if (&a != &b) b.pop(count);
  }
  /// The same where each instant gives one value.
  template <typename Each>
  void one_each(Node& n, Each each) {
    Queue<V>& a = said(n.node.a);
    Queue<V>& b = n.node.b == model::kNone ? a : said(n.node.b);
    V* to = n.said.extend(std::min(a.size(), b.size()));
    operands(n, [&](const V& x, const V& y, std::int64_t at) { *to++ = each(x, y, at); });
  }

  void take(Node& n) {
    std::visit([&](auto& memory) { take_with(n, memory); }, n.memory);
  }
  void take_with(Node&, Truth&) {}
  void take_with(Node&, Edge&) {}

  void take_with(Node& n, Logic&) {
    switch (n.node.kind) {
      case Kind::lnot:
        return one_each(n, [](const V& a, const V&, std::int64_t) { return opposite(a); });
      case Kind::land:
        return one_each(n, [](const V& a, const V& b, std::int64_t) { return least(a, b); });
      default:
        return one_each(n, [](const V& a, const V& b, std::int64_t) { return greatest(a, b); });
    }
  }

  /// How many instants lie within a window; 0: too many, or nobody knows yet.
  std::size_t elements(const Node& n) const {
    constexpr std::int64_t kMostSteady = 1 << 22;
    if (!steady_ || seen_ < 2 || step_.count() <= 0) return 0;
    const std::int64_t count = n.node.time / step_ + 1;
    return count <= kMostSteady ? static_cast<std::size_t>(count) : 0;
  }
  /// Whether the node goes on, or can begin, with windows of a number that stays.
  template <typename Memory>
  bool steadily(const Node& n, Memory& m) {
    if (!m.steady && n.taken == 0) {
      if (const std::size_t count = elements(n); count > 0) m.steady.emplace(count);
    }
    return m.steady.has_value();
  }

  /// A window is whole when an instant has come that lies at its end or beyond.
  template <typename Element, typename Operation>
  void take_with(Node& n, Ahead<Element, Operation>& m) {
    if (steadily(n, m)) return take_steadily(n, m);
    const auto say = [&] {
      n.said.push(result(m.window.fold()));
      m.window.pop();
      ++m.oldest;
    };
    operands(n, [&](const V& a, const V& b, std::int64_t at) {
      const Time begin = instants_[at] - n.node.time;
      while (m.oldest < at && instants_[m.oldest] < begin) say();
      if constexpr (std::is_same_v<Element, V>) {
        m.window.push(a);
      } else {
        m.window.push({a, b});
      }
      if (instants_[m.oldest] == begin) say();
    });
  }

  template <typename Element, typename Operation>
  void take_steadily(Node& n, Ahead<Element, Operation>& m) {
    const auto count = static_cast<std::int64_t>(elements(n));
    const bool exact = n.node.time % step_ == Time{};      // the last instant of a window lies at its end
    const std::int64_t first = exact ? count - 1 : count;  // the first instant at which a window is whole
    const auto there = static_cast<std::int64_t>(
        std::min(said(n.node.a).size(), said(n.node.b == model::kNone ? n.node.a : n.node.b).size()));
    V* to = n.said.extend(
        static_cast<std::size_t>(std::max<std::int64_t>(0, there - std::max<std::int64_t>(0, first - n.taken))));
    auto& window = *m.steady;
    operands(n, [&](const V& a, const V& b, std::int64_t at) {
      if (!exact && at >= first) *to++ = result(window.fold());
      if constexpr (std::is_same_v<Element, V>) {
        window.push(a);
      } else {
        window.push({a, b});
      }
      if (exact && at >= first) *to++ = result(window.fold());
    });
    m.oldest = std::max<std::int64_t>(0, n.taken - first);
  }

  /// What is not there can hold, or not.
  template <typename Element, typename Operation>
  requires std::is_same_v<V, Range>
  void finish_ahead(Node& n, Ahead<Element, Operation>& m) {
    for (; m.oldest < n.taken; ++m.oldest) {
      const Element seen = m.window.fold();
      const Range unknown{kLeast, kMost};
      if constexpr (std::is_same_v<Element, V>) {
        n.said.push(Operation{}(seen, unknown));
      } else {
        n.said.push(greatest(seen.reached, least(seen.all, unknown)));
      }
      m.window.pop();
    }
  }

  template <typename Operation>
  void take_with(Node& n, Behind<V, Operation>& m) {
    if (steadily(n, m)) {
      const auto count = static_cast<std::int64_t>(elements(n));
      if (n.taken == 0) m.begin = instants_[0];
      const std::int64_t old = n.node.kind == Kind::held ? (n.node.time + step_ - Time{1}) / step_ : 0;
      auto& window = *m.steady;
      one_each(n, [&](const V& a, const V&, std::int64_t at) {
        window.push(a);
        return at < old ? exactly(kLeast) : window.fold();
      });
      m.oldest = std::max<std::int64_t>(0, n.taken - count);
      return;
    }
    one_each(n, [&](const V& a, const V&, std::int64_t at) {
      const Time now = instants_[at];
      if (at == 0) m.begin = now;
      m.window.push(a);
      for (; instants_[m.oldest] < now - n.node.time; ++m.oldest) m.window.pop();
      // Nobody knows what was before the run.
      const bool young = n.node.kind == Kind::held && now - m.begin < n.node.time;
      return young ? exactly(kLeast) : m.window.fold();
    });
  }

  void take_with(Node& n, Since<V>& m) {
    one_each(n, [&](const V& a, const V& b, std::int64_t at) {
      return m.before = at > 0 ? greatest(b, least(a, m.before)) : b;
    });
  }

  void forget() {
    std::int64_t needed = emitted_;
    for (const Node& n : nodes_) {
      if (n.node.a != model::kNone) needed = std::min(needed, n.taken);
      std::visit(
          [&](const auto& memory) {
            if constexpr (requires { memory.oldest; }) needed = std::min(needed, memory.oldest);
          },
          n.memory);
    }
    instants_.forget(needed);
  }

  Instants instants_;
  std::vector<Node> nodes_;
  std::int32_t trigger_, check_;
  std::int64_t emitted_ = 0;  ///< the next instant that next() gives
  bool steady_ = true;        ///< all instants so far are at equal distances
  std::int64_t seen_ = 0;     ///< as long as they are
  Time step_{}, last_{};
};

void Formula::collect(const model::Requirement& r, std::vector<model::NodeId>& expressions) {
  for (const model::FormulaNode& n : r.nodes) expressions.insert(expressions.end(), {n.value, n.margin});
}

Formula::Formula(const model::Requirement& r, std::size_t first)
    : running_(std::make_unique<Machine<std::int64_t>>(r)), first_(first) {}
Formula::~Formula() = default;
Formula::Formula(Formula&&) noexcept = default;
Formula& Formula::operator=(Formula&&) noexcept = default;

void Formula::block(const Time* at, std::size_t count, const engine::BlockEvaluator& expressions) {
  running_->block(at, count, expressions, first_);
}

void Formula::finish() {
  running_->leave_all_steady();
  finished_ = std::make_unique<Machine<Range>>(*running_);
  finished_->finish();
}

std::optional<Formula::Held> Formula::held() {
  return finished_ ? std::nullopt : running_->held();
}

bool Formula::next(Time& at, Value& trigger, Value& check) {
  return finished_ ? finished_->next(at, trigger, check) : running_->next(at, trigger, check);
}

}  // namespace isodyne::judge
