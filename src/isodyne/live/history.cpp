#include "isodyne/live/history.h"

#include <algorithm>

namespace isodyne::live {

void History::add(double to, double least, double greatest, double last) {
  if (!all_.empty() && !(to > all_.back().to)) return;
  Stretch s{all_.empty() || gap_ ? to : all_.back().to, to, least, greatest, last};
  gap_ = false;
  if (!std::isfinite(least) || !std::isfinite(greatest)) s.least = HUGE_VAL, s.greatest = -HUGE_VAL;
  all_.push_back(s);
  if (all_.size() < kMost) return;
  // The older half is told in half as many stretches; gaps stay gaps.
  std::vector<Stretch> kept;
  const std::size_t half = all_.size() / 2;
  for (std::size_t i = 0; i < half; ++i) {
    if (i + 1 >= half || all_[i + 1].from > all_[i].to || all_[i].any() != all_[i + 1].any()) {
      kept.push_back(all_[i]);
      continue;
    }
    const Stretch &a = all_[i], &b = all_[i + 1];
    kept.push_back({a.from, b.to, std::min(a.least, b.least), std::max(a.greatest, b.greatest), b.last});
    ++i;
  }
  kept.insert(kept.end(), all_.begin() + static_cast<std::ptrdiff_t>(half), all_.end());
  all_ = std::move(kept);
}

void History::add_row(double to, double before, double value) {
  if (!std::isfinite(before)) before = value;
  Stretch s{all_.empty() ? to : all_.back().to, to, std::min(before, value), std::max(before, value), value};
  if (!std::isfinite(value)) s.least = HUGE_VAL, s.greatest = -HUGE_VAL;
  all_.push_back(s);
}

std::size_t History::first_touching(double from) const {
  const auto first =
      std::lower_bound(all_.begin(), all_.end(), from, [](const Stretch& s, double t) { return s.to < t; });
  return static_cast<std::size_t>(first - all_.begin());
}

Stretch History::fold(double from, double to) const {
  Stretch all{from, to, HUGE_VAL, -HUGE_VAL, NAN};
  for (std::size_t i = first_touching(from); i < all_.size() && all_[i].from <= to; ++i) {
    all.least = std::min(all.least, all_[i].least);
    all.greatest = std::max(all.greatest, all_[i].greatest);
    if (all_[i].to <= to || std::isnan(all.last)) all.last = all_[i].last;
  }
  return all;
}

const Stretch* History::at(double t) const {
  const std::size_t i = first_touching(t);
  return i < all_.size() && all_[i].from <= t ? &all_[i] : nullptr;
}

}  // namespace isodyne::live
