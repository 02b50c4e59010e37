#include "isodyne/live/desk.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/live/scope.h"

namespace isodyne::live {

namespace {

constexpr int kLeastBox = 36, kMostBox = 76, kLeastValue = 14, kLeastNumber = 9, kTraceLines = 7, kMostTrace = 16;
/// A terminal does not say when a key is let go; held down it says it again after half a second, and then quicker.
constexpr auto kKeyHeld = std::chrono::milliseconds(700);
constexpr auto kPressAgain = std::chrono::milliseconds(500);

const char* role_board(const Signal& s) {
  if (s.truth()) return "toggle";
  return !s.labels.empty() ? "choose" : s.limits ? "slide" : "value";
}

}  // namespace

const char* Desk::help() {
  return "tab up down to the next   enter or space operates   left right choose or slide   v a value";
}

bool Desk::Row::operated() const {
  static const std::set<std::string> kinds{"choose", "press", "toggle", "slide", "value"};
  return item != nullptr && kinds.contains(item->kind);
}

std::vector<Desk::Box> Desk::boxes(const Mirror& run) const {
  std::vector<Box> all;
  for (const Board& board : run.boards.empty() ? own_ : run.boards) {
    Box box{&board, {}, {}};
    for (const Item& item : board.items) {
      if (item.kind == "trace") {
        box.rows.push_back({&item, "", item.label.empty() ? listed(item.names) : item.label, kTraceLines});
        continue;
      }
      for (const std::string& name : item.names)
        box.rows.push_back({&item, name, item.label.empty() || item.names.size() > 1 ? name : item.label, 1});
    }
    all.push_back(std::move(box));
  }
  return all;
}

/// Boxes beside and under each other; traces take the room that is left, or give some.
void Desk::place(std::vector<Box>& all, const Area& area) const {
  const int most = std::max(1, area.width / kLeastBox);
  const int columns = std::min(most, std::max(1, static_cast<int>(all.size())));
  const int width = std::min(area.width / columns, columns == 1 ? area.width : kMostBox);
  std::vector<int> filled(static_cast<std::size_t>(columns), 0), last(filled.size(), -1);
  std::vector<std::vector<std::size_t>> of(filled.size());
  const auto height_of = [](const Box& b) {
    int h = 2;
    for (const Row& r : b.rows) h += r.height;
    return h;
  };
  for (std::size_t i = 0; i < all.size(); ++i) {
    const auto least = static_cast<std::size_t>(std::min_element(filled.begin(), filled.end()) - filled.begin());
    of[least].push_back(i);
    filled[least] += height_of(all[i]);
  }
  for (std::size_t c = 0; c < of.size(); ++c) {
    std::vector<Row*> traces;
    for (const std::size_t i : of[c]) {
      for (Row& r : all[i].rows) {
        if (r.item->kind == "trace") traces.push_back(&r);
      }
    }
    int spare = area.height - filled[c];
    for (bool moved = true; moved && spare != 0 && !traces.empty();) {
      moved = false;
      for (Row* r : traces) {
        const int to = r->height + (spare > 0 ? 1 : -1);
        if (spare == 0 || to < 4 || to > kMostTrace) continue;
        r->height = to;
        spare -= spare > 0 ? 1 : -1;
        moved = true;
      }
    }
    int y = area.y - scroll_;
    for (const std::size_t i : of[c]) {
      const int h = height_of(all[i]);
      all[i].area = {area.x + static_cast<int>(c) * width, y, width, h};
      y += h;
    }
  }
}

std::vector<std::pair<Desk::Row, Area>> Desk::operated(const Mirror& run) const {
  std::vector<Box> all = boxes(run);
  place(all, drawn_);
  std::vector<std::pair<Row, Area>> found;
  for (const Box& b : all) {
    int y = b.area.y + 1;
    for (const Row& r : b.rows) {
      if (r.operated()) found.push_back({r, {b.area.x + 1, y, b.area.width - 2, r.height}});
      y += r.height;
    }
  }
  return found;
}

/// Of the labels of a box: as wide as the widest, where that leaves room for values.
int Desk::label_columns(const Box& box) {
  int widest = 0;
  for (const Row& r : box.rows) {
    if (r.item->kind != "trace") widest = std::max(widest, columns_of(r.label) + 2);
  }
  return std::clamp(widest, 12, std::max(12, box.area.width - 4 - kLeastValue));
}

void Desk::draw_row(Grid& grid, const Area& a, int half, const Row& row, const Mirror& run, bool here) {
  const Item& item = *row.item;
  if (item.kind == "trace") {
    std::vector<Trace> traces;
    std::vector<std::string> texts;
    int ink = 0;
    for (const std::string& name : item.names) {
      traces.push_back({name, &run.history(name), ink++ % kTraceInks});
      texts.push_back(name + " " + run.value(name).read);
    }
    const int above = put_names(grid, {a.x, a.y, a.width, std::max(1, a.height / 2)}, texts, 0);
    const Signal* s = run.signal(item.names.front());
    const double over = item.over > 0 ? item.over : 60;
    if (s != nullptr)
      draw_lane(grid, {a.x, a.y + above, a.width, a.height - above}, *s, traces, run.now - over, run.now, 1);
    return;
  }
  const Signal* s = run.signal(row.name);
  const Value v = run.value(row.name);
  if (s == nullptr) return;
  const bool waits = asked_.contains(row.name);
  grid.put(a.x, a.y, row.label, {here ? Ink::focus : Ink::plain}, half - 1);
  const int x = a.x + half, room = a.width - half;
  const auto value = [&](const std::string& text, Style style) {
    grid.put(x, a.y, text + (waits ? " …" : ""), style, room);
  };
  if (v.read.empty()) {
    value("not known yet", {Ink::dim});
  } else if (item.kind == "lamp") {
    const bool on = v.si != 0;
    grid.put(x, a.y, on ? "●" : "○", {on ? Ink::good : Ink::dim}, room);
    grid.put(x + 2, a.y, on ? "on" : "off", {on ? Ink::strong : Ink::dim}, room - 2);
  } else if (item.kind == "toggle") {
    value(v.si != 0 ? "[ on  ]" : "[ off ]", {v.si != 0 ? Ink::strong : Ink::plain});
  } else if (item.kind == "press") {
    value(v.si != 0 ? "[ pressed ]" : "[ press ]", {v.si != 0 ? Ink::strong : Ink::plain});
  } else if (item.kind == "choose") {
    const auto meant = meant_.find(row.name);
    if (here && meant != meant_.end() && meant->second != v.read)
      value(fmt::format("{} ▶ {}", v.read, meant->second), {Ink::warn});
    else
      value(here ? fmt::format("◀ {} ▶", v.read) : v.read, {Ink::strong});
  } else if ((item.kind == "bar" || item.kind == "slide") && item.range && std::isfinite(v.si)) {
    const int bar = std::clamp(room - kLeastNumber, 0, 24);
    const auto [least, greatest] = *item.range;
    const double share = (v.si - least) / (greatest - least);
    const int full = static_cast<int>(std::lround(std::clamp(share, 0.0, 1.0) * bar));
    for (int i = 0; i < bar; ++i) grid.set(x + i, a.y, i < full ? U'█' : U'░', {i < full ? Ink::good : Ink::dim});
    if (bar > 0 && share < -1e-9) grid.set(x, a.y, U'◀', {Ink::warn});
    if (bar > 0 && share > 1 + 1e-9) grid.set(x + bar - 1, a.y, U'▶', {Ink::warn});
    grid.put(x + bar + (bar > 0 ? 1 : 0), a.y, v.read + (waits ? " …" : ""), {Ink::strong}, room - bar - 1);
  } else {
    value(v.read, {Ink::strong});
  }
}

void Desk::draw(Grid& grid, const Area& area, const Mirror& run, bool focused) {
  drawn_ = area;
  if (run.known && run.boards.empty() && own_.empty()) {
    // What can be operated, where nobody has said what matters.
    Board board{"inputs", "this bench declares no panel: its inputs", {}};
    for (const Signal& s : run.signals()) {
      if (s.role == "input") board.items.push_back({role_board(s), "", {s.name}, s.limits, 0, 0});
    }
    own_.push_back(std::move(board));
  }
  auto all_operated = operated(run);
  focus_ = std::clamp(focus_, 0, std::max(0, static_cast<int>(all_operated.size()) - 1));
  // What has the focus is in sight.
  if (!all_operated.empty() && focused) {
    const Area& f = all_operated[static_cast<std::size_t>(focus_)].second;
    if (f.y < area.y + 1) scroll_ -= area.y + 1 - f.y;
    if (f.y + 1 >= area.y + area.height) scroll_ += f.y + 2 - area.y - area.height;
    scroll_ = std::max(0, scroll_);
  }
  std::vector<Box> all = boxes(run);
  place(all, area);
  Grid page(grid.width(), area.y + area.height, grid.plain_ascii());
  int lowest = 0;
  for (const Box& b : all) {
    page.box(b.area, b.board->title.empty() ? b.board->name : b.board->title);
    int y = b.area.y + 1;
    for (const Row& r : b.rows) {
      const bool here = focused && !all_operated.empty() && r.operated() &&
                        r.item == all_operated[static_cast<std::size_t>(focus_)].first.item &&
                        r.name == all_operated[static_cast<std::size_t>(focus_)].first.name;
      draw_row(page, {b.area.x + 2, y, b.area.width - 4, r.height}, label_columns(b), r, run, here);
      y += r.height;
    }
    lowest = std::max(lowest, b.area.y + b.area.height);
  }
  for (int y = area.y; y < area.y + area.height; ++y) {
    for (int x = area.x; x < area.x + area.width; ++x) grid.set(x, y, page.at(x, y).glyph, page.at(x, y).style);
  }
  if (lowest > area.y + area.height)
    grid.put_right(area.x + area.width - 1, area.y + area.height - 1, " more below: page down ", {Ink::warn});
}

void Desk::set(Mirror& run, const std::string& name, const Json& value) {
  asked_.insert(name);
  run.ask("set", {{"name", name}, {"value", value}}, [this, &run, name](const Json& answer) {
    asked_.erase(name);
    if (answer.contains("error")) return run.say(answer["error"].value("message", "it was refused"), true);
    const Json& result = answer.at("result");
    if (result.value("waits", false))
      run.say(name + ": at the next instant: the run stands");
    else
      run.say(fmt::format("{} set at {}", name, clock_text(result.value("at_s", 0.0), run.step)));
  });
}

/// Held for as long as somebody says so: where nobody does any more, because the line is broken, it is let go. A run in
/// lockstep would be through with any time at once.
void Desk::press(Mirror& run, Clock::time_point now) {
  press_again_ = now + kPressAgain;
  if (!run.paced) return set(run, held_, true);
  const double over = 4 * std::chrono::duration<double>(kPressAgain).count() * run.speed;
  run.ask("press", {{"name", held_}, {"over", fmt::format("{} s", format_exact(over))}}, [&run](const Json& answer) {
    if (answer.contains("error")) run.say(answer["error"].value("message", "it was refused"), true);
  });
}

void Desk::let_go(Mirror& run) {
  if (held_.empty()) return;
  set(run, held_, false);
  held_.clear();
}

void Desk::tick(Mirror& run, Clock::time_point now) {
  if (!held_.empty() && !held_by_mouse_ && now >= held_until_) let_go(run);
  if (!held_.empty() && run.paced && now >= press_again_) press(run, now);
}

void Desk::act(const Row& row, Mirror& run, Clock::time_point now, int direction) {
  const Signal* s = run.signal(row.name);
  const Value v = run.value(row.name);
  if (s == nullptr) return;
  if (v.read.empty()) return run.say(row.name + " is not known yet", true);
  const std::string& kind = row.item->kind;
  if (kind == "toggle" && direction == 0) return set(run, row.name, v.si == 0);
  if (kind == "press" && direction == 0) {
    held_until_ = now + kKeyHeld;
    if (held_ == row.name) return;
    let_go(run);
    held_ = row.name;
    held_by_mouse_ = false;
    return press(run, now);
  }
  if (kind == "choose") {
    if (direction == 0) {
      const auto meant = meant_.find(row.name);
      if (meant != meant_.end()) set(run, row.name, meant->second);
      meant_.erase(row.name);
      return;
    }
    std::string& meant = meant_.try_emplace(row.name, v.read).first->second;
    const auto at = std::find(s->labels.begin(), s->labels.end(), meant) - s->labels.begin();
    const auto count = static_cast<std::ptrdiff_t>(s->labels.size());
    if (count <= 0) return;
    meant = s->labels[static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(at + direction, 0, count - 1))];
    run.say(fmt::format("enter: {} becomes {}   escape: it stays {}", row.name, meant, v.read));
    return;
  }
  if (kind == "slide" && direction != 0 && row.item->range) {
    const auto [least, greatest] = *row.item->range;
    const double step = row.item->step > 0 ? row.item->step : (greatest - least) / 50;
    // Keys come quicker than pictures: from where the one before went.
    const bool soon = slid_ == row.name && now - slid_at_ < std::chrono::milliseconds(500);
    const double to = std::clamp((soon ? slid_to_ : v.si) + direction * step, least, greatest);
    slid_ = row.name, slid_to_ = to, slid_at_ = now;
    const double number = (to - s->offset) / s->factor;
    const bool bare = s->unit.empty() || s->unit == "1";
    set(run, row.name, bare ? Json(number) : Json(fmt::format("{} {}", format_exact(number), s->unit)));
  }
}

