#pragma once
// A formula at work, exactly: each operator takes what its operands say of instants, and says in turn. Over keys while
// a run goes on, over ranges of them at its end.
//
// Memory: an operator keeps as many instants as its time holds. Time: constant an instant on average.

#include <optional>
#include <variant>

#include "isodyne/judge/keys.h"
#include "isodyne/judge/sliding_fold.h"

namespace isodyne::judge {

using Kind = program::FormulaNode::Kind;

/// Of a stretch of instants: whether a holds in all of it, and whether b comes with a up to there.
template <typename V>
struct UntilFold {
  V all, reached;
};
inline UntilFold<Range> range_of(const UntilFold<std::int64_t>& s) {
  return {range_of(s.all), range_of(s.reached)};
}
struct Join {
  template <typename V>
  UntilFold<V> operator()(const UntilFold<V>& first, const UntilFold<V>& then) const {
    return {least(first.all, then.all), greatest(first.reached, least(first.all, then.reached))};
  }
};

template <typename V>
const V& result(const V& v) {
  return v;
}
template <typename V>
const V& result(const UntilFold<V>& s) {
  return s.reached;
}

/// Instants by their number, as far back as somebody still asks for them. Those at equal distances take no room.
class InstantLog {
 public:
  void add(const Time* at, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i, ++end_) {
      if (regular_) follow(at[i]);
      if (!regular_) times_.push_back(at[i]);
    }
  }
  Time operator[](std::int64_t i) const {
    return regular_ ? first_ + i * step_ : times_[static_cast<std::size_t>(i - base_)];
  }
  void forget(std::int64_t before) {
    const std::int64_t gone = before - base_;
    if (regular_) {
      base_ = before;
    } else if (gone >= 1024 && 2 * gone >= static_cast<std::int64_t>(times_.size())) {
      times_.erase(times_.begin(), times_.begin() + gone);
      base_ = before;
    }
  }
  /// All so far are at equal distances, and there are two at least.
  bool regular() const { return regular_ && end_ > 1; }
  Time step() const { return step_; }

 private:
  void follow(Time at) {
    if (end_ == 0) first_ = at;
    if (end_ == 1) step_ = at - first_;
    if (first_ + end_ * step_ == at) return;
    for (std::int64_t k = base_; k < end_; ++k) times_.push_back(first_ + k * step_);
    regular_ = false;
  }
  bool regular_ = true;
  Time first_{}, step_{};  ///< while they are
  std::vector<Time> times_;
  std::int64_t base_ = 0;  ///< of times_[0]
  std::int64_t end_ = 0;
};

inline constexpr auto kRangeOf = [](const auto& x) { return range_of(x); };

struct Leaf {};  ///< says what it is told
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
  m.window = {*m.steady, static_cast<std::size_t>(taken - m.oldest)};
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
inline Ahead<UntilFold<Range>, Join> taken_over(const Ahead<UntilFold<std::int64_t>, Join>& m) {
  return {m.window.converted(kRangeOf), m.oldest, std::nullopt};
}
template <typename Operation>
Behind<Range, Operation> taken_over(const Behind<std::int64_t, Operation>& m) {
  return {m.window.converted(kRangeOf), m.oldest, m.begin, std::nullopt};
}
inline Since<Range> taken_over(const Since<std::int64_t>& m) {
  return {range_of(m.before)};
}

/// The nodes of a formula at work, over values of one kind.
template <typename V>
class FormulaMachine {
 public:
  explicit FormulaMachine(const program::Requirement& r) : trigger_(r.trigger_root), check_(r.check_root) {
    for (const program::FormulaNode& n : r.nodes) nodes_.push_back({n, memory_for(n.kind), {}, 0});
  }
  /// Goes on where another one is.
  template <typename Other>
  explicit FormulaMachine(const FormulaMachine<Other>& o)
      : instants_(o.instants_), trigger_(o.trigger_), check_(o.check_), emitted_(o.emitted_), steady_(false) {
    for (const auto& n : o.nodes_)
      nodes_.push_back({n.node, std::visit([](const auto& m) { return Memory(taken_over(m)); }, n.memory),
                        n.said.converted(kRangeOf), n.taken});
  }

