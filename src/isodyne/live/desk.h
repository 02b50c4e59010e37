#pragma once
// The panels of a bench, laid out by themselves: numbers, bars, lamps, choices, buttons, sliders, traces, and the keys
// that operate them. What it shows is what the run says, never what was asked of it.

#include <chrono>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "isodyne/live/grid.h"
#include "isodyne/live/keys.h"
#include "isodyne/live/mirror.h"

namespace isodyne::live {

class Desk {
 public:
  using Clock = std::chrono::steady_clock;

  void draw(Grid& grid, const Area& area, const Mirror& run, bool focused);
  /// False: it is none of its keys. `write`: a begun command for the command line.
  bool key(const Key& key, Mirror& run, Clock::time_point now, std::string& write);
  /// A button that was let go.
  void tick(Mirror& run, Clock::time_point now);
  /// What it needs to know.
  std::vector<std::string> names(const Mirror& run) const;
  static const char* help();

 private:
  /// One line, or a trace: of a board's item, about one quantity (traces: all).
  struct Row {
    const Item* item = nullptr;
    std::string name, label;
    int height = 1;
    bool operated() const;
  };
  struct Box {
    const Board* board = nullptr;
    std::vector<Row> rows;
    Area area;
  };
  std::vector<Box> boxes(const Mirror& run) const;
  void place(std::vector<Box>& boxes, const Area& area) const;
  static int label_columns(const Box& box);
  void draw_row(Grid& grid, const Area& area, int labels, const Row& row, const Mirror& run, bool here);
  std::vector<std::pair<Row, Area>> operated(const Mirror& run) const;
  void act(const Row& row, Mirror& run, Clock::time_point now, int direction);
  void set(Mirror& run, const std::string& name, const Json& value);
  void press(Mirror& run, Clock::time_point now);
  void let_go(Mirror& run);

  Area drawn_;
  int focus_ = 0, scroll_ = 0;
  std::map<std::string, std::string> meant_;  ///< choices that are looked for, not yet made
  std::string held_;                          ///< the button that is pressed
  bool held_by_mouse_ = false;
  Clock::time_point held_until_, press_again_;
  std::string slid_;  ///< what was slid last, to where, when
  double slid_to_ = 0;
  Clock::time_point slid_at_;
  std::set<std::string> asked_;  ///< of which the answer has not come
  std::vector<Board> own_;       ///< where the bench has none
};

}  // namespace isodyne::live
