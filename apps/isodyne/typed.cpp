#include "typed.h"

#include <fmt/format.h>

#include "terminal.h"

namespace isodyne::app {

std::shared_ptr<const program::Program> with_text(const session::Bench& bench, const std::string& text,
                                                  const char* name) {
  const check::Loaded loaded = session::loaded_with(bench, text, name);
  if (loaded.program == nullptr) print_mistakes(loaded);
  return loaded.program;
}

void print_mistakes(const check::Loaded& loaded) {
  put(stderr, loaded.diagnostics.render(*loaded.sources, colours_on(stderr)));
}

void print_mistakes(const session::Probe& probe) {
  probe.memory().empty() ? print_mistakes(probe.mistakes()) : say_error(probe.why_not());
}

std::optional<std::vector<std::pair<program::VarId, double>>> read_overrides(const Arguments& arguments,
                                                                             const session::Bench& bench) {
  std::vector<std::pair<program::VarId, double>> overrides;
  std::string starts;
  for (const std::string& one : arguments.values(Option::with)) {
    if (const std::size_t at = one.find('='); at == std::string::npos || at == 0)
      return say_error(fmt::format("--with takes NAME=VALUE, such as \"chamber.level=2 m\", not `{}`", one)),
             std::nullopt;
    starts += "  start " + one + "\n";
  }
  if (starts.empty()) return overrides;
  const auto own = with_text(bench, fmt::format("scenario begun_with {{\n{}}}\n", starts), "--with");
  if (own == nullptr) return std::nullopt;
  for (const program::Scenario::Start& s : own->scenarios.back().start) {
    const program::VarId here = bench.program->find(own->variable(s.target).name);
    if (here == program::kNone)
      return say_error(fmt::format("`{}` is not in this run", own->variable(s.target).name)), std::nullopt;
    overrides.emplace_back(here, s.value);
  }
  return overrides;
}

}  // namespace isodyne::app
