#pragma once
// Why a run came to its end, and what a reader of its verdicts has to know, in words. Made once, after the last step.

#include <string>
#include <utility>
#include <vector>

#include "isodyne/bench/number_watch.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/observe/command.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

/// Why a run ended before it was over.
struct Reason {
  observe::Ending ending = observe::Ending::completed;
  std::string text;
  std::vector<std::string> details;  ///< values that help to see why, a line each
  bool shown = false;                ///< the instant at which it ended is still shown to who watches
};

/// A wait of the scenario that took longer than allowed.
Reason wait_timed_out(const program::Program& program, const engine::PlantState& state,
                      const program::ScenarioStep& step);

/// Trouble of the plant itself. `start`: values of the scenario that the run began with.
Reason plant_trouble(engine::RunningPlant& plant, const engine::PlantState& state, const engine::PlantTrouble& trouble,
                     const std::vector<std::pair<program::VarId, double>>& start);

/// Something read what is no number.
Reason no_number(NumberWatch::Story story);

/// Where implicit steps, which are stable whatever they do, may be far off; empty: nowhere.
std::string implicit_doubt(const program::Program& program, const engine::PlantState& state);
/// A quantity that nobody reads was without a value.
std::string without_value(const program::Program& program, const NumberWatch::Missing& missing);
/// What was done by hand in the run that is repeated, and could not be done again.
std::string refused_again(const program::Program& program, const observe::CommandOutcome& first, std::int64_t of);
/// A fault acted and changed nothing.
std::string without_effect(const program::Program& program, std::int32_t fault);

}  // namespace isodyne::bench
