#include "isodyne/live/live_view.h"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"

namespace isodyne::live {

namespace {

constexpr int kWide = 116, kHigh = 30, kNarrow = 79;
constexpr const char* kPages[] = {"panels", "scope", "signals", "faults", "requirements", "events", "timing", "tuning"};
constexpr int kTabs = 8;
constexpr auto kLookEvery = std::chrono::milliseconds(500);

}  // namespace

LiveView::LiveView(Phrases phrases, std::string first) : phrases_(std::move(phrases)), first_(std::move(first)) {}

// ---- what is asked --------------------------------------------------------------------------------------------

void LiveView::tick(Clock::time_point now) {
  if (!begun_) run_.begin();
  begun_ = true;
  run_.clock(now);
  desk_.tick(run_, now);
  if (run_.known && !scope_filled_) {
    // What the bench's own traces show; else its first numbers.
    for (const Board& b : run_.boards) {
      for (const Item& i : b.items) {
        if (i.kind == "trace" && scope_.names.size() + i.names.size() <= 6)
          scope_.names.insert(scope_.names.end(), i.names.begin(), i.names.end());
      }
    }
    for (const Signal& s : run_.signals()) {
      if (scope_.names.empty() && s.role == "output" && s.number()) scope_.names.push_back(s.name);
    }
    scope_filled_ = true;
  }
  if (run_.known && !first_.empty()) give(std::exchange(first_, std::string()));
  look();
  if (now < next_look_) return;
  next_look_ = now + kLookEvery;
  run_.look_again();
  if (page_ == Page::timing) {
    for (const std::string& c : run_.controllers) run_.look_at_log(c);
  }
}

void LiveView::look() {
  std::vector<std::string> all = desk_.names(run_);
  all.insert(all.end(), scope_.names.begin(), scope_.names.end());
  for (const std::string& name : tuning_.names()) all.push_back(name);
  if (page_ == Page::signals) {
    const auto list = filtered();
    const int first = std::max(0, std::min(chosen_, static_cast<int>(list.size()) - 1) - rows_of_page());
    for (int i = first; i < static_cast<int>(list.size()) && i <= first + 2 * rows_of_page(); ++i)
      all.push_back(list[static_cast<std::size_t>(i)]->name);
  }
  std::erase_if(all, [&](const std::string& name) { return run_.signal(name) == nullptr; });
  std::sort(all.begin(), all.end());
  all.erase(std::unique(all.begin(), all.end()), all.end());
  run_.look_at(all, kPerSecond);
}

std::vector<const Signal*> LiveView::filtered() const {
  std::vector<const Signal*> all;
  const std::string small = lower_case(filter_);
  for (const Signal& s : run_.signals()) {
    if (small.empty() || lower_case(s.name).find(small) != std::string::npos) all.push_back(&s);
  }
  return all;
}

void LiveView::give(const std::string& line) {
  std::vector<std::string> words = words_of(line);
  if (words.empty()) return;
  if (words[0] == "quit") return void(left_ = true);
  if (words[0] == "tune") {
    auto plan = Tuning::read({words.begin() + 1, words.end()}, run_);
    if (!plan) return run_.say(plan.failure().text(), true);
    tuning_.begin(std::move(*plan), run_);
    page_ = Page::tuning;
    return;
  }
  if (words[0] == "write" && words.size() == 2) {
    const auto text = tuning_.best_as_values(run_);
    if (!text) return run_.say("nothing was tried yet that could be written", true);
    const Status written = write_file(words[1], *text);
    return run_.say(written ? "`values tuned` is in " + words[1] : written.failure().text(), !written);
  }
  if (words[0] == "scope") {
    scope_.names.assign(words.begin() + 1, words.end());
    std::erase_if(scope_.names, [&](const std::string& name) {
      if (run_.signal(name) != nullptr) return false;
      run_.say("there is no quantity " + name, true);
      return true;
    });
    scope_.shows_capture = false;
    page_ = Page::scope;
    return;
  }
  if (words[0] == "capture" && (words.size() == 1 || words[1].starts_with("--")))
    words.insert(words.begin() + 1, scope_.names.begin(), scope_.names.end());  // what it shows
  const auto spoken = phrases_.spoken(words);
  if (!spoken) return run_.say(spoken.failure().text(), true);
  send(*spoken);
}

void LiveView::send(const Spoken& s) {
  if (run_.over) return run_.say("the run is over", true);
  if (s.method == "capture") {
    run_.capture(s.params);
    scope_.shows_capture = true;
    return;
  }
  run_.say(s.what + " …");
  run_.ask(s.method, s.params, [this, s](const Json& answer) {
    if (answer.contains("error")) return run_.say(answer["error"].value("message", "it was refused"), true);
    const Json& r = answer.at("result");
    if (s.method == "read") {
      std::string text;
      for (const auto& [name, value] : r.at("values").items()) list_on(text, name + " " + value.value("read", ""));
      return run_.say(text);
    }
    const std::string at = clock_text(r.value("at_s", 0.0), run_.step);
    if (s.method == "wait") return run_.say((r.value("came", false) ? "it came at " : "it had not come by ") + at);
    run_.say(r.value("waits", false) ? s.what + " at its next instant: the run stands" : s.what + " at " + at);
  });
}

// ---- keys -------------------------------------------------------------------------------------------------------

void LiveView::key(const Key& key, Clock::time_point now) {
  run_.changed = true;
  if (line_.open) {
    const auto complete = [this](const std::string& text) { return completions(text, phrases_, run_); };
    if (const auto line = line_.key(key, complete)) give(*line);
    return;
  }
  if (filters_) {
    if (key.kind == Key::Kind::letter && key.letter >= U' ')
      filter_ += utf8_of(key.letter);
    else if (key.kind == Key::Kind::backspace && !filter_.empty())
      filter_.pop_back();
    else if (key.kind == Key::Kind::escape)
      filter_.clear(), filters_ = false;
    else
      filters_ = false;
    chosen_ = 0;
    return;
  }
  if (key.kind == Key::Kind::press && key.y == 1) {
    int x = 0;
    for (int i = 0; i < kTabs; ++i) {
      const int width = grid_width_ < kNarrow && static_cast<int>(page_) != i
                            ? 3
                            : static_cast<int>(std::string(kPages[i]).size()) + 3;
      if (key.x >= x && key.x < x + width) page_ = static_cast<Page>(i);
      x += width;
    }
    return;
  }
  if (page_key(key, now)) return;
  if (key.kind == Key::Kind::escape && page_ == Page::help) return void(page_ = Page::desk);
  if (key.kind != Key::Kind::letter) return;
  if (key.letter >= U'1' && key.letter < U'1' + kTabs) {
    page_ = static_cast<Page>(key.letter - U'1');
    chosen_ = back_ = 0;
  } else if (key.letter == U'c' || key.letter == U':') {
    line_.begin("");
  } else if (key.letter == U'?' || key.letter == U'h') {
    page_ = page_ == Page::help ? Page::desk : Page::help;
  } else if (key.letter == U'q') {
    left_ = true;
  } else if (key.letter == U'w' && wide_ && page_ == Page::desk) {
    scope_focused_ = !scope_focused_;
  }
}

bool LiveView::list_key(const Key& key, int count) {
  const int page = rows_of_page();
  const auto go = [&](int to) { chosen_ = std::clamp(to, 0, std::max(0, count - 1)); };
  switch (key.kind) {
    case Key::Kind::up:
    case Key::Kind::wheel_up:
      return go(chosen_ - 1), true;
    case Key::Kind::down:
    case Key::Kind::wheel_down:
      return go(chosen_ + 1), true;
    case Key::Kind::page_up:
      return go(chosen_ - page), true;
    case Key::Kind::page_down:
      return go(chosen_ + page), true;
    case Key::Kind::home:
      return go(0), true;
    case Key::Kind::end:
      return go(count - 1), true;
    default:
      return false;
  }
}

/// Enter: it begins or ends, whatever it does not do now.
void LiveView::operate_fault(char32_t letter) {
  if (run_.faults.empty()) return;
  const FaultState& f =
      run_.faults[static_cast<std::size_t>(std::clamp(chosen_, 0, static_cast<int>(run_.faults.size()) - 1))];
  const std::string method = letter == U'a' ? "arm" : letter == U'd' ? "disarm" : f.acts ? "clear" : "inject";
  send({method, {{"fault", f.name}}, f.name + " " + method + "ed"});
}

bool LiveView::page_key(const Key& key, Clock::time_point now) {
  switch (page_) {
    case Page::desk: {
      if (wide_ && scope_focused_ && scope_.key(key, run_)) return true;
      std::string write;
      const bool took = desk_.key(key, run_, now, write);
      if (!write.empty()) line_.begin(write);
      return took;
    }
    case Page::scope:
      return scope_.key(key, run_);
    case Page::signals: {
      const auto list = filtered();
      if (list_key(key, static_cast<int>(list.size()))) return true;
      if (key.kind == Key::Kind::letter && key.letter == U'f') return filters_ = true;
      if (list.empty()) return false;
      const Signal& s = *list[static_cast<std::size_t>(std::clamp(chosen_, 0, static_cast<int>(list.size()) - 1))];
      if (key.kind == Key::Kind::letter && key.letter == U's') return scope_.toggle(s.name), true;
      if (key.kind != Key::Kind::enter) return false;
      if (s.can_be_set)
        line_.begin("set " + s.name + " ");
      else
        run_.say(s.name + " is computed: it cannot be set", true);
      return true;
    }
    case Page::faults:
      if (list_key(key, static_cast<int>(run_.faults.size()))) return true;
      if (key.kind == Key::Kind::enter) return operate_fault(0), true;
      if (key.kind == Key::Kind::letter && (key.letter == U'a' || key.letter == U'd'))
        return operate_fault(key.letter), true;
      return false;
    case Page::requirements:
      return list_key(key, static_cast<int>(run_.requirements.size()));
    case Page::events: {
      const int most = std::max(0, static_cast<int>(shown_events().size()) - 1), page = rows_of_page();
      const auto go = [&](int to) { back_ = std::clamp(to, 0, most); };
      if (key.kind == Key::Kind::letter && key.letter == U'l') {
        late_steps_ = !late_steps_;
        return go(0), true;
      }
      switch (key.kind) {
        case Key::Kind::up:
        case Key::Kind::wheel_up:
          return go(back_ + 1), true;
        case Key::Kind::down:
        case Key::Kind::wheel_down:
          return go(back_ - 1), true;
        case Key::Kind::page_up:
          return go(back_ + page), true;
        case Key::Kind::page_down:
          return go(back_ - page), true;
        case Key::Kind::home:
          return go(most), true;
        case Key::Kind::end:
          return go(0), true;
        default:
          return false;
      }
    }
    case Page::tuning: {
      std::string write;
      const bool took = tuning_.key(key, run_, write);
      if (!write.empty()) line_.begin(write);
      return took;
    }
    case Page::timing:
    case Page::help:
      return false;
  }
  return false;
}

// ---- pictures ---------------------------------------------------------------------------------------------------

void LiveView::draw(Grid& grid) {
  run_.changed = false;
  cursor_at_.reset();
  if (grid.width() < 30 || grid.height() < 8) {
    grid.put(0, 0, fmt::format("{} is too small", fmt::format("{}x{}", grid.width(), grid.height())), {Ink::warn});
    grid.put(0, 1, "at least 30x8", {Ink::dim});
    return;
  }
  grid_width_ = grid.width();
  draw_head(grid);
  draw_tabs(grid);
  area_ = {0, 2, grid.width(), grid.height() - 4};
  draw_page(grid, area_);
  draw_foot(grid);
}

/// What, where it is, and everything that makes the picture less than the run.
void LiveView::draw_head(Grid& grid) {
  for (int x = 0; x < grid.width(); ++x) grid.set(x, 0, U' ', {Ink::plain, 0, true});
  std::string name = run_.bench;
  if (!run_.scenario.empty()) name += " / " + run_.scenario;
  // From the right, what matters most; what has no room any more is counted.
  std::string right = clock_text(run_.now, run_.step);
  Ink ink = Ink::plain;
  int more = 0;
  const int most = grid.width() - std::min(columns_of(name), 16) - 8;
  const auto note = [&](const std::string& text, Ink how) {
    if (how == Ink::bad || ink == Ink::plain) ink = how;
    if (more > 0 || columns_of(right) + columns_of(text) + 2 > most)
      ++more;
    else
      right = text + "  " + right;
  };
  if (run_.over)
    note("over: " + run_.ending, Ink::bad);
  else if (run_.silent_s >= Mirror::kSilent)
    note(fmt::format("no answer for {} s", run_.silent_s), Ink::bad);
  else if (!run_.known)
    note("not known yet", Ink::warn);
  else if (!run_.begun)
    note("waits for its controllers", Ink::warn);
  else if (run_.stands)
    note("it stands", Ink::warn);
  else
    note(run_.paced ? "paced" : "lockstep", Ink::plain);
  for (const auto& [controller, text] : run_.failed) {
    if (text == "failed") note(controller + " failed", Ink::bad);
  }
  if (!run_.broken.empty()) note(counted(run_.broken.size(), "requirement") + " broken", Ink::bad);
  if (run_.not_understood > 0) note(counted(run_.not_understood, "line") + " not understood", Ink::bad);
  if (run_.left_out > 0) note(counted(static_cast<std::size_t>(run_.left_out), "picture") + " left out", Ink::warn);
  if (run_.timing.late > 0) note(fmt::format("{} of {} steps late", run_.timing.late, run_.timing.steps), Ink::warn);
  if (more > 0) right = fmt::format("+{}  ", more) + right;
  const int room = std::max(0, grid.width() - columns_of(right) - 2);
  grid.put(1, 0, name, {Ink::strong, 0, true}, room);
  grid.put_right(grid.width() - 1, 0, right, {ink, 0, true});
}

void LiveView::draw_tabs(Grid& grid) {
  int x = 0;
  const bool narrow = grid.width() < kNarrow;
  for (int i = 0; i < kTabs; ++i) {
    const std::string text =
        narrow && static_cast<int>(page_) != i ? fmt::format(" {} ", i + 1) : fmt::format(" {} {}", i + 1, kPages[i]);
    const bool here = static_cast<int>(page_) == i;
    x += grid.put(x, 1, text, {here ? Ink::focus : Ink::dim, 0, here});
  }
}

void LiveView::draw_page(Grid& grid, const Area& a) {
  wide_ = a.width >= kWide && a.height >= kHigh;
  switch (page_) {
    case Page::desk:
      if (!wide_) return desk_.draw(grid, a, run_, !line_.open);
      {
        const int left = a.width / 2, below = std::clamp(a.height / 4, 6, 12);
        desk_.draw(grid, {a.x, a.y, left, a.height}, run_, !line_.open && !scope_focused_);
        scope_.draw(grid, {a.x + left, a.y, a.width - left, a.height - below}, run_, scope_focused_);
        draw_events(grid, {a.x + left, a.y + a.height - below, a.width - left, below}, false);
      }
      return;
    case Page::scope:
      return scope_.draw(grid, a, run_, !line_.open);
    case Page::signals:
      return draw_signals(grid, a);
    case Page::faults:
      return draw_faults(grid, a);
    case Page::requirements:
      return draw_requirements(grid, a);
    case Page::events:
      return draw_events(grid, a, true);
    case Page::timing:
      return draw_timing(grid, a);
    case Page::tuning:
      return tuning_.draw(grid, a, run_);
    case Page::help:
      return draw_help(grid, a);
  }
}

void LiveView::draw_signals(Grid& grid, const Area& a) {
  const auto list = filtered();
  const int count = static_cast<int>(list.size());
  chosen_ = std::clamp(chosen_, 0, std::max(0, count - 1));
  const std::string title =
      filter_.empty() && !filters_
          ? counted(list.size(), "signal")
          : fmt::format("{} with \"{}{}\"", counted(list.size(), "signal"), filter_, filters_ ? "_" : "");
  grid.box(a, title);
  const Area in = a.inner();
  const int first = std::clamp(chosen_ - in.height / 2, 0, std::max(0, count - in.height));
  const int name = std::clamp(in.width * 2 / 5, 12, 40), value = std::clamp(in.width / 4, 10, 24);
  for (int i = 0; i < in.height && first + i < count; ++i) {
    const Signal& s = *list[static_cast<std::size_t>(first + i)];
    const bool here = first + i == chosen_, traced = contains(scope_.names, s.name);
    const int y = in.y + i;
    grid.put(in.x, y, traced ? "s" : " ", {Ink::good});
    grid.put(in.x + 2, y, s.name, {here ? Ink::focus : s.can_be_set ? Ink::strong : Ink::plain}, name - 3);
    const Value v = run_.value(s.name);
    grid.put(in.x + name, y, v.read.empty() ? "…" : v.read, {}, value - 1);
    std::string about = s.role;
    if (s.limits) about += fmt::format(" {} .. {}", number_text(s, s.limits->first), number_text(s, s.limits->second));
    if (!s.doc.empty()) about += "  " + one_line(s.doc);
    grid.put(in.x + name + value, y, about, {Ink::dim}, in.width - name - value);
    if (here) grid.reverse({in.x, y, in.width, 1});
  }
}

void LiveView::draw_faults(Grid& grid, const Area& a) {
  grid.box(a, counted(run_.faults.size(), "fault"));
  const Area in = a.inner();
  const int count = static_cast<int>(run_.faults.size());
  chosen_ = std::clamp(chosen_, 0, std::max(0, count - 1));
  if (count == 0) grid.put(in.x, in.y, "this bench declares none", {Ink::dim});
  const int first = std::clamp(chosen_ - in.height / 2, 0, std::max(0, count - in.height));
  const int name = std::clamp(in.width / 2, 12, 36);
  for (int i = 0; i < in.height && first + i < count; ++i) {
    const FaultState& f = run_.faults[static_cast<std::size_t>(first + i)];
    const int y = in.y + i;
    grid.put(in.x, y, f.acts ? "●" : "○", {f.acts ? Ink::bad : Ink::dim});
    grid.put(in.x + 2, y, f.name, {f.acts ? Ink::bad : f.in_run ? Ink::plain : Ink::dim}, name - 3);
    const std::string how = !f.in_run   ? "not in this run (--fault)"
                            : f.acts    ? "acts since " + clock_text(f.since, run_.step)
                            : f.by_hand ? "does not act"
                                        : "does not act; begins by itself";
    grid.put(in.x + name, y, how, {f.in_run ? Ink::plain : Ink::dim}, in.width - name);
    if (first + i == chosen_) grid.reverse({in.x, y, in.width, 1});
  }
}

void LiveView::draw_requirements(Grid& grid, const Area& a) {
  grid.box(a, counted(run_.requirements.size(), "requirement") + ": what is held is known at the end");
  const Area in = a.inner();
  const int count = static_cast<int>(run_.requirements.size());
  if (count == 0) grid.put(in.x, in.y, "this bench has none", {Ink::dim});
  chosen_ = std::clamp(chosen_, 0, std::max(0, count - 1));
  const int first = std::clamp(chosen_ - in.height / 2, 0, std::max(0, count - in.height));
  for (int i = 0; i < in.height && first + i < count; ++i) {
    const std::string& name = run_.requirements[static_cast<std::size_t>(first + i)];
    const auto broken = run_.broken.find(name);
    const bool is = broken != run_.broken.end();
    grid.put(in.x, in.y + i, is ? "●" : "○", {is ? Ink::bad : Ink::dim});
    grid.put(in.x + 2, in.y + i, name, {is ? Ink::bad : Ink::plain}, in.width / 2 - 2);
    grid.put(in.x + in.width / 2, in.y + i,
             is ? "broken at " + clock_text(broken->second, run_.step) : "not broken so far",
             {is ? Ink::bad : Ink::dim}, in.width / 2);
  }
}

std::vector<const RunEvent*> LiveView::shown_events() const {
  std::vector<const RunEvent*> all;
  for (const RunEvent& e : run_.events) {
    if (late_steps_ || e.kind != "overrun") all.push_back(&e);
  }
  return all;
}

void LiveView::draw_events(Grid& grid, const Area& a, bool focused) {
  const std::vector<const RunEvent*> all = shown_events();
  std::string title = counted(run_.events.size() + run_.events_dropped, "event");
  if (run_.events_dropped > 0) title += fmt::format(", the last {} here", run_.events.size());
  if (run_.events_left_out > 0) title += fmt::format(", {} older ones only in its files", run_.events_left_out);
  if (all.size() < run_.events.size())
    title += fmt::format(", {} about late steps not shown{}", run_.events.size() - all.size(), focused ? ": l" : "");
  if (focused && back_ > 0) title += fmt::format(", {} newer below", back_);
  grid.box(a, title);
  const Area in = a.inner();
  const int back = focused ? back_ : 0, count = static_cast<int>(all.size());
  const int last = count - back, first = std::max(0, last - in.height);
  for (int i = first; i < last; ++i) {
    const RunEvent& e = *all[static_cast<std::size_t>(i)];
    const int y = in.y + i - first;
    const Ink ink = e.kind == "broken" || e.kind == "fault on"                         ? Ink::bad
                    : e.kind == "overrun" || e.kind == "saturated" || e.kind == "lost" ? Ink::warn
                    : e.kind == "command" || e.kind == "change"                        ? Ink::good
                                                                                       : Ink::plain;
    grid.put_right(in.x + 13, y, clock_text(e.at, run_.step), {Ink::dim});
    grid.put(in.x + 14, y, fmt::format("{}: {}", e.subject, one_line(e.text)), {ink}, in.width - 14);
  }
}

void LiveView::draw_timing(Grid& grid, const Area& a) {
  grid.box(a, "real time and controllers");
  const Area in = a.inner();
  int y = in.y;
  const auto line = [&](const std::string& text, Style style = {}) {
    if (y < in.y + in.height) grid.put(in.x, y++, text, style, in.width);
  };
  const RunTiming& t = run_.timing;
  if (!t.known) {
    line("not known yet", {Ink::dim});
  } else if (!t.paced) {
    line("It runs in lockstep: nothing can be late.");
  } else {
    line(fmt::format("{} of {} steps late", t.late, t.steps), {t.late > 0 ? Ink::warn : Ink::good});
    for (const auto& [times, name] : {std::pair{t.lateness, "steps begin late by"}, std::pair{t.step, "a step takes"}})
      line(fmt::format("{:<20} median {} us, p99 {} us, longest {} us", name, format_number(times[0]),
                       format_number(times[1]), format_number(times[2])));
    for (const RunTiming::Controller& c : t.controllers)
      line(fmt::format("{}: {} exchanges, {} late, {} missed", c.name, c.exchanges, c.late, c.missed),
           {c.late + c.missed > 0 ? Ink::warn : Ink::plain});
  }
  for (const auto& [controller, text] : run_.failed) line(controller + ": " + text);
  for (const std::string& controller : run_.controllers) {
    const auto log = run_.logs.find(controller);
    if (log == run_.logs.end() || log->second.empty()) continue;
    line("");
    line("what " + controller + " has printed:", {Ink::strong});
    std::vector<std::string> lines;
    for (std::size_t at = 0; at < log->second.size();) {
      const std::size_t end = std::min(log->second.find('\n', at), log->second.size());
      lines.push_back(log->second.substr(at, end - at));
      at = end + 1;
    }
    const std::size_t room = static_cast<std::size_t>(std::max(0, in.y + in.height - y));
    for (std::size_t i = lines.size() > room ? lines.size() - room : 0; i < lines.size(); ++i) line("  " + lines[i]);
  }
}

void LiveView::draw_help(Grid& grid, const Area& a) {
  grid.box(a, "keys");
  const Area in = a.inner();
  int y = in.y;
  const auto line = [&](const std::string& text, Style style = {}) {
    if (y < in.y + in.height) grid.put(in.x, y++, text, style, in.width);
  };
  line("1 .. 8  pages    c  command    ?  this help    q  leave: the run goes on");
  line("panels   " + std::string(Desk::help()));
  line("         w  to the scope and back, where both are seen");
  line("scope    space stands still or goes on (recording always goes on)");
  line("         + - time   [ ] value   left right cursor   m mark   x both away   r rolling or captured");
  line("signals  f find   enter set   s into the scope or out of it");
  line("faults   enter injects or clears   a arms   d disarms");
  line(
      "tuning   up down which gain   left right less or more, and a trial   f finer   g coarser   t try again   b back "
      "to the best");
  line("         w write the best as values   begins with: tune kp ki of level by setpoint \"0.1 m\" within \"20 s\"");
  line("");
  line("commands, as on the command line without the run; tab completes", {Ink::strong});
  for (const Phrase& p : phrases_.all) {
    std::string text = p.name + " " + p.words;
    for (const auto& [name, value] : p.options) text += " [--" + name + (value.empty() ? "" : " " + value) + "]";
    line("  " + text, {Ink::dim});
  }
}

void LiveView::draw_foot(Grid& grid) {
  const int y = grid.height() - 2;
  if (!line_.choices().empty() && line_.open) {
    std::string all;
    for (const std::string& choice : line_.choices()) {
      const auto words = words_of(choice);
      if (!words.empty()) list_on(all, words.back(), "  ");
    }
    grid.put(1, y, all, {Ink::dim}, grid.width() - 2);
  } else if (run_.over) {
    grid.put(1, y, "The run is over: " + run_.ending + ". q leaves.", {Ink::bad}, grid.width() - 2);
  } else {
    grid.put(1, y, run_.message, {run_.message_bad ? Ink::bad : Ink::plain}, grid.width() - 2);
  }
  if (line_.open) {
    // The end that the cursor is in.
    const std::string before = line_.text().substr(0, line_.cursor());
    const int room = grid.width() - 4, at = columns_of(before), first = std::max(0, at - room);
    std::u32string text = code_points(line_.text());
    std::string seen;
    for (std::size_t i = static_cast<std::size_t>(first); i < text.size(); ++i) seen += utf8_of(text[i]);
    grid.put(1, y + 1, "> " + seen, {Ink::strong}, grid.width() - 1);
    cursor_at_ = std::pair{3 + at - first, y + 1};
    return;
  }
  const char* hint = "";
  switch (page_) {
    case Page::desk:
      hint = "tab next   enter operates   left right choose";
      break;
    case Page::scope:
      hint = "space stands   + - time   left right cursor";
      break;
    case Page::signals:
      hint = filters_ ? "type a part of the name   enter ends" : "f find   enter set   s scope";
      break;
    case Page::faults:
      hint = "enter injects or clears   a arms   d disarms";
      break;
    case Page::tuning:
      hint = "up down gain   left right less, more   t try   b best   w write";
      break;
    case Page::events:
      hint = "up down   end newest   l late steps";
      break;
    default:
      break;
  }
  grid.put(1, y + 1, std::string("c command   ? help   q leave   ") + hint, {Ink::dim}, grid.width() - 2);
}

}  // namespace isodyne::live
