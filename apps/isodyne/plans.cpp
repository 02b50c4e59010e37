#include "plans.h"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

template <typename List>
std::optional<std::int32_t> index_of(const List& list, const std::string& name, const char* what,
                                     const std::string& bench) {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < list.size(); ++i) {
    if (list[i].name == name) return static_cast<std::int32_t>(i);
    names.push_back(list[i].name);
  }
  std::string all;
  for (const std::string& n : names) list_on(all, n);
  const auto meant = did_you_mean(name, names);
  say_error(fmt::format("bench {} has no {} `{}`; {}", bench, what, name,
                        meant           ? *meant
                        : names.empty() ? fmt::format("it declares no {}", what)
                                        : "it has " + all));
  return std::nullopt;
}

}  // namespace

std::optional<std::int32_t> scenario_named(const program::Program& program, const std::string& name) {
  return index_of(program.scenarios, name, "scenario", program.name);
}

std::optional<std::int32_t> fault_named(const program::Program& program, const std::string& name) {
  return index_of(program.faults, name, "fault", program.name);
}

namespace {

/// A number of an option within limits; false after saying what is wrong.
template <typename T>
bool read_number(const Arguments& arguments, Option option, const char* name, T lowest, T highest, T& to) {
  const auto text = arguments.value(option);
  if (!text) return true;
  const auto read = std::from_chars(text->data(), text->data() + text->size(), to);
  if (read.ec == std::errc{} && read.ptr == text->data() + text->size() && to >= lowest && to <= highest) return true;
  say_error(fmt::format("--{} takes a number from {} to {}, not `{}`", name, lowest, highest, *text));
  return false;
}

bool read_pace(const Arguments& arguments, Wanted& wanted) {
  if (!read_number(arguments, Option::cores, "cores", 1, program::kMostCores, wanted.plan.cores)) return false;
  if (!arguments.has(Option::paced)) {
    for (const auto& [option, name] : {std::pair{Option::speed, "speed"}, std::pair{Option::core, "core"},
                                       std::pair{Option::max_overruns, "max-overruns"}}) {
      if (!arguments.has(option)) continue;
      say_error(fmt::format("--{} is about runs that keep to the wall clock: add --paced", name));
      return false;
    }
    return true;
  }
  bench::PacePlan pace;
  std::int64_t most = 0;
  if (!read_number(arguments, Option::speed, "speed", 0.001, 1000.0, pace.speed) || !read_core(arguments, pace.core) ||
      !read_number<std::int64_t>(arguments, Option::max_overruns, "max-overruns", 0, 1'000'000'000'000, most))
    return false;
  if (arguments.has(Option::max_overruns)) wanted.max_overruns = most;
  wanted.plan.pace = pace;
  return true;
}

}  // namespace

bool read_core(const Arguments& arguments, int& core) {
  return read_number(arguments, Option::core, "core", 0, 1023, core);
}

bool read_seed(const Arguments& arguments, std::uint64_t& seed) {
  const auto text = arguments.value(Option::seed);
  if (!text) return true;
  const auto read = std::from_chars(text->data(), text->data() + text->size(), seed);
  if (read.ec == std::errc{} && read.ptr == text->data() + text->size()) return true;
  say_error(fmt::format("--seed takes a whole number from 0 to 18446744073709551615, not `{}`", *text));
  return false;
}

bool read_whole(const Arguments& arguments, Option option, std::size_t most, std::size_t& to) {
  const auto text = arguments.value(option);
  if (!text) return true;
  std::size_t n = 0;
  const auto [rest, trouble] = std::from_chars(text->data(), text->data() + text->size(), n);
  if (trouble != std::errc{} || rest != text->data() + text->size() || n < 1 || n > most)
    return say_error(fmt::format("{} takes a number from 1 to {}, not `{}`", spelled(option), most, *text)), false;
  to = n;
  return true;
}

bool read_answer_within(const Arguments& arguments, std::chrono::milliseconds& to) {
  const auto text = arguments.value(Option::answer_within);
  if (!text) return true;
  const auto span = read_span(*text);
  if (!span || span->count() <= 0)
    return say_error(fmt::format("`{}` is not a time; write for example \"90 s\" or \"2 min\"", *text)), false;
  to = std::max(std::chrono::milliseconds(1), std::chrono::duration_cast<std::chrono::milliseconds>(*span));
  return true;
}

bool read_setting(const Arguments& arguments, const program::Program& program, std::string& to) {
  bench::RunPlan plan;
  plan.setting = arguments.value(Option::setting).value_or("");
  plan.longest = std::chrono::seconds(1);
  if (const auto trouble = bench::trouble_with(program, plan)) return say_error(trouble->text()), false;
  to = plan.setting;
  return true;
}

std::optional<Wanted> read_plan(const Arguments& arguments, const program::Program& program) {
  Wanted wanted;
  bench::RunPlan& plan = wanted.plan;
  if (arguments.words.size() > 1) {
    const auto scenario = scenario_named(program, arguments.words[1]);
    if (!scenario) return std::nullopt;
    plan.scenario = *scenario;
  }
  for (const std::string& name : arguments.values(Option::fault)) {
    const auto fault = fault_named(program, name);
    if (!fault) return std::nullopt;
    plan.faults.push_back(*fault);
  }
  for (const std::int32_t f : bench::faults_of(program, plan.scenario)) {
    if (std::find(plan.faults.begin(), plan.faults.end(), f) == plan.faults.end()) plan.faults.push_back(f);
  }
  if (!read_seed(arguments, plan.seed)) return std::nullopt;
  if (!read_answer_within(arguments, wanted.answer_within)) return std::nullopt;
  if (const auto text = arguments.value(Option::span)) {
    plan.longest = read_span(*text);
    if (!plan.longest || plan.longest->count() == 0) {
      say_error(fmt::format("`{}` is not a time; write for example \"90 s\" or \"2 min\"", *text));
      return std::nullopt;
    }
  }
  if (plan.scenario == program::kNone && !plan.longest && !arguments.has(Option::open)) {  // somebody ends that one
    std::string all;
    for (const program::Scenario& s : program.scenarios) list_on(all, s.name);
    say_error(fmt::format("name a scenario ({}), or say how long to run with --for",
                          all.empty() ? "the bench has none" : all));
    return std::nullopt;
  }
  if (!read_pace(arguments, wanted)) return std::nullopt;
  plan.setting = arguments.value(Option::setting).value_or("");
  if (!arguments.has(Option::interpret)) plan.native = engine::NativeSettings::usual();
  if (const auto trouble = bench::trouble_with(program, plan)) {
    say_error(trouble->text());
    return std::nullopt;
  }
  return wanted;
}

std::shared_ptr<const session::Bench> looked_at(const session::Bench& bench, const std::vector<program::VarId>& ids) {
  auto program = std::make_shared<program::Program>(*bench.program);
  program->looked_at = ids;
  auto own = std::make_shared<session::Bench>(bench);
  own->program = std::move(program);
  return own;
}

}  // namespace isodyne::app
