#pragma once
// Traces over simulated time: rolling with the run, standing still, or what was captured.
//
// A trace is a band between the least and the greatest value of each stretch that was told: between two tellings a
// value was somewhere in it. Signals with the same unit share a lane with one axis.

#include <optional>
#include <set>
#include <string>
#include <vector>

#include "isodyne/live/grid.h"
#include "isodyne/live/keys.h"
#include "isodyne/live/mirror.h"

namespace isodyne::live {

class Scope {
 public:
  std::vector<std::string> names;
  bool shows_capture = false;

  void draw(Grid& grid, const Area& area, const Mirror& run, bool focused);
  /// False: it is none of its keys.
  bool key(const Key& key, const Mirror& run);
  void toggle(const std::string& name);
  static const char* help();

 private:
  struct Window {
    double from = 0, to = 0;
  };
  Window window(const Mirror& run) const;
  const std::vector<std::string>& shown(const Mirror& run) const;
  const History& rows(const Mirror& run, const std::string& name) const;
  std::string head(const Mirror& run, const Window& w) const;
  void read_out(Grid& grid, const Area& area, const Mirror& run, const Window& w) const;
  std::string value_at(const Mirror& run, const std::string& name, double t) const;
  void zoom_time(double by, const Window& w, const Mirror& run);

  double span_ = 60;                 ///< seconds, rolling
  std::optional<double> stands_at_;  ///< right end of a picture that stands
  std::optional<double> capture_from_, capture_to_;
  std::optional<double> cursor_, mark_;
  double value_zoom_ = 1;
};

/// One lane: the traces of signals with one axis, and that axis at its left. `rows` of each name.
struct Trace {
  std::string name;
  const History* rows;
  int ink;
};
/// Names in the inks of their traces, over as many lines as they take (of `area`, at most); gives how many.
int put_names(Grid& grid, const Area& area, const std::vector<std::string>& texts, int first_ink);
void draw_lane(Grid& grid, const Area& area, const Signal& axis, const std::vector<Trace>& traces, double from,
               double to, double zoom, const std::optional<std::pair<double, double>>& range = std::nullopt);

}  // namespace isodyne::live
