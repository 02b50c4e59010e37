#pragma once
// The live view of a run: pages, keys, the command line. It draws on a Grid and speaks in lines of docs/door.md;
// whoever has a terminal and a socket carries them to and fro. One thread.

#include <chrono>
#include <string>
#include <vector>

#include "isodyne/live/command_line.h"
#include "isodyne/live/desk.h"
#include "isodyne/live/grid.h"
#include "isodyne/live/keys.h"
#include "isodyne/live/mirror.h"
#include "isodyne/live/scope.h"
#include "isodyne/live/tuning.h"

namespace isodyne::live {

class LiveView {
 public:
  using Clock = std::chrono::steady_clock;
  static constexpr double kPerSecond = 30;

  /// `first`: a command that is given when the run is known; empty: none.
  explicit LiveView(Phrases phrases, std::string first = {});

  Mirror& run() { return run_; }
  void key(const Key& key, Clock::time_point now);
  /// Now and then: what is asked for again and again.
  void tick(Clock::time_point now);
  void draw(Grid& grid);
  /// Whether a picture would be another one.
  bool changed() const { return run_.changed; }
  bool left() const { return left_; }
  /// Where the cursor of the terminal is; nothing where it is not seen.
  std::optional<std::pair<int, int>> cursor() const { return cursor_at_; }

 private:
  enum class Page : int { desk, scope, signals, faults, requirements, events, timing, tuning, help };
  void draw_head(Grid& grid);
  void draw_tabs(Grid& grid);
  void draw_foot(Grid& grid);
  void draw_page(Grid& grid, const Area& area);
  void draw_signals(Grid& grid, const Area& area);
  void draw_faults(Grid& grid, const Area& area);
  void draw_requirements(Grid& grid, const Area& area);
  std::vector<const RunEvent*> shown_events() const;
  void draw_events(Grid& grid, const Area& area, bool focused);
  void draw_timing(Grid& grid, const Area& area);
  void draw_help(Grid& grid, const Area& area);
  bool page_key(const Key& key, Clock::time_point now);
  bool list_key(const Key& key, int count);
  void operate_fault(char32_t letter);
  void give(const std::string& line);
  void send(const Spoken& spoken);
  void look();
  std::vector<const Signal*> filtered() const;
  int rows_of_page() const { return std::max(1, area_.height - 3); }

  Phrases phrases_;
  std::string first_;
  Mirror run_;
  Desk desk_;
  Scope scope_;
  Tuning tuning_;
  CommandLine line_;
  Page page_ = Page::desk;
  bool left_ = false, wide_ = false, scope_focused_ = false;
  std::string filter_;
  bool filters_ = false;
  int chosen_ = 0;           ///< line of the list
  int back_ = 0;             ///< events: how many lines from the newest
  bool late_steps_ = false;  ///< are shown among events; on a busy machine there is nothing else
  Area area_;
  int grid_width_ = 80;
  Clock::time_point next_look_{};
  std::optional<std::pair<int, int>> cursor_at_;
  bool begun_ = false, scope_filled_ = false;
};

}  // namespace isodyne::live
