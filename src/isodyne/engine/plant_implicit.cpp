// Implicit equations and delays.
//
// Newton's method, safeguarded: with bounds that enclose a change of sign it keeps the enclosure and bisects
// where Newton would leave it or gains too little (Press et al., "Numerical Recipes", 3rd ed., 9.4);
// without, a step that makes the residual larger is halved. The derivative is the expression's own.

#include <algorithm>
#include <cmath>

#include "isodyne/engine/plant.h"

namespace isodyne::engine {

using model::kNone;
using model::VarId;

namespace {

constexpr double kSmall = 1e-13;     ///< of the residual against the size of the two sides: solved
constexpr double kTolerable = 1e-9;  ///< where rounding allows no better
constexpr int kMostIterations = 100;

/// The equation as a function of the unknown.
template <typename Evaluate>
struct Newton {
  Evaluate evaluate;  ///< (x) → residual, derivative, scale
  double x, f = 0, slope = 0, scale = 0;

  void at(double where) {
    x = where;
    evaluate(x, f, slope, scale);
  }
  bool solved(double share) const { return std::isfinite(x) && std::abs(f) <= share * scale; }

  bool enclosed(double low, double high) {
    const double first = x;
    at(low);
    if (solved(0)) return true;
    const bool low_negative = f < 0;
    at(high);
    if (solved(0)) return true;
    if ((f < 0) == low_negative || !std::isfinite(f)) {
      at(std::clamp(first, low, high));
      return free(low, high);
    }
    double a = low_negative ? low : high, b = low_negative ? high : low;  // f(a) < 0 < f(b)
    at(first > low && first < high ? first : 0.5 * (low + high));
    double before = std::abs(high - low), move = before;
    for (int i = 0; i < kMostIterations; ++i) {
      if (solved(kSmall)) return true;
      (f < 0 ? a : b) = x;
      const double newton = x - f / slope;
      const bool inside = newton > std::min(a, b) && newton < std::max(a, b);
      const bool gains = std::abs(2 * f) <= std::abs(before * slope);
      before = move;
      const double next = inside && gains ? newton : 0.5 * (a + b);
      move = std::abs(next - x);
      if (next == x || a == b) return true;  // nothing finer can be written
      at(next);
    }
    return solved(kTolerable);
  }

  bool free(double low, double high) {
    for (int i = 0; i < kMostIterations; ++i) {
      if (solved(kSmall)) return true;
      if (!std::isfinite(f) || slope == 0 || !std::isfinite(slope)) return solved(kTolerable);
      const double from = x, size = std::abs(f), step = f / slope, share = std::abs(f) / scale;
      double part = 1;
      do {
        at(std::clamp(from - part * step, low, high));
        part *= 0.5;
      } while (!(std::abs(f) < size) && !solved(kSmall) && part > 1e-12);
      if (x == from || part <= 1e-12) return std::min(share, std::abs(f) / scale) <= kTolerable;
    }
    return solved(kTolerable);
  }
};

}  // namespace

void Plant::solve_equation(std::size_t index, PlantState& state) const {
  const SolveCode& s = solves_[index];
  double* r = state.values.data();
  const auto reg = [&](std::int32_t i) -> double& { return r[static_cast<std::size_t>(i)]; };
  double& unknown = state[program_->solves[index].x];
  const auto evaluate = [&](double x, double& f, double& slope, double& scale) {
    unknown = x;
    run(s.code, r, program_->tables.data());
    f = reg(s.residual);
    slope = reg(s.derivative);
    scale = reg(s.scale);
  };
  Newton<decltype(evaluate)> newton{evaluate, unknown};
  newton.at(unknown);
  bool good = false;
  if (s.bounds.lowest != kNone) {
    good = newton.enclosed(reg(s.bounds.lowest), reg(s.bounds.highest));
  } else {
    good = newton.free(-HUGE_VAL, HUGE_VAL);
  }
  unknown = newton.x;
  if (!good && state.unsolved == kNone) state.unsolved = static_cast<std::int32_t>(index);
}

// ---- delays ---------------------------------------------------------------------------------------------

/// Sample k of a ring was taken at k steps from the start.
void Plant::recall(std::size_t index, double lag, PlantState& state) const {
  if (state.remembered == 0) return;  // primed by hand
  const model::Delay& d = program_->delays[index];
  const Ring& ring = rings_[index];
  const double step = to_seconds(program_->step);
  const double bounded = std::min(std::max(lag, step), to_seconds(d.longest));
  const double place = std::max(0.0, (state.values[0] - bounded) / step);
  const std::int64_t newest = state.remembered - 1;
  const std::int64_t oldest = std::max<std::int64_t>(0, state.remembered - static_cast<std::int64_t>(ring.size));
  // A millionth of a step of tolerance: instants are exact, seconds as doubles are rounded.
  const auto k = std::clamp(static_cast<std::int64_t>(std::floor(place + 1e-6)), oldest, newest);
  const auto sample = [&](std::int64_t i) {
    return state.history[ring.begin + static_cast<std::size_t>(i) % ring.size];
  };
  const double share = std::clamp(place - static_cast<double>(k), 0.0, 1.0);
  const bool whole = d.held || share < 2e-6 || k == newest;
  state[d.out] = whole ? sample(k) : sample(k) + share * (sample(k + 1) - sample(k));
}

/// Before the start everything was as it is at the start.
void Plant::prime_delays(PlantState& state) const {
  run_code(delay_code_, state);
  for (std::size_t i = 0; i < rings_.size(); ++i)
    state[program_->delays[i].out] = state.values[static_cast<std::size_t>(rings_[i].input)];
}

void Plant::remember(PlantState& state) const {
  if (rings_.empty()) return;
  run_code(delay_code_, state);
  for (const Ring& ring : rings_) {
    const auto at = static_cast<std::size_t>(state.remembered) % ring.size;
    state.history[ring.begin + at] = state.values[static_cast<std::size_t>(ring.input)];
  }
  ++state.remembered;
}

}  // namespace isodyne::engine
