#pragma once
// The terminal as a Grid is shown on it, and as keys come from it. One at a time; while it is there nothing else
// prints.

#include <memory>
#include <optional>

#include "isodyne/live/grid.h"
#include "isodyne/live/keys.h"

namespace isodyne::app {

class Screen {
 public:
  /// Nothing where standard output and input are no terminal that can show pages.
  static std::unique_ptr<Screen> open();
  ~Screen();

  live::Grid grid() const;
  void show(const live::Grid& grid, const std::optional<std::pair<int, int>>& cursor);
  /// The next key that is there already.
  std::optional<live::Key> key();
  /// The size has changed since this was last asked.
  bool resized();

 private:
  explicit Screen(void* terminal);
  void* terminal_;  ///< of the library that draws
  bool colours_ = false, ascii_ = false, resized_ = false;
};

}  // namespace isodyne::app
