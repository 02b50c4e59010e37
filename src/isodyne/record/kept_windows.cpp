#include "isodyne/record/kept_windows.h"

#include <algorithm>

namespace isodyne::record {

KeptWindows::KeptWindows(std::int64_t before, std::int64_t after, std::int64_t late, std::size_t rows,
                         std::size_t columns)
    : before_(before), after_(after), late_(late), columns_(columns), times_(rows), values_(rows * columns) {}

void KeptWindows::keep_around(std::int64_t at) {
  const std::int64_t from = at - before_, to = at + after_;
  settled_before_ = std::max(settled_before_, from - late_);
  if (!windows_.empty() && from <= windows_.back().second) {
    windows_.back().first = std::min(windows_.back().first, from);
    windows_.back().second = std::max(windows_.back().second, to);
  } else {
    windows_.emplace_back(from, to);
  }
}

double* KeptWindows::add(std::int64_t at) {
  const std::size_t place = (begin_ + count_) % times_.size();
  if (count_ == times_.size()) {
    begin_ = begin_ + 1 == times_.size() ? 0 : begin_ + 1;  // cannot be: settle() has made room
  } else {
    ++count_;
  }
  times_[place] = at;
  return values_.data() + place * columns_;
}

}  // namespace isodyne::record
