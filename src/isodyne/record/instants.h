#pragma once
// The instants of recorded rows. Most are as regular as a clock, and are not kept one by one then.

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <iterator>
#include <utility>
#include <vector>

namespace isodyne::record {

class Instants {
 public:
  Instants() = default;
  explicit Instants(std::vector<std::int64_t> all) : all_(std::move(all)), size_(all_.size()) {}
  /// `count` instants, `period` apart from `first` on.
  Instants(std::int64_t first, std::int64_t period, std::size_t count)
      : first_(first), period_(period), regular_(count), size_(count) {}
  /// One more, which need not be on the grid: the end of the run.
  void add_last(std::int64_t at) {
    last_ = at;
    size_ = regular_ + 1;
  }

  std::size_t size() const { return size_; }
  bool empty() const { return size_ == 0; }
  std::int64_t operator[](std::size_t i) const {
    if (period_ == 0) return all_[i];
    return i < regular_ ? first_ + static_cast<std::int64_t>(i) * period_ : last_;
  }
  std::int64_t front() const { return (*this)[0]; }
  std::int64_t back() const { return (*this)[size_ - 1]; }

  /// How many are not after `at`.
  std::size_t until(std::int64_t at) const {
    std::size_t low = 0, high = size_;
    if (period_ != 0 && regular_ > 0) {  // the place is known but for the last one
      if (at < first_) return 0;
      low = std::min(regular_, static_cast<std::size_t>((at - first_) / period_) + 1);
      high = std::min(size_, low + 1);
      if (low < regular_) return low;
    }
    while (low < high) {
      const std::size_t middle = low + (high - low) / 2;
      (*this)[middle] <= at ? low = middle + 1 : high = middle;
    }
    return low;
  }
  /// How many are before `at`.
  std::size_t before(std::int64_t at) const { return until(at - 1); }

  friend bool operator==(const Instants& a, const Instants& b) {
    if (a.size_ != b.size_) return false;
    if (a.period_ != 0 && a.period_ == b.period_ && a.regular_ == b.regular_)
      return a.empty() || (a.first_ == b.first_ && a.back() == b.back());
    for (std::size_t i = 0; i < a.size_; ++i) {
      if (a[i] != b[i]) return false;
    }
    return true;
  }

 private:
  std::vector<std::int64_t> all_;
  std::int64_t first_ = 0, period_ = 0, last_ = 0;  ///< period 0: all_ has them
  std::size_t regular_ = 0, size_ = 0;
};

}  // namespace isodyne::record
