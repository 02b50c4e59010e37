#pragma once
// Signals of a recording as people read them: chosen by name or pattern, in their unit, over a stretch of time.

#include <limits>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/recording.h"

namespace isodyne::present {

struct SignalView {
  std::string name, unit;           ///< the unit that the values are in; empty: none
  std::vector<std::string> labels;  ///< of a choice: the names of 0, 1, 2 …
  bool lane = false;                ///< a truth, or a choice
  bool steps = false;               ///< holds its value between instants
  double column_s = 0;              ///< of values that were left out: how long a column is; 0: all are there
  std::vector<double> seconds, values;
};

/// Seconds; both ends belong to it.
struct TimeRange {
  double begin = 0, end = std::numeric_limits<double>::infinity();
  bool neighbours = false;  ///< with the instants before and behind, for lines that go over its ends
};

/// Signals by their names, or by patterns in which * stands for anything, in the order of the words, each once.
Result<std::vector<std::string>> chosen_signals(const record::Recording& recording,
                                                const std::vector<std::string>& words);
/// What the figures of the bench show, at most so many; of a recording without a bench its first signals.
std::vector<std::string> usual_signals(const std::string& run, const record::Recording& recording, std::size_t most);

/// The names of 0, 1, 2 … of a choice; empty of anything else.
std::vector<std::string> labels_of(const record::SignalUnit& unit);

/// Which of many values are enough to draw them: of each column of a drawing the first, the least, the greatest, the
/// last, and one that is no number, in their order (Jugel and others, "M4: a visualization-oriented time series data
/// aggregation", 2014). Where the columns are no wider than those of the picture it is the picture of all values, to a
/// pixel, whether values are held or joined by lines. `column_of`, of a place, never falls.
template <typename ColumnOf>
std::vector<std::size_t> enough_to_draw(const double* values, std::size_t count, ColumnOf column_of);

/// A signal that is there: every value; or, if there are many more than `columns` (not 0), what is enough to draw them
/// in so many columns over the stretch. Where rows were left out because nothing was worth it there is a value that is
/// no number.
Result<SignalView> signal_view(const record::Recording& recording, const std::string& name,
                               const TimeRange& stretch = {}, std::size_t columns = 0);

/// The same to be drawn over time: with what was judged at every instant around some, between its rows.
Result<SignalView> view_over_time(const record::Recording& recording, const std::string& name,
                                  const TimeRange& stretch = {}, std::size_t columns = 0);

namespace detail {
/// Adds the places of what is worth keeping among [begin, end).
void add_of_column(const double* values, std::size_t begin, std::size_t end, std::vector<std::size_t>& chosen);
}  // namespace detail

template <typename ColumnOf>
std::vector<std::size_t> enough_to_draw(const double* values, std::size_t count, ColumnOf column_of) {
  std::vector<std::size_t> chosen;
  for (std::size_t begin = 0, end = 0; begin < count; begin = end) {
    const auto column = column_of(begin);
    for (end = begin + 1; end < count && column_of(end) == column;) ++end;
    detail::add_of_column(values, begin, end, chosen);
  }
  return chosen;
}

}  // namespace isodyne::present
