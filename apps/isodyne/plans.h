#pragma once
// From the command line to what a run needs: for every command that runs a bench.

#include <chrono>
#include <memory>
#include <optional>
#include <string>

#include "command.h"
#include "isodyne/bench/run.h"
#include "isodyne/ports/guard.h"

namespace isodyne::app {

struct Wanted {
  bench::RunPlan plan;
  std::chrono::milliseconds answer_within{1000};
};

/// Scenario, faults, seed, setting, span; on a mistake says so and gives nothing.
std::optional<Wanted> read_plan(const Arguments& arguments, const model::Program& program);

/// --seed, if it is given; false after saying what is wrong with it.
bool read_seed(const Arguments& arguments, std::uint64_t& seed);

/// Ports of controllers under their settings, relative to the folder of the bench file. `guard` outlives them.
bench::PortMaker ports_for(const std::shared_ptr<const model::Program>& program, const std::string& file,
                           ports::CallGuard& guard);

}  // namespace isodyne::app
