#include "isodyne/judge/witness.h"

#include <algorithm>
#include <limits>
#include <map>

namespace isodyne::judge {

Witness::Witness(std::vector<model::VarId> columns, std::vector<std::vector<std::int32_t>> reads, std::size_t block)
    : columns_(std::move(columns)), width_(columns_.size()) {
  // An instant waits for those behind it, and then for the end of the block that they are in; before it there are some.
  const std::size_t needed = 2 * kAround + 3 * block;
  room_ = 2 * needed;  // moved to the front only now and then
  if (reads.size() > kMostRequirements) reads.resize(kMostRequirements);
  const bool any = std::any_of(reads.begin(), reads.end(), [](const auto& r) { return !r.empty(); });
  if (!any || width_ > kMostColumns) return;
  constexpr std::size_t kRows = 2 * kAround + 1;
  for (auto& r : reads) {
    Kept& kept = kept_.emplace_back();
    kept.reads = std::move(r);
    for (Mark* m : {&kept.first, &kept.worst}) {  // taking one during a run allocates nothing
      m->times.reserve(kRows);
      m->rows.reserve(kRows * kept.reads.size());
    }
  }
  times_.resize(room_);
  rows_.resize(room_ * width_);
}

void Witness::looked_at(const double* rows, const Time* times, std::size_t count) {
  if (kept_.empty()) return;
  if (count_ + count > room_) {
    const std::size_t stay = std::min(count_, room_ / 2), from = count_ - stay;
    std::copy_n(times_.begin() + static_cast<std::ptrdiff_t>(from), stay, times_.begin());
    std::copy_n(rows_.begin() + static_cast<std::ptrdiff_t>(from * width_), stay * width_, rows_.begin());
    count_ = stay;
  }
  std::copy_n(times, count, times_.begin() + static_cast<std::ptrdiff_t>(count_));
  std::copy_n(rows, count * width_, rows_.begin() + static_cast<std::ptrdiff_t>(count_ * width_));
  count_ += count;
}

void Witness::mark(std::size_t requirement, const std::optional<Time>& first_breach, const std::optional<Time>& worst) {
  if (requirement >= kept_.size() || kept_[requirement].reads.empty()) return;
  Kept& kept = kept_[requirement];
  note(kept, kept.first, first_breach, false);
  note(kept, kept.worst, worst, false);
}

void Witness::note(Kept& kept, Mark& mark, const std::optional<Time>& at, bool last) {
  if (at && mark.at != at) {
    mark.at = at;
    mark.taken = false;
    return;
  }
  if (mark.taken) return;
  const auto end = times_.begin() + static_cast<std::ptrdiff_t>(count_);
  const auto place = std::lower_bound(times_.begin(), end, *mark.at);
  const bool whole = end - place > static_cast<std::ptrdiff_t>(kAround);
  if (whole || last || place == times_.begin()) take(kept, mark);
}

void Witness::take(const Kept& kept, Mark& mark) const {
  mark.taken = true;
  mark.times.clear();
  mark.rows.clear();
  const auto end = times_.begin() + static_cast<std::ptrdiff_t>(count_);
  const auto place = std::lower_bound(times_.begin(), end, *mark.at);
  if (place == end || *place != *mark.at) return;  // it is not here any more
  const auto at = static_cast<std::size_t>(place - times_.begin());
  const std::size_t from = at > kAround ? at - kAround : 0, to = std::min(count_, at + kAround + 1);
  for (std::size_t i = from; i < to; ++i) {
    mark.times.push_back(times_[i]);
    for (const std::int32_t c : kept.reads) mark.rows.push_back(rows_[i * width_ + static_cast<std::size_t>(c)]);
  }
}

void Witness::finish() {
  for (Kept& kept : kept_) {
    for (Mark* m : {&kept.first, &kept.worst}) {
      if (!m->taken) take(kept, *m);
    }
  }
}

Witnessed Witness::all() const {
  Witnessed w;
  w.columns = columns_;
  std::map<Time, std::size_t> place;
  for (const Kept& kept : kept_) {
    for (const Mark* m : {&kept.first, &kept.worst}) {
      for (const Time t : m->times) place.try_emplace(t, 0);
    }
  }
  for (auto& [time, row] : place) {
    row = w.times.size();
    w.times.push_back(time);
  }
  w.rows.assign(w.times.size() * width_, std::numeric_limits<double>::quiet_NaN());
  for (const Kept& kept : kept_) {
    for (const Mark* m : {&kept.first, &kept.worst}) {
      for (std::size_t i = 0; i < m->times.size(); ++i) {
        double* row = w.rows.data() + place.at(m->times[i]) * width_;
        for (std::size_t c = 0; c < kept.reads.size(); ++c) row[kept.reads[c]] = m->rows[i * kept.reads.size() + c];
      }
    }
  }
  return w;
}

}  // namespace isodyne::judge
