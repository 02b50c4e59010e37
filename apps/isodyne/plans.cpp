#include "plans.h"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/ports/library_port.h"
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
  for (const std::string& n : names) all += (all.empty() ? "" : ", ") + n;
  const auto meant = closest(name, names);
  say_error(fmt::format("bench {} has no {} `{}`; {}", bench, what, name,
                        meant           ? fmt::format("did you mean `{}`?", *meant)
                        : names.empty() ? fmt::format("it declares no {}", what)
                                        : "it has " + all));
  return std::nullopt;
}

}  // namespace

bool read_seed(const Arguments& arguments, std::uint64_t& seed) {
  const auto text = arguments.value(Option::seed);
  if (!text) return true;
  const auto read = std::from_chars(text->data(), text->data() + text->size(), seed);
  if (read.ec == std::errc{} && read.ptr == text->data() + text->size()) return true;
  say_error(fmt::format("--seed takes a whole number from 0 to 18446744073709551615, not `{}`", *text));
  return false;
}

std::optional<Wanted> read_plan(const Arguments& arguments, const model::Program& program) {
  Wanted wanted;
  bench::RunPlan& plan = wanted.plan;
  if (arguments.words.size() > 1) {
    const auto scenario = index_of(program.scenarios, arguments.words[1], "scenario", program.name);
    if (!scenario) return std::nullopt;
    plan.scenario = *scenario;
  }
  for (const std::string& name : arguments.values(Option::fault)) {
    const auto fault = index_of(program.faults, name, "fault", program.name);
    if (!fault) return std::nullopt;
    plan.faults.push_back(*fault);
  }
  if (!read_seed(arguments, plan.seed)) return std::nullopt;
  for (const Option option : {Option::span, Option::answer_within}) {
    const auto text = arguments.value(option);
    if (!text) continue;
    const auto span = read_span(*text);
    if (!span || span->count() == 0) {
      say_error(fmt::format("`{}` is not a time; write for example \"90 s\" or \"2 min\"", *text));
      return std::nullopt;
    }
    if (option == Option::span) plan.longest = span;
    if (option == Option::answer_within)
      wanted.answer_within =
          std::max(std::chrono::milliseconds(1), std::chrono::duration_cast<std::chrono::milliseconds>(*span));
  }
  if (plan.scenario == model::kNone && !plan.longest) {
    std::string all;
    for (const model::Scenario& s : program.scenarios) all += (all.empty() ? "" : ", ") + s.name;
    say_error(fmt::format("name a scenario ({}), or say how long to run with --for",
                          all.empty() ? "the bench has none" : all));
    return std::nullopt;
  }
  plan.setting = arguments.value(Option::setting).value_or("");
  if (!arguments.has(Option::interpret)) plan.native = engine::NativeSettings::usual();
  if (const auto trouble = bench::trouble_with(program, plan)) {
    say_error(trouble->text());
    return std::nullopt;
  }
  return wanted;
}

bench::PortMaker ports_for(const std::shared_ptr<const model::Program>& program, const std::string& file,
                           ports::CallGuard& guard) {
  return [program, folder = folder_of(file), &guard](
             const model::Controller& c, const model::Setting& s) -> std::unique_ptr<ports::ControllerPort> {
    return std::make_unique<ports::LibraryPort>(c.name, ports::layout_of(*program, c), folder, s.library, guard);
  };
}

}  // namespace isodyne::app
