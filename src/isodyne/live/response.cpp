#include "isodyne/live/response.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::live {

namespace {
constexpr double kBand = 0.02;
/// Half-swings of which each is within this of the one before neither die nor grow.
constexpr double kSteady = 0.02;
}  // namespace

/// A high or a low is one when what follows has gone back by `least`; so noise below that is none.
Swings swings_of(const std::vector<Row>& rows, double least) {
  std::vector<Row> turns;
  if (rows.size() < 3) return {};
  Row high = rows.front(), low = rows.front();
  int way = 0;  // 1: up, to a high
  for (const Row& r : rows) {
    if (!std::isfinite(r.value)) return {};
    if (r.value > high.value) high = r;
    if (r.value < low.value) low = r;
    if (way >= 0 && high.value - r.value > least) {
      if (way > 0) turns.push_back(high);
      way = -1, low = r;
    } else if (way <= 0 && r.value - low.value > least) {
      if (way < 0) turns.push_back(low);
      way = 1, high = r;
    }
  }
  Swings s;
  if (turns.size() < 3) return s;
  // Of swing after swing the ratio, in the mean of its logarithm.
  const double first = std::abs(turns[1].value - turns[0].value);
  const double last = std::abs(turns.back().value - turns[turns.size() - 2].value);
  const double halves = static_cast<double>(turns.size()) - 2;
  const double decrement = std::log(first / last) / halves;
  s.hertz = (halves + 1) / 2 / (turns.back().t - turns.front().t);
  s.damping = decrement / std::sqrt(M_PI * M_PI + decrement * decrement);
  s.course = std::abs(decrement) <= kSteady ? Swings::Course::steady
             : decrement > 0                ? Swings::Course::dying
                                            : Swings::Course::growing;
  return s;
}

std::optional<StepAnswer> answer_of(const std::vector<Row>& rows, double from, double to) {
  if (rows.size() < 2 || from == to) return std::nullopt;
  const double step = to - from;
  StepAnswer a;
  for (const Row& r : rows) {
    if (!std::isfinite(r.value)) return std::nullopt;
    a.overshoot = std::max(a.overshoot, (r.value - to) / step);
  }
  const double ends = rows.back().value;
  a.off = (ends - to) / step;
  std::size_t last_out = rows.size();
  for (std::size_t i = rows.size(); i-- > 0;) {
    if (std::abs(rows[i].value - ends) <= kBand * std::abs(step)) continue;
    last_out = i;
    break;
  }
  a.swings = swings_of(rows, kBand / 4 * std::abs(step));
  if (last_out == rows.size()) {
    a.settles = 0;
  } else {
    const double at = rows[std::min(last_out + 1, rows.size() - 1)].t;
    // What is in the band at the very end only has not been seen to stay there.
    const bool stays = rows.back().t - at > 0.1 * (rows.back().t - rows.front().t);
    if (stays) a.settles = at - rows.front().t;
  }
  return a;
}

std::string swings_text(const Swings& s) {
  if (s.course == Swings::Course::none) return "does not swing";
  const char* course = s.course == Swings::Course::dying    ? "dying"
                       : s.course == Swings::Course::steady ? "steady"
                                                            : "growing";
  return fmt::format("{}, {} Hz, damping {}", course, format_number(std::round(s.hertz * 1e4) / 1e4),
                     fmt::format("{:.3f}", s.damping));
}

}  // namespace isodyne::live
