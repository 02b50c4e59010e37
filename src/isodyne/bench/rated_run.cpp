#include "isodyne/bench/rated_run.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/engine/running_plant.h"

namespace isodyne::bench {

namespace {

constexpr std::int64_t kMostSteps = 4'000'000;
constexpr double kStill = 1e-6;

/// Tells when states have come to rest: their range over a growing window stays small against their size.
class Rest {
 public:
  explicit Rest(const program::Program& p)
      : p_(p), low_(p.states.size()), high_(p.states.size()), size_(p.states.size()) {}

  bool reached(const engine::PlantState& state, std::int64_t step) {
    if (step >= end_) {
      const bool still = step > 0 && is_still();
      begin(state, step);
      return still;
    }
    for (std::size_t i = 0; i < p_.states.size(); ++i) {
      const double x = state[p_.states[i].value];
      low_[i] = std::min(low_[i], x);
      high_[i] = std::max(high_[i], x);
    }
    return false;
  }

 private:
  void begin(const engine::PlantState& state, std::int64_t step) {
    end_ = step + std::max<std::int64_t>(1000, step / 10);
    for (std::size_t i = 0; i < p_.states.size(); ++i) {
      const double x = state[p_.states[i].value];
      size_[i] = std::max({size_[i], std::abs(x), std::abs(high_[i]), std::abs(low_[i])});
      low_[i] = high_[i] = x;
    }
  }
  bool is_still() const {
    for (std::size_t i = 0; i < low_.size(); ++i) {
      if (!(high_[i] - low_[i] <= kStill * std::max({size_[i], std::abs(high_[i]), std::abs(low_[i])}))) return false;
    }
    return true;
  }

  const program::Program& p_;
  std::vector<double> low_, high_, size_;
  std::int64_t end_ = 0;
};

}  // namespace

RatedResult run_rated(const program::RatedCase& rated) {
  const program::Program& p = *rated.program;
  RatedResult result;
  engine::RunningPlant plant(rated.program);
  engine::PlantState state = plant.start({});
  Rest rest(p);
  for (std::int64_t step = 0;; ++step) {
    plant.settle(state);
    const bool done = rated.after ? state.now >= *rated.after : rest.reached(state, step);
    if (done) break;
    if (!rated.after && step >= kMostSteps) {
      result.trouble = "it does not come to rest; state a time, `after 5 s`, or a longer `step`";
      break;
    }
    if (plant.step(state).kind != engine::PlantTrouble::Kind::none) {
      result.trouble = fmt::format("it cannot be computed beyond {}", format_instant(state.now));
      break;
    }
  }
  result.reached = to_seconds(state.now);
  std::vector<program::NodeId> nodes;
  for (const auto& e : rated.expected) nodes.insert(nodes.end(), {e.value, e.expected, e.tolerance});
  engine::Evaluator values(p, nodes);
  values.evaluate(state.values.data());
  for (std::size_t i = 0; i < rated.expected.size(); ++i) {
    RatedResult::Value v{values.value(3 * i), values.value(3 * i + 1), values.value(3 * i + 2), false};
    const double allowed = rated.expected[i].relative ? v.tolerance * std::abs(v.expected) : v.tolerance;
    v.matches = std::abs(v.found - v.expected) <= allowed;
    result.values.push_back(v);
  }
  return result;
}

}  // namespace isodyne::bench
