#include "isodyne/judge/witness.h"

#include <algorithm>
#include <limits>
#include <map>

namespace isodyne::judge {

Witness::Witness(std::vector<program::VarId> columns, std::vector<std::vector<std::int32_t>> reads, std::size_t batch)
    : columns_(std::move(columns)), width_(columns_.size()), batch_(batch) {
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
  // An instant waits for those behind it, and then for the end of the batch after that; before it there are some. Of
  // two neighbours in the stock one is half full at least.
  const std::size_t needed = 2 * kAround + 2 * batch;
  stock_.resize(4 * needed / batch + 2);
  for (Stock& s : stock_) {
    s.rows.resize(batch * width_);
    s.times.resize(batch);
  }
}

/// The next piece of the stock; the oldest goes for it.
Witness::Stock& Witness::fresh() {
  if (in_use_ == stock_.size()) {
    rows_here_ -= stock_[oldest_].count;
    oldest_ = (oldest_ + 1) % stock_.size();
    --in_use_;
  }
  Stock& s = stock_[(oldest_ + in_use_++) % stock_.size()];
  s.count = 0;
  return s;
}

void Witness::looked_at(std::vector<double>& rows, std::vector<Time>& times, std::size_t count) {
  if (stock_.empty()) return;
  rows_here_ += count;
  if (2 * count >= batch_) {
    Stock& s = fresh();
    std::swap(s.rows, rows);
    std::swap(s.times, times);
    s.count = count;
    return;
  }
  // A few, since something happened: with those before them.
  Stock* s = in_use_ > 0 ? &stock_[(oldest_ + in_use_ - 1) % stock_.size()] : nullptr;
  if (s == nullptr || s->count + count > batch_) s = &fresh();
  std::copy_n(times.begin(), count, s->times.begin() + static_cast<std::ptrdiff_t>(s->count));
  std::copy_n(rows.begin(), count * width_, s->rows.begin() + static_cast<std::ptrdiff_t>(s->count * width_));
  s->count += count;
}

void Witness::mark(std::size_t requirement, const std::optional<Time>& first_breach, const std::optional<Time>& worst) {
  if (requirement >= kept_.size() || kept_[requirement].reads.empty()) return;
  Kept& kept = kept_[requirement];
  note(kept, kept.first, first_breach);
  note(kept, kept.worst, worst);
}

/// Which of the rows that are here is of that instant, counted from the oldest.
std::optional<std::size_t> Witness::place_of(Time at) const {
  std::size_t before = 0;
  for (std::size_t i = 0; i < in_use_; ++i) {
    const Stock& s = stock_[(oldest_ + i) % stock_.size()];
    const auto end = s.times.begin() + static_cast<std::ptrdiff_t>(s.count);
    const auto found = std::lower_bound(s.times.begin(), end, at);
    if (found != end && *found == at) return before + static_cast<std::size_t>(found - s.times.begin());
    before += s.count;
  }
  return std::nullopt;
}

void Witness::note(const Kept& kept, Mark& mark, const std::optional<Time>& at) {
  if (at && mark.at != at) {
    mark.at = at;
    mark.taken = false;
    return;
  }
  if (mark.taken) return;
  const auto place = place_of(*mark.at);
  if (!place || rows_here_ - *place > kAround) take(kept, mark);
}

void Witness::take(const Kept& kept, Mark& mark) const {
  mark.taken = true;
  mark.times.clear();
  mark.rows.clear();
  const auto place = place_of(*mark.at);
  if (!place) return;  // it is not here any more
  const std::size_t from = *place > kAround ? *place - kAround : 0, to = std::min(rows_here_, *place + kAround + 1);
  std::size_t before = 0;
  for (std::size_t i = 0; i < in_use_; ++i) {
    const Stock& s = stock_[(oldest_ + i) % stock_.size()];
    for (std::size_t row = std::max(from, before); row < std::min(to, before + s.count); ++row) {
      mark.times.push_back(s.times[row - before]);
      for (const std::int32_t c : kept.reads)
        mark.rows.push_back(s.rows[(row - before) * width_ + static_cast<std::size_t>(c)]);
    }
    before += s.count;
  }
}

void Witness::finish() {
  for (Kept& kept : kept_) {
    for (Mark* m : {&kept.first, &kept.worst}) {
      if (!m->taken) take(kept, *m);
    }
  }
}

observe::Witnessed Witness::all() const {
  observe::Witnessed w;
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
