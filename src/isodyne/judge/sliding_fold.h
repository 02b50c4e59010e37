#pragma once
// What a window that moves over a sequence folds to, in constant time a step on average whatever its length.
//
// Two stacks: elements come in on one, whose fold is kept, and go out from the other, which keeps the folds of all its
// ends; when that is empty the first is turned over into it. Needs of the operation only that it is associative.
// The idea: Okasaki, "Purely Functional Data Structures" (1998), 5.2; its use for windows: Tangwongsan, Hirzel and
// Schneider, "Low-Latency Sliding-Window Aggregation in Worst-Case Constant Time" (2017), 3.

#include <algorithm>
#include <cstddef>
#include <utility>
#include <vector>

namespace isodyne::judge {

template <typename Element, typename Operation>
class SteadyFold;

/// `Operation{}(older, newer)` joins two elements.
template <typename Element, typename Operation>
class SlidingFold {
 public:
  SlidingFold() = default;
  /// Goes on with the last so many elements of another one.
  SlidingFold(const SteadyFold<Element, Operation>& steady, std::size_t elements) {
    const std::size_t before = elements - std::min(elements, steady.at_);
    out_.assign(steady.backwards_.rbegin(), steady.backwards_.rbegin() + static_cast<std::ptrdiff_t>(before));
    for (std::size_t i = steady.at_ - (elements - before); i < steady.at_; ++i) push(steady.now_[i]);
  }
  bool empty() const { return out_.empty() && in_.empty(); }
  std::size_t size() const { return out_.size() + in_.size(); }

  void push(const Element& e) {
    all_in_ = in_.empty() ? e : Operation{}(all_in_, e);
    in_.push_back(e);
  }
  /// The oldest goes; there is one.
  void pop() {
    if (out_.empty()) turn();
    out_.pop_back();
  }
  /// The same window over converted elements. Converting and folding may be exchanged.
  template <typename Convert>
  auto converted(Convert convert) const {
    SlidingFold<decltype(convert(std::declval<Element>())), Operation> other;
    for (const Element& e : in_) other.in_.push_back(convert(e));
    for (const Element& e : out_) other.out_.push_back(convert(e));
    other.all_in_ = convert(all_in_);
    return other;
  }

  /// Of all elements; there is one.
  Element fold() const {
    if (out_.empty()) return all_in_;
    return in_.empty() ? out_.back() : Operation{}(out_.back(), all_in_);
  }

 private:
  template <typename, typename>
  friend class SlidingFold;

  void turn() {
    for (std::size_t i = in_.size(); i-- > 0;) out_.push_back(out_.empty() ? in_[i] : Operation{}(in_[i], out_.back()));
    in_.clear();
  }
  std::vector<Element> in_, out_;
  Element all_in_{};
};

/// The fold of the last `count` elements of a sequence, for a count that stays: in chunks of that many, of which the
/// present one is folded forwards and the one before it backwards (van Herk, "A fast algorithm for local minimum and
/// maximum filters", 1992; Gil and Werman, "Computing 2-D min, median, and max filters", 1993).
template <typename Element, typename Operation>
class SteadyFold {
 public:
  explicit SteadyFold(std::size_t count) : count_(count) {}

  void push(const Element& e) {
    forwards_ = at_ == 0 ? e : Operation{}(forwards_, e);
    if (now_.size() < count_) {
      now_.push_back(e);  // the first chunk grows, so that a short run needs little
    } else {
      now_[at_] = e;
    }
    if (++at_ == count_) turn();
  }
  /// push() and then fold() for each of many, `to` taking what they give; quicker, as most of it goes side by side.
  void push(const Element* from, std::size_t many, Element* to) {
    while (many > 0) {
      const std::size_t run = std::min(many, count_ - at_);
      if (now_.size() < at_ + run) now_.resize(at_ + run);
      std::copy_n(from, run, now_.begin() + static_cast<std::ptrdiff_t>(at_));
      Element all = at_ == 0 ? from[0] : forwards_;
      for (std::size_t i = 0; i < run; ++i) to[i] = all = Operation{}(all, from[i]);
      forwards_ = all;
      if (!backwards_.empty()) {
        const Element* before = backwards_.data() + at_ + 1;
        const std::size_t shared = at_ + run == count_ ? run - 1 : run;
        for (std::size_t i = 0; i < shared; ++i) to[i] = Operation{}(before[i], to[i]);
      }
      at_ += run;
      if (at_ == count_) turn();
      from += run;
      to += run;
      many -= run;
    }
  }
  /// Of the last `count` elements, or of all there are; there is one.
  Element fold() const {
    if (at_ == 0) return backwards_[0];
    return backwards_.empty() ? forwards_ : Operation{}(backwards_[at_], forwards_);
  }

 private:
  friend class SlidingFold<Element, Operation>;

  void turn() {
    for (std::size_t i = count_ - 1; i-- > 0;) now_[i] = Operation{}(now_[i], now_[i + 1]);
    std::swap(now_, backwards_);
    at_ = 0;
  }
  std::size_t count_, at_ = 0;
  std::vector<Element> now_;        ///< the present chunk up to at_
  std::vector<Element> backwards_;  ///< of the one before: what its elements from there on fold to
  Element forwards_{};
};

/// First in, first out, in one piece of memory; many at a time.
template <typename T>
class Queue {
 public:
  bool empty() const { return begin_ == items_.size(); }
  std::size_t size() const { return items_.size() - begin_; }
  const T& front() const { return items_[begin_]; }
  /// The oldest, then those that came after it.
  const T* data() const { return items_.data() + begin_; }
  void push(const T& item) { items_.push_back(item); }
  /// Room for `count` more, to be filled in; valid until the next call.
  T* extend(std::size_t count) {
    items_.resize(items_.size() + count);
    return items_.data() + items_.size() - count;
  }
  void pop(std::size_t count = 1) {
    begin_ += count;
    if (begin_ == items_.size()) {
      items_.clear();
      begin_ = 0;
    } else if (begin_ > 1024 && 2 * begin_ > items_.size()) {
      items_.erase(items_.begin(), items_.begin() + static_cast<std::ptrdiff_t>(begin_));
      begin_ = 0;
    }
  }
  template <typename Convert>
  auto converted(Convert convert) const {
    Queue<decltype(convert(std::declval<T>()))> other;
    for (std::size_t i = begin_; i < items_.size(); ++i) other.push(convert(items_[i]));
    return other;
  }

 private:
  std::vector<T> items_;
  std::size_t begin_ = 0;
};

}  // namespace isodyne::judge
