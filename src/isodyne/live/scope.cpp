#include "isodyne/live/scope.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::live {

namespace {

constexpr double kLongest = 24 * 3600, kShortest = 1e-6;

/// "20 ms": a span with a unit that fits.
std::string span_text(double s) {
  const double a = std::abs(s);
  if (a == 0) return "0 s";
  if (a < 1e-6) return format_number(s * 1e9) + " ns";
  if (a < 1e-3) return format_number(s * 1e6) + " us";
  if (a < 1) return format_number(s * 1e3) + " ms";
  if (a < 600) return format_number(s) + " s";
  return format_number(s / 60) + " min";
}

}  // namespace

const char* Scope::help() {
  return "space stands still or goes on   + - time   [ ] value   left right cursor   m mark   "
         "x cursor and mark away   r rolling or captured";
}

void Scope::toggle(const std::string& name) {
  const auto found = std::find(names.begin(), names.end(), name);
  if (found == names.end())
    names.push_back(name);
  else
    names.erase(found);
}

const std::vector<std::string>& Scope::shown(const Mirror& run) const {
  return shows_capture && !run.captures.empty() ? run.captures.back().names : names;
}

const History& Scope::rows(const Mirror& run, const std::string& name) const {
  if (!shows_capture || run.captures.empty()) return run.history(name);
  static const History none;
  const auto& all = run.captures.back().rows;
  const auto found = all.find(name);
  return found == all.end() ? none : found->second;
}

Scope::Window Scope::window(const Mirror& run) const {
  if (shows_capture && !run.captures.empty()) {
    const Captured& c = run.captures.back();
    const double least = std::max(c.to - c.from, kShortest);
    return {capture_from_.value_or(c.from), capture_to_.value_or(c.from + least)};
  }
  const double end = stands_at_.value_or(run.now);
  return {end - span_, end};
}

std::string Scope::head(const Mirror& run, const Window& w) const {
  std::string text = span_text(w.to - w.from);
  if (shows_capture && !run.captures.empty()) {
    const Captured& c = run.captures.back();
    text = fmt::format("captured around {}, {}, each drawn; {} of it are seen", clock_text(c.at, run.step),
                       counted(c.count, "row"), text);
    if (!c.whole) text += "; not whole: " + c.lacks;
  } else {
    text += stands_at_ ? ", stands still (recording goes on)" : ", rolling";
    text += ": from least to greatest between two pictures";
    double since = HUGE_VAL;
    for (const std::string& name : names) {
      const auto& all = run.history(name).all();
      if (!all.empty()) since = std::min(since, all.front().from);
    }
    if (since > w.from && std::isfinite(since)) text += "; seen here since " + clock_text(since, run.step);
  }
  return text;
}

std::string Scope::value_at(const Mirror& run, const std::string& name, double t) const {
  const Signal* s = run.signal(name);
  const Stretch* at = rows(run, name).at(t);
  if (s == nullptr || at == nullptr) return "not seen";
  if (!at->any()) return "no number";
  if (shows_capture || at->least == at->greatest) return number_text(*s, at->last);
  return number_text(*s, at->least) + " .. " + number_text(*s, at->greatest);
}

/// Values where the cursor is, and how far they are from the mark.
void Scope::read_out(Grid& grid, const Area& a, const Mirror& run, const Window&) const {
  std::string line = "cursor " + clock_text(*cursor_, 1e-6);
  if (mark_) {
    const double d = *cursor_ - *mark_;
    line += fmt::format("   from the mark {}", span_text(d));
    if (d != 0) line += fmt::format(" = 1/({} Hz)", format_number(1 / std::abs(d)));
  }
  grid.put(a.x, a.y, line, {Ink::strong}, a.width);
  int y = a.y + 1;
  for (const std::string& name : shown(run)) {
    if (y >= a.y + a.height) break;
    std::string text = fmt::format("{}  {}", name, value_at(run, name, *cursor_));
    const Signal* s = run.signal(name);
    const Stretch *at = rows(run, name).at(*cursor_), *from = mark_ ? rows(run, name).at(*mark_) : nullptr;
    if (s != nullptr && s->number() && at != nullptr && from != nullptr && at->any() && from->any()) {
      Signal difference = *s;
      difference.offset = 0;
      text += "   from the mark " + number_text(difference, at->last - from->last);
    }
    grid.put(a.x, y++, text, {}, a.width);
  }
}

