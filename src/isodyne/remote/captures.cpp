#include "isodyne/remote/captures.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/program/quick.h"

namespace isodyne::remote {

Captures::Captures(std::shared_ptr<const program::Program> program)
    : program_(std::move(program)), view_(program::quick_view(*program_)) {}

Time Captures::every(program::VarId id) const {
  const bool seen = std::binary_search(view_.columns.begin(), view_.columns.end(), id);
  return seen ? std::min(view_.period, program_->step) : program_->step;
}

double Captures::numbers(const Wish& wish) const {
  Time finest = program_->step;
  for (const program::VarId id : wish.ids) finest = std::min(finest, every(id));
  const double rows = static_cast<double>((wish.before + wish.after) / finest) + 1;
  return rows * static_cast<double>(wish.ids.size());
}

std::int64_t Captures::add(Wish wish, std::optional<observe::Image> newest) {
  One one;
  one.number = ++last_;
  for (const program::VarId id : wish.ids) one.quick = one.quick || every(id) < program_->step;
  one.wish = std::move(wish);
  if (all_.empty()) between_.emplace(*program_, view_);
  if (newest && one.wish.condition && one.wish.becomes) {
    one.was = one.wish.condition->truth(newest->variables);
    one.looked_before = true;
  }
  one.judge = std::make_unique<StretchJudge>(program_, one.wish.judged);
  if (newest) one.judge->image(*newest);
  all_.push_back(std::move(one));
  return last_;
}

bool Captures::remove(std::int64_t number) {
  return std::erase_if(all_, [&](const One& one) { return one.number == number; }) > 0;
}

void Captures::image(const observe::Image& image) {
  if (all_.empty()) return;
  const double* values = between_->image(image.variables);
  for (One& one : all_) see(one, image.at, values, &image);
  std::erase_if(all_, [](const One& one) { return one.number == 0; });
}

void Captures::rows(const observe::Rows& rows) {
  if (all_.empty()) return;
  for (std::size_t i = 0; i < rows.count; ++i) {
    const double* values = between_->row(to_seconds(rows.at(i)), rows.row(i));
    for (One& one : all_) see(one, rows.at(i), values, nullptr);
  }
  for (One& one : all_) one.judge->rows(rows);
  std::erase_if(all_, [](const One& one) { return one.number == 0; });
}

void Captures::keep(One& one, Time at, const double* image) {
  one.times.push_back(at);
  for (const program::VarId id : one.wish.ids) one.values.push_back(image[id]);
  if (one.came) return;
  const std::size_t late = one.wish.requirement != program::kNone ? kLateRows : 0;
  const auto old = [&](std::size_t row) { return row < one.times.size() && one.times[row] < at - one.wish.before; };
  while (old(late)) {
    one.times.pop_front();
    one.values.erase(one.values.begin(), one.values.begin() + static_cast<std::ptrdiff_t>(one.wish.ids.size()));
  }
}

void Captures::see(One& one, Time at, const double* image, const observe::Image* of_bench) {
  if (one.number == 0) return;
  if (!one.looked) one.since = at;
  const bool keeps = !one.wish.ids.empty() && (of_bench != nullptr || one.quick);
  if (keeps) keep(one, at, image);
  if (!one.came) {
    bool is = one.wish.requirement == program::kNone;
    if (one.wish.condition) is = one.wish.condition->truth(image);
    const bool begins =
        is && (!one.wish.condition || !one.wish.becomes || ((one.looked || one.looked_before) && !one.was));
    one.was = is;
    if (begins) one.came = at;
  }
  one.looked = true;
  if (one.came) one.judge->begin();
  if (of_bench != nullptr) one.judge->image(*of_bench);
  const bool whole = of_bench != nullptr || !one.judge->any();
  if (one.came && whole && at >= *one.came + one.wish.after) return finish(one, true, at);
  if (!one.came && one.wish.within && at - one.since >= *one.wish.within) finish(one, false, at);
}

void Captures::edges(const observe::Edges& edges) {
  for (One& one : all_) one.judge->edges(edges);
}

void Captures::event(const observe::Event& event) {
  if (event.kind != observe::EventKind::broken) return;
  for (One& one : all_) {
    if (!one.came && one.wish.requirement == event.subject) one.came = event.at;
  }
}

/// Number 0: there is nothing more to come of it.
void Captures::finish(One& one, bool came, Time newest, bool over) {
  Take take;
  take.over = over;
  take.number = one.number;
  take.came = came;
  take.at = came ? *one.came : newest;
  const Time begin = take.at - one.wish.before, end = take.at + one.wish.after;
  const std::size_t width = one.wish.ids.size();
  for (std::size_t i = 0; came && i < one.times.size(); ++i) {
    if (one.times[i] < begin || one.times[i] > end) continue;
    take.times.push_back(one.times[i]);
    const auto row = one.values.begin() + static_cast<std::ptrdiff_t>(i * width);
    take.values.insert(take.values.end(), row, row + static_cast<std::ptrdiff_t>(width));
  }
  if (came && width > 0) {
    const Time period = one.quick ? std::min(view_.period, program_->step) : program_->step;
    const auto gap =
        std::adjacent_find(take.times.begin(), take.times.end(), [&](Time a, Time b) { return b - a > period; });
    if (take.times.empty() || take.times.front() >= begin + period)
      take.lacks = "it was asked for too late to have all that was before";
    else if (newest < end)
      take.lacks = "the run was over before the end of it";
    else if (gap != take.times.end())
      take.lacks = fmt::format("instants are missing from {} on: the run was too quick for those who look at it",
                               format_instant(*gap));
    take.whole = take.lacks.empty();
  }
  take.judged = one.judge->end();
  done_.push_back(std::move(take));
  if (!one.wish.again || !came) {
    one.number = 0;
    return;
  }
  one.came.reset();  // what it has seen may be before the next one
  one.was = true;
}

void Captures::over() {
  for (One& one : all_) {
    if (one.number == 0) continue;
    one.wish.again = false;
    finish(one, one.came.has_value(), one.times.empty() ? one.since : one.times.back(), true);
  }
  all_.clear();
}

std::vector<Captures::Take> Captures::done() {
  std::vector<Take> all;
  std::swap(all, done_);
  return all;
}

}  // namespace isodyne::remote
