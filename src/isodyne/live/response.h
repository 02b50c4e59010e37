#pragma once
// What a step of the setpoint brings: overshoot, settling, and how it swings. Of rows as they were captured.

#include <optional>
#include <string>
#include <vector>

namespace isodyne::live {

struct Row {
  double t = 0, value = 0;  ///< seconds, SI
};

/// How something swings about where it is going: by its successive highs and lows.
struct Swings {
  enum class Course { none, dying, steady, growing };
  Course course = Course::none;  ///< none: fewer than three highs and lows
  double hertz = 0;              ///< of the swing: half a period from high to low
  double damping = 0;            ///< ratio, by the logarithmic decrement; below 0: growing
};
/// `least`: what counts as a swing, SI.
Swings swings_of(const std::vector<Row>& rows, double least);

struct StepAnswer {
  double overshoot = 0;           ///< beyond the new setpoint, as a share of the step
  std::optional<double> settles;  ///< seconds from the step until it stays within 2 % of the step of where it ends
  double off = 0;                 ///< where it ends, from the new setpoint, as a share of the step
  Swings swings;
};
/// `rows` from the step on; the setpoint goes `from` → `to`. Nothing without rows or a step.
std::optional<StepAnswer> answer_of(const std::vector<Row>& rows, double from, double to);

/// "dying, 1.2 Hz, damping 0.2"
std::string swings_text(const Swings& swings);

}  // namespace isodyne::live
