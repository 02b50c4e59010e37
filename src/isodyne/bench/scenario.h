#pragma once
// Plays a scenario: top to bottom, several actions in one instant where nothing has to be waited for.

#include <optional>
#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/engine/plant.h"

namespace isodyne::bench {

class ScenarioPlayer {
 public:
  /// `scenario` is an index into program.scenarios, or kNone: then there is nothing to play.
  ScenarioPlayer(const model::Program& program, std::int32_t scenario);

  /// Start values of the scenario, for Plant::start().
  const std::vector<std::pair<model::VarId, double>>& start_values() const { return start_values_; }

  /// Decides from the settled image what happens at `next`, the instant after it.
  void plan(const double* image, Time next);
  /// Carries the plan out at its instant.
  void apply(engine::PlantState& state, Observer& observer);

  bool finished() const { return step_ >= steps_.size(); }
  /// The wait that took longer than allowed, if one did.
  const model::ScenarioStep* timed_out() const { return timed_out_; }
  std::size_t at_step() const { return step_; }
  std::size_t steps() const { return steps_.size(); }

 private:
  struct Step {
    model::ScenarioStep step;
    std::int32_t index = 0;
    engine::Evaluator value;
    model::VarId write_to = model::kNone;  ///< the healthy variable of a tapped target
  };
  struct Planned {
    model::VarId target = model::kNone;
    double value = 0;
  };
  void begin(const double* image, Time next);
  bool is_over(const double* image, Time next);
  void write(const Step& s, double value) { planned_.push_back({s.write_to, value}); }

  const model::Program& program_;
  std::int32_t scenario_;
  std::vector<Step> steps_;
  std::vector<std::pair<model::VarId, double>> start_values_;
  std::vector<Planned> planned_;
  std::vector<Event> planned_events_;
  std::size_t step_ = 0;
  bool begun_ = false;
  Time since_{};
  double from_ = 0, to_ = 0;  ///< of a ramp
  const model::ScenarioStep* timed_out_ = nullptr;
};

}  // namespace isodyne::bench