  /// The next instants, with what each leaf says of them: one leaf after another, `stride` apart.
  void take(const Time* at, std::size_t count, const std::int64_t* keys, std::size_t stride) {
    const bool before = instants_.regular();
    instants_.add(at, count);
    if (before && !instants_.regular()) leave_all_steady();
    for (Node& n : nodes_) {
      if (n.node.a == program::kNone) {
        std::copy_n(keys, count, n.said.extend(count));
        keys += stride;
      } else {
        take(n);
      }
    }
    forget();
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

  /// As Formula::held().
  std::optional<Formula::Held> held() requires std::is_same_v<V, std::int64_t> {
    Queue<V>& checked = said(check_);
    std::size_t count = checked.size();
    if (trigger_ != program::kNone) count = std::min(count, said(trigger_).size());
    if (count == 0) return Formula::Held{};
    const std::int64_t* keys = checked.data();
    const std::int64_t lowest = least_of(keys, count, kMost);
    const std::int64_t asked = trigger_ == program::kNone ? 0 : least_of(said(trigger_).data(), count, 0);
    if (lowest < 0 || asked < 0) return std::nullopt;
    const auto where = std::find(keys, keys + count, lowest) - keys;
    const Formula::Held all{count, true, distance_of(lowest), instants_[emitted_ + where]};
    skip(count);
    return all;
  }
  /// Instants of which everything is said are done with.
  void skip(std::size_t count) {
    said(check_).pop(count);
    if (trigger_ != program::kNone) said(trigger_).pop(count);
    emitted_ += static_cast<std::int64_t>(count);
  }
  /// How many there are; how many are done with.
  std::int64_t said_so_far() const { return emitted_; }
  std::size_t ready() {
    return trigger_ == program::kNone ? said(check_).size() : std::min(said(check_).size(), said(trigger_).size());
  }

  bool next(Time& at, Value& trigger, Value& check) {
    if (ready() == 0) return false;
    at = instants_[emitted_];
    check = value_of(said(check_).front());
    trigger = trigger_ == program::kNone ? Value{kFar, kFar, true, true} : value_of(said(trigger_).front());
    skip(1);
    return true;
  }

 private:
  template <typename Other>
  friend class FormulaMachine;

  using Memory = std::variant<Leaf, Logic, Ahead<V, Greatest>, Ahead<V, Least>, Ahead<UntilFold<V>, Join>,
                              Behind<V, Least>, Behind<V, Greatest>, Since<V>>;
  struct Node {
    program::FormulaNode node;
    Memory memory;
    Queue<V> said;           ///< and not yet taken by what it is an operand of
    std::int64_t taken = 0;  ///< the next instant that it takes of its operands
  };

  static Memory memory_for(Kind kind) {
    switch (kind) {
      case Kind::truth:
      case Kind::rises:
      case Kind::falls:
      case Kind::changes:
        return Leaf{};
      case Kind::lnot:
      case Kind::land:
      case Kind::lor:
        return Logic{};
      case Kind::within:
        return Ahead<V, Greatest>{};
      case Kind::stays:
        return Ahead<V, Least>{};
      case Kind::until:
        return Ahead<UntilFold<V>, Join>{};
      case Kind::held:
        return Behind<V, Least>{};
      case Kind::last:
        return Behind<V, Greatest>{};
      case Kind::since:
        return Since<V>{};
    }
    return Leaf{};
  }

  static V exactly(std::int64_t key) {
    if constexpr (std::is_same_v<V, std::int64_t>) {
      return key;
    } else {
      return range_of(key);
    }
  }

  Queue<V>& said(std::int32_t place) { return nodes_[static_cast<std::size_t>(place)].said; }

  /// Calls `each` with the operands of every instant of which they are all there, and with their number.
  template <typename Each>
  void operands(Node& n, Each each) {
    Queue<V>& a = said(n.node.a);
    Queue<V>& b = n.node.b == program::kNone ? a : said(n.node.b);
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
    Queue<V>& b = n.node.b == program::kNone ? a : said(n.node.b);
    V* to = n.said.extend(std::min(a.size(), b.size()));
    operands(n, [&](const V& x, const V& y, std::int64_t at) { *to++ = each(x, y, at); });
  }

  void take(Node& n) {
    std::visit([&](auto& memory) { take_with(n, memory); }, n.memory);
  }
  void take_with(Node&, Leaf&) {}

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
    if (!steady_ || !instants_.regular() || instants_.step().count() <= 0) return 0;
    const std::int64_t count = n.node.time / instants_.step() + 1;
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
    const bool exact = n.node.time % instants_.step() == Time{};  // the last instant of a window lies at its end
    const std::int64_t first = exact ? count - 1 : count;         // the first instant at which a window is whole
    const auto there = static_cast<std::int64_t>(
        std::min(said(n.node.a).size(), said(n.node.b == program::kNone ? n.node.a : n.node.b).size()));
    const std::int64_t waiting = std::clamp<std::int64_t>(first - n.taken, 0, there);  // instants that end no window
    V* to = n.said.extend(static_cast<std::size_t>(there - waiting));
    auto& window = *m.steady;
    if constexpr (std::is_same_v<Element, V>) {
      folds_.resize(static_cast<std::size_t>(there) + 1);
      if (!exact && n.taken > 0) folds_[0] = window.fold();
      window.push(said(n.node.a).data(), static_cast<std::size_t>(there), folds_.data() + 1);
      std::copy_n(folds_.data() + waiting + (exact ? 1 : 0), there - waiting, to);
      said(n.node.a).pop(static_cast<std::size_t>(there));
      n.taken += there;
    } else {
      operands(n, [&](const V& a, const V& b, std::int64_t at) {
        if (!exact && at >= first) *to++ = result(window.fold());
        window.push({a, b});
        if (exact && at >= first) *to++ = result(window.fold());
      });
    }
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
      const std::int64_t old =
          n.node.kind == Kind::held ? (n.node.time + instants_.step() - Time{1}) / instants_.step() : 0;
      Queue<V>& a = said(n.node.a);
      const std::size_t there = a.size();
      V* to = n.said.extend(there);
      m.steady->push(a.data(), there, to);
      a.pop(there);
      std::fill_n(to, std::clamp<std::int64_t>(old - n.taken, 0, static_cast<std::int64_t>(there)), exactly(kLeast));
      n.taken += static_cast<std::int64_t>(there);
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
      if (n.node.a != program::kNone) needed = std::min(needed, n.taken);
      std::visit(
          [&](const auto& memory) {
            if constexpr (requires { memory.oldest; }) needed = std::min(needed, memory.oldest);
          },
          n.memory);
    }
    instants_.forget(needed);
  }

  InstantLog instants_;
  std::vector<Node> nodes_;
  std::vector<V> folds_;
  std::int32_t trigger_, check_;
  std::int64_t emitted_ = 0;  ///< the next instant that next() gives
  bool steady_ = true;        ///< windows may be of a number that stays
};

}  // namespace isodyne::judge