bool Desk::key(const Key& key, Mirror& run, Clock::time_point now, std::string& write) {
  const auto all = operated(run);
  const int count = static_cast<int>(all.size());
  if (key.kind == Key::Kind::let_go && held_by_mouse_) return let_go(run), true;
  if (key.kind == Key::Kind::page_down) return scroll_ += drawn_.height / 2, true;
  if (key.kind == Key::Kind::page_up) return scroll_ = std::max(0, scroll_ - drawn_.height / 2), true;
  if (count == 0) return false;
  const auto go = [&](int to) { focus_ = (to + count) % count; };
  const Row row = all[static_cast<std::size_t>(std::clamp(focus_, 0, count - 1))].first;
  switch (key.kind) {
    case Key::Kind::tab:
    case Key::Kind::down:
      return go(focus_ + 1), true;
    case Key::Kind::back_tab:
    case Key::Kind::up:
      return go(focus_ - 1), true;
    case Key::Kind::left:
      return act(row, run, now, -1), true;
    case Key::Kind::right:
      return act(row, run, now, 1), true;
    case Key::Kind::enter:
      if (row.item->kind == "value") write = "set " + row.name + " ";
      return act(row, run, now, 0), true;
    case Key::Kind::escape:
      return meant_.clear(), run.say(""), true;
    case Key::Kind::press:
      for (int i = 0; i < count; ++i) {
        if (!all[static_cast<std::size_t>(i)].second.has(key.x, key.y)) continue;
        focus_ = i;
        const Row& there = all[static_cast<std::size_t>(i)].first;
        if (there.item->kind == "toggle" || there.item->kind == "press") act(there, run, now, 0);
        held_by_mouse_ = !held_.empty();
        return true;
      }
      return false;
    case Key::Kind::letter:
      if (key.letter == U' ') return act(row, run, now, 0), true;
      if (key.letter != U'v') return false;
      write = "set " + row.name + " ";
      return true;
    default:
      return false;
  }
}

std::vector<std::string> Desk::names(const Mirror& run) const {
  std::vector<std::string> all;
  for (const Board& board : run.boards.empty() ? own_ : run.boards) {
    for (const Item& item : board.items) all.insert(all.end(), item.names.begin(), item.names.end());
  }
  return all;
}

}  // namespace isodyne::live
