#include "isodyne/bench/run_plan.h"
#include "isodyne/core/text.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/bench/door.h"
#include "isodyne/bench/fault_player.h"
#include "isodyne/bench/plant_commands.h"

namespace isodyne::bench {

namespace {

/// One choice among those with commas between them.
struct Choice {
  std::string controller, setting;  ///< no controller: of all that have it
};

std::vector<Choice> choices_in(const std::string& chosen) {
  std::vector<Choice> all;
  for (std::size_t at = 0; at < chosen.size();) {
    const std::size_t end = std::min(chosen.find(',', at), chosen.size());
    const std::string word = trimmed(chosen.substr(at, end - at));
    const std::size_t equals = word.find('=');
    if (equals == std::string::npos) {
      all.push_back({"", word});
    } else {
      all.push_back({trimmed(word.substr(0, equals)), trimmed(word.substr(equals + 1))});
    }
    at = end + 1;
  }
  return all;
}

const program::Setting* named(const program::Controller& c, const std::string& name) {
  const auto found =
      std::find_if(c.settings.begin(), c.settings.end(), [&](const program::Setting& s) { return s.name == name; });
  return found == c.settings.end() ? nullptr : &*found;
}

/// What is chosen and nobody has.
std::optional<Failure> trouble_with(const program::Program& program, const std::string& chosen) {
  for (const Choice& choice : choices_in(chosen)) {
    std::string known, who;
    std::vector<std::string> settings;
    bool any = false, there = choice.controller.empty();
    for (const program::Controller& c : program.controllers) {
      list_on(who, c.name);
      if (!choice.controller.empty() && choice.controller != c.name && choice.controller != c.array) continue;
      there = true;
      any = any || named(c, choice.setting) != nullptr;
      for (const program::Setting& s : c.settings) {
        if (std::find(settings.begin(), settings.end(), s.name) != settings.end()) continue;
        settings.push_back(s.name);
        list_on(known, s.name);
      }
    }
    if (!there)
      return Failure{fmt::format("setting `{}={}`: there is no controller `{}`", choice.controller, choice.setting,
                                 choice.controller),
                     "", who.empty() ? "this bench has none" : "the controllers are: " + who};
    if (any || program.controllers.empty()) continue;
    const bool one = program.controllers.size() == 1 || !choice.controller.empty();
    const std::string& name = choice.controller.empty() ? program.controllers.front().name : choice.controller;
    return Failure{one ? fmt::format("controller `{}` has no setting `{}`", name, choice.setting)
                       : fmt::format("no controller has a setting `{}`", choice.setting),
                   "", fmt::format("{} {}", one ? "it has" : "they have", known)};
  }
  return std::nullopt;
}
}  // namespace

const program::Setting* setting_of(const program::Controller& c, const std::string& chosen) {
  const program::Setting *of_array = nullptr, *of_all = nullptr;
  for (const Choice& choice : choices_in(chosen)) {
    if (choice.controller == c.name) return named(c, choice.setting);
    const program::Setting* const one = named(c, choice.setting);
    if (of_array == nullptr && !c.array.empty() && choice.controller == c.array) of_array = one;
    if (of_all == nullptr && choice.controller.empty()) of_all = one;
  }
  if (of_array != nullptr) return of_array;
  return of_all != nullptr ? of_all : c.settings.empty() ? nullptr : &c.settings.front();
}

/// A fixed parameter is part of how the bench is put together, and what is computed has no value of its own.
std::optional<Failure> start_trouble(const program::Program& program, program::VarId id, double value) {
  using program::Role;
  const program::Variable& v = program.variable(id);
  const std::string what = fmt::format("cannot begin with another value of `{}`", v.name);
  if (v.role == Role::fixed_param)
    return Failure{what, "", "it is fixed: the bench is put together with it; change it in the text"};
  if (!program.startable(id))
    return Failure{what, "", "it is computed by the bench; states, memories, inputs and parameters are not"};
  const observe::Refusal refusal = fits(program, v, value);
  if (refusal == observe::Refusal::none) return std::nullopt;
  return Failure{fmt::format("`{}` cannot begin with {}", v.name, program.format(id, value)), "",
                 observe::refusal_text(refusal)};
}

/// A setting of a fault that this run does not have would be given, and nothing would come of it.
static std::optional<Failure> idle_setting(const program::Program& program, const RunPlan& plan) {
  std::vector<program::VarId> given;
  for (const auto& [id, value] : plan.overrides) given.push_back(id);
  if (plan.scenario != program::kNone) {
    for (const auto& start : at(program.scenarios, plan.scenario).start) given.push_back(start.target);
  }
  const std::vector<std::int32_t> injected = faults_of(program, plan.scenario);
  for (const program::VarId id : given) {
    const std::int32_t fault = program::fault_of_setting(program, id);
    const auto has = [&](const std::vector<std::int32_t>& all) {
      return std::find(all.begin(), all.end(), fault) != all.end();
    };
    if (fault == program::kNone || has(plan.faults) || has(injected)) continue;
    const std::string& name = at(program.faults, fault).name;
    return Failure{fmt::format("`{}` is given, and the run has no fault `{}`", program.variable(id).name, name), "",
                   fmt::format("add --fault {}", name)};
  }
  return std::nullopt;
}

std::optional<Failure> trouble_with(const program::Program& program, const RunPlan& plan) {
  for (const auto& [id, value] : plan.overrides) {
    if (auto trouble = start_trouble(program, id, value)) return trouble;
  }
  if (auto idle = idle_setting(program, plan)) return idle;
  if (plan.reference && !program.networks.empty())
    return Failure{"the reference integrates equations, and this bench has a network", "",
                   "compare it with a shorter step"};
  if (auto clash = clash_among(program, plan.faults, plan.scenario)) return clash;
  if (plan.scenario != program::kNone) {
    const program::Scenario& scenario = program.scenarios[static_cast<std::size_t>(plan.scenario)];
    if (!scenario.needs.empty())
      return Failure{fmt::format("scenario `{}` needs a value for `{}`", scenario.name, scenario.needs), "",
                     fmt::format("give the parameter a default, or do it from another scenario: do {}({} = …)",
                                 scenario.name, scenario.needs)};
  }
  if (auto trouble = trouble_with(program, plan.setting)) return trouble;
  for (const program::Controller& c : program.controllers) {
    const program::Setting* setting = setting_of(c, plan.setting);
    if (setting == nullptr) continue;
    const program::PortKind& kind = program::port_kind(setting->kind);
    // It cannot wait for the plant.
    if (plan.pace || kind.pace != program::Pace::free) continue;
    return Failure{
        fmt::format("controller `{}` runs by its own clock under setting `{}` ({})", c.name, setting->name, kind.words),
        "", "add --paced, so that the plant keeps to the wall clock too"};
  }
  return std::nullopt;
}

}  // namespace isodyne::bench
