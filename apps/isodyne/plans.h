#pragma once
// From the command line to what a run needs: for every command that runs a bench.

#include <chrono>
#include <memory>
#include <optional>
#include <string>

#include "isodyne/bench/run.h"
#include "isodyne/session/run_service.h"
#include "subcommand.h"

namespace isodyne::app {

struct Wanted {
  bench::RunPlan plan;
  std::chrono::milliseconds answer_within{1000};
  std::optional<std::int64_t> max_overruns;
};

/// Scenario, faults, seed, setting, span; on a mistake says so and gives nothing.
std::optional<Wanted> read_plan(const Arguments& arguments, const program::Program& program);

/// The same bench, of which a run shows these quantities at their own instants too.
std::shared_ptr<const session::Bench> looked_at(const session::Bench& bench, const std::vector<program::VarId>& ids);

/// Places of a scenario and of a fault by their names; a name that does not exist is said so, with what is near.
std::optional<std::int32_t> scenario_named(const program::Program& program, const std::string& name);
std::optional<std::int32_t> fault_named(const program::Program& program, const std::string& name);

/// A whole number from 1 to `most`, if the option is given; false after saying what is wrong with it.
bool read_whole(const Arguments& arguments, Option option, std::size_t most, std::size_t& to);

/// --answer-within, if it is given; false after saying what is wrong with it.
bool read_answer_within(const Arguments& arguments, std::chrono::milliseconds& to);

/// --setting, if it is given; false after saying what is wrong with it.
bool read_setting(const Arguments& arguments, const program::Program& program, std::string& to);

/// --seed, if it is given; false after saying what is wrong with it.
bool read_seed(const Arguments& arguments, std::uint64_t& seed);

/// --core, if it is given; false after saying what is wrong with it.
bool read_core(const Arguments& arguments, int& core);

}  // namespace isodyne::app
