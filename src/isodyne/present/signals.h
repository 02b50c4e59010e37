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
  std::vector<double> seconds, values;
};

/// Seconds; both ends belong to it.
struct Stretch {
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

/// Which of many values are enough to draw them: of each stretch the first, the least, the greatest, the last, and one
/// that is no number, in their order. At most `most` places, at least 5; all, if there are not more.
std::vector<std::size_t> enough_to_draw(const double* values, std::size_t count, std::size_t most);

/// A signal that is there: every value, or if `most` is not 0 about so many, among them every extreme. Where rows were
/// left out because nothing was worth it there is a value that is no number.
Result<SignalView> signal_view(const record::Recording& recording, const std::string& name, const Stretch& stretch = {},
                               std::size_t most = 0);

}  // namespace isodyne::present