void Scope::draw(Grid& grid, const Area& area, const Mirror& run, bool focused) {
  grid.box(area, "scope", {focused ? Ink::focus : Ink::frame});
  Area in = area.inner();
  if (in.width < 20 || in.height < 3) return;
  const Window w = window(run);
  const std::vector<std::string>& all = shown(run);
  if (all.empty()) {
    grid.put(in.x, in.y, "no signal: s on a signal brings it here, or `scope NAME…`", {Ink::dim}, in.width);
    return;
  }
  grid.put(in.x, in.y, head(run, w), {shows_capture ? Ink::strong : Ink::dim}, in.width);
  in.y += 1, in.height -= 1;
  if (cursor_) {
    const int lines = std::min(static_cast<int>(all.size()) + 1, in.height / 2);
    read_out(grid, {in.x, in.y + in.height - lines, in.width, lines}, run, w);
    in.height -= lines;
  }
  // Lanes by axis, in the order in which they come.
  std::vector<std::pair<std::string, std::vector<std::string>>> lanes;
  for (const std::string& name : all) {
    const Signal* s = run.signal(name);
    if (s == nullptr) continue;
    const auto found = std::find_if(lanes.begin(), lanes.end(), [&](const auto& l) { return l.first == s->axis(); });
    if (found == lanes.end())
      lanes.push_back({s->axis(), {name}});
    else
      found->second.push_back(name);
  }
  const int fit = std::max(1, in.height / 3), lanes_shown = std::min(static_cast<int>(lanes.size()), fit);
  if (lanes_shown < static_cast<int>(lanes.size()))
    grid.put(area.x + 2, area.y + area.height - 1,
             fmt::format(" {} more below: make room ",
                         counted(lanes.size() - static_cast<std::size_t>(lanes_shown), "lane")),
             {Ink::warn}, area.width - 4);
  if (in.height > 6) {  // the axis that all lanes have
    const int line = in.y + --in.height, left = in.x + 10;
    const std::string from = clock_text(w.from, run.step), to = clock_text(w.to, run.step);
    if (w.from >= 0) grid.put(left, line, from, {Ink::dim}, in.width - 10);
    const std::string middle = clock_text((w.from + w.to) / 2, run.step);
    if (in.width > 70 && w.from + w.to >= 0)
      grid.put(left + (in.width - 10) / 2 - columns_of(middle) / 2, line, middle, {Ink::dim});
    grid.put_right(in.x + in.width, line, to, {Ink::dim});
  }
  int ink = 0, y = in.y;
  for (int i = 0; i < lanes_shown; ++i) {
    const int height = in.height / lanes_shown + (i < in.height % lanes_shown ? 1 : 0);
    std::vector<Trace> traces;
    std::vector<std::string> texts;
    const int first_ink = ink;
    for (const std::string& name : lanes[static_cast<std::size_t>(i)].second) {
      const Signal* s = run.signal(name);
      const bool unit = s != nullptr && s->number() && !s->unit.empty();
      texts.push_back(shows_capture || stands_at_ ? (unit ? fmt::format("{} [{}]", name, s->unit) : name)
                                                  : fmt::format("{} {}", name, run.value(name).read));
      traces.push_back({name, &rows(run, name), ink++ % kTraceInks});
    }
    const int above = put_names(grid, {in.x, y, in.width, std::max(1, height / 2)}, texts, first_ink);
    const Area lane{in.x, y + above, in.width, height - above};
    draw_lane(grid, lane, *run.signal(traces.front().name), traces, w.from, w.to, value_zoom_);
    const auto column = [&](double t) {
      return lane.x + 10 + static_cast<int>((t - w.from) / (w.to - w.from) * (lane.width - 10));
    };
    for (const auto& [t, glyph] : {std::pair{mark_, U'·'}, std::pair{cursor_, U'│'}}) {
      if (!t || *t < w.from || *t > w.to) continue;
      for (int k = 0; k < lane.height; ++k) {
        const int at = std::min(column(*t), lane.x + lane.width - 1);
        if (grid.at(at, lane.y + k).glyph == U' ') grid.set(at, lane.y + k, glyph, {Ink::focus});
      }
    }
    y += height;
  }
}

void Scope::zoom_time(double by, const Window& w, const Mirror& run) {
  const double span = std::clamp((w.to - w.from) * by, kShortest, kLongest);
  if (shows_capture && !run.captures.empty()) {
    const double middle = cursor_.value_or((w.from + w.to) / 2), share = (middle - w.from) / (w.to - w.from);
    capture_from_ = middle - span * share;
    capture_to_ = *capture_from_ + span;
  } else {
    if (stands_at_ && cursor_) {
      const double share = (w.to - *cursor_) / (w.to - w.from);
      stands_at_ = *cursor_ + span * share;
    }
    span_ = span;
  }
}

bool Scope::key(const Key& key, const Mirror& run) {
  const Window w = window(run);
  const double step = (w.to - w.from) / 100;
  const auto move = [&](double by) {
    if (!shows_capture && !stands_at_) stands_at_ = run.now;
    cursor_ = std::clamp(cursor_.value_or((w.from + w.to) / 2) + by, w.from, w.to);
  };
  switch (key.kind) {
    case Key::Kind::left:
      return move(-step), true;
    case Key::Kind::right:
      return move(step), true;
    case Key::Kind::wheel_up:
      return zoom_time(0.8, w, run), true;
    case Key::Kind::wheel_down:
      return zoom_time(1.25, w, run), true;
    case Key::Kind::letter:
      break;
    default:
      return false;
  }
  switch (key.letter) {
    case U' ':
      if (stands_at_)
        stands_at_.reset(), cursor_.reset(), mark_.reset();
      else
        stands_at_ = run.now;
      return true;
    case U'+':
      return zoom_time(0.5, w, run), true;
    case U'-':
      return zoom_time(2, w, run), true;
    case U']':
      return value_zoom_ = std::min(value_zoom_ * 2, 1e6), true;
    case U'[':
      return value_zoom_ = std::max(value_zoom_ / 2, 1.0 / 64), true;
    case U'm':
      if (cursor_) mark_ = cursor_;
      return true;
    case U'x':
      return cursor_.reset(), mark_.reset(), true;
    case U'r':
      if (run.captures.empty()) return true;
      shows_capture = !shows_capture;
      capture_from_.reset(), capture_to_.reset(), cursor_.reset(), mark_.reset();
      return true;
    default:
      return false;
  }
}

}  // namespace isodyne::live
