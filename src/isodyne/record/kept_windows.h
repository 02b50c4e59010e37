#pragma once
// Triggered capture: rows wait in a ring until no late trigger can claim them. A trigger may be told late (the judge
// looks at images in blocks), so a row stays for the time before plus that delay.

#include <cstdint>
#include <deque>
#include <utility>
#include <vector>

namespace isodyne::record {

class KeptWindows {
 public:
  /// Times in ns. `columns` values a row; `rows` at most wait.
  KeptWindows(std::int64_t before, std::int64_t after, std::int64_t late, std::size_t rows, std::size_t columns);

  /// An instant to keep what is around.
  void keep_around(std::int64_t at);
  /// The place for the values of the next row; after it was filled, settle() says which rows are kept.
  double* add(std::int64_t at);
  /// Calls keep(time, values) for every row that is now known to be kept, in order. `last`: nothing comes any more.
  template <typename Keep>
  void settle(std::int64_t now, bool last, const Keep& keep) {
    while (count_ > 0) {
      const std::int64_t at = times_[begin_];
      while (!windows_.empty() && windows_.front().second < at) windows_.pop_front();
      const bool kept = !windows_.empty() && windows_.front().first <= at;
      const bool lost = at < settled_before_ || at + before_ + late_ < now || last;
      if (!kept && !lost) return;
      if (kept) keep(at, values_.data() + begin_ * columns_);
      begin_ = begin_ + 1 == times_.size() ? 0 : begin_ + 1;
      --count_;
    }
  }

 private:
  std::int64_t before_, after_, late_;
  std::size_t columns_, begin_ = 0, count_ = 0;
  std::int64_t settled_before_ = INT64_MIN;  ///< rows before it are in a window or lost
  std::vector<std::int64_t> times_;
  std::vector<double> values_;
  std::deque<std::pair<std::int64_t, std::int64_t>> windows_;  ///< in order, not overlapping
};

}  // namespace isodyne::record
