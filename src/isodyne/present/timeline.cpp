#include "isodyne/present/timeline.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::present {

using Kind = program::ScenarioStep::Kind;

namespace {

/// From when to when something can be.
struct Window {
  Time earliest{};
  std::optional<Time> latest = Time{};

  Window later(Time least, std::optional<Time> most) const {
    Window w = *this;
    w.earliest += least;
    if (w.latest && most)
      *w.latest += *most;
    else
      w.latest.reset();
    return w;
  }
};

class Walk {
 public:
  Walk(const program::Program& p, const program::Scenario& s, Timeline& out) : p_(p), s_(s), out_(out) {}

  /// Steps [begin, end), which begin within `now`; gives when they are over.
  Window run(std::size_t begin, std::size_t end, Window now, std::size_t depth) {
    for (std::size_t at = begin; at < end;) {
      const program::ScenarioStep& step = s_.steps[at];
      switch (step.kind) {
        case Kind::repeat:
          now = repeat(at, now, depth);
          at = static_cast<std::size_t>(step.places[0]);
          break;
        case Kind::fork:
        case Kind::either:
          now = branches(at, now, depth, at);
          break;
        case Kind::again:
        case Kind::jump:
        case Kind::join:
          ++at;
          break;
        default:
          now = plain(step, now, depth);
          ++at;
      }
    }
    return now;
  }

 private:
  void row(const program::ScenarioStep& step, const Window& now, Time lasts, std::size_t depth, std::string text) {
    out_.rows.push_back({depth, now.earliest, now.latest, lasts, std::move(text), p_.sources->place(step.span)});
  }

  Window plain(const program::ScenarioStep& step, const Window& now, std::size_t depth) {
    const bool takes = step.kind == Kind::hold || step.kind == Kind::ramp || step.kind == Kind::play ||
                       (step.kind == Kind::expect && step.whole);
    const bool up_to = step.kind == Kind::wait || (step.kind == Kind::expect && step.timed && !step.whole);
    row(step, now, takes || up_to ? step.duration : Time{}, depth, step.text);
    return now.later(takes ? step.duration : Time{}, takes || up_to ? step.duration : Time{});
  }

  Window repeat(std::size_t at, const Window& now, std::size_t depth) {
    const program::ScenarioStep& step = s_.steps[at];
    const auto times =
        step.whole ? std::nullopt : program::fold(p_, step.value, [](program::VarId) { return std::nullopt; });
    row(step, now, Time{}, depth,
        times ? fmt::format("repeat {} times; the first time:", *times) : "repeat, perhaps often:");
    const Window once = run(at + 1, static_cast<std::size_t>(step.places[0]), now, depth + 1);
    if (!times || !once.latest || !now.latest) return {now.earliest, std::nullopt};
    const auto n = static_cast<std::int64_t>(std::llround(*times));
    return {now.earliest + n * (once.earliest - now.earliest), *now.latest + n * (*once.latest - *now.latest)};
  }

  Window branches(std::size_t at, const Window& now, std::size_t depth, std::size_t& next) {
    const program::ScenarioStep& step = s_.steps[at];
    const bool tracks = step.kind == Kind::fork;
    const std::size_t count = step.places.size() - (tracks ? 1 : 0);
    std::optional<Window> all;
    for (std::size_t i = 0; i < count; ++i) {
      const auto begin = static_cast<std::size_t>(step.places[i]);
      // Each ends with a jump or a join; the next one begins behind it.
      const std::size_t end = i + 1 < step.places.size() && (tracks || i + 1 < count)
                                  ? static_cast<std::size_t>(step.places[i + 1])
                                  : last(begin);
      row(step, now, Time{}, depth, tracks ? "track " + step.names[i] : fmt::format("either, {} of {}:", i + 1, count));
      const Window one = run(begin, end, now, depth + 1);
      next = end;
      if (!all) {
        all = one;
        continue;
      }
      all->earliest = tracks ? std::max(all->earliest, one.earliest) : std::min(all->earliest, one.earliest);
      if (all->latest && one.latest)
        all->latest = std::max(*all->latest, *one.latest);
      else
        all->latest.reset();
    }
    return all.value_or(now);
  }

  /// Behind the jump that ends the last alternative.
  std::size_t last(std::size_t begin) const {
    std::size_t depth = 0;
    for (std::size_t at = begin; at < s_.steps.size(); ++at) {
      if (s_.steps[at].kind == Kind::either) depth += s_.steps[at].places.size();
      if (s_.steps[at].kind == Kind::jump && depth-- == 0) return at + 1;
    }
    return s_.steps.size();
  }

  const program::Program& p_;
  const program::Scenario& s_;
  Timeline& out_;
};

}  // namespace

Timeline timeline_of(const program::Program& p, const program::Scenario& s) {
  Timeline t;
  for (const program::Scenario::Start& start : s.start)
    t.rows.push_back({0, Time{}, Time{}, Time{}, p.sources->in_one_line(start.span), p.sources->place(start.span)});
  const Window end = Walk(p, s, t).run(0, s.steps.size(), {}, 0);
  for (const program::Scenario::End& e : s.ends)
    t.rows.push_back({0, Time{}, std::nullopt, Time{}, p.sources->in_one_line(e.span), p.sources->place(e.span)});
  t.earliest = s.ends.empty() ? end.earliest : Time{};
  t.latest = end.latest;
  return t;
}

std::string timeline_bar(const TimelineRow& row, Time whole, std::size_t width) {
  std::string bar(width, '.');
  if (whole.count() <= 0 || width == 0) return bar;
  const auto cell = [&](Time t) {
    const double share = static_cast<double>(t.count()) / static_cast<double>(whole.count());
    return std::min(width - 1, static_cast<std::size_t>(share * static_cast<double>(width - 1) + 0.5));
  };
  const Time latest = row.latest.value_or(whole);
  for (std::size_t i = cell(row.earliest); i <= cell(latest + row.lasts); ++i) bar[i] = '-';
  for (std::size_t i = cell(row.earliest); i <= cell(row.earliest + row.lasts); ++i) {
    if (row.latest == row.earliest) bar[i] = '=';
  }
  if (row.lasts.count() == 0 && row.latest == row.earliest) bar[cell(row.earliest)] = '|';
  return bar;
}

}  // namespace isodyne::present
