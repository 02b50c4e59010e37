#pragma once
// What is due when in a scenario, as far as that can be told before the run: waits take up to their time, or none.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::present {

struct TimelineRow {
  std::size_t depth = 0;       ///< inside tracks, alternatives, repetitions
  Time earliest{};             ///< begins at this instant …
  std::optional<Time> latest;  ///< … to that one; nothing: there is no telling
  Time lasts{};                ///< at most
  std::string text, place;
};

struct Timeline {
  std::vector<TimelineRow> rows;
  Time earliest{};  ///< of the end
  std::optional<Time> latest;
};

Timeline timeline_of(const program::Program& program, const program::Scenario& scenario);

/// A bar for a row on a scale from 0 to `whole`: `-` where it may begin, `=` where it lasts.
std::string timeline_bar(const TimelineRow& row, Time whole, std::size_t width);

}  // namespace isodyne::present
