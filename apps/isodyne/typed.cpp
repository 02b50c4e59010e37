#include "typed.h"

#include <map>

#include <fmt/format.h>

#include "terminal.h"

namespace isodyne::app {

/// The bench with one more text; mistakes are printed, null then.
std::shared_ptr<const program::Program> with_text(const std::string& file, const std::string& harness,
                                                  const std::string& text, const char* name) {
  check::Wish wish;
  wish.harness = harness;
  wish.rules = check::Rules{name, text, false};
  const check::Loaded loaded = load_file(file, wish);
  if (loaded.program == nullptr) put(stderr, loaded.diagnostics.render(*loaded.sources, colours_on(stderr)));
  return loaded.program;
}

std::vector<std::pair<program::VarId, program::VarId>> matched(const program::Program& there,
                                                               const program::Program& here) {
  std::map<std::string, program::VarId> known;
  for (std::size_t i = 0; i < here.variables.size(); ++i)
    known[here.variables[i].name] = static_cast<program::VarId>(i);
  std::vector<std::pair<program::VarId, program::VarId>> same;
  for (std::size_t i = 0; i < there.variables.size(); ++i) {
    const auto found = known.find(there.variables[i].name);
    if (found != known.end() && !found->first.empty()) same.emplace_back(static_cast<program::VarId>(i), found->second);
  }
  return same;
}

std::optional<std::vector<std::pair<program::VarId, double>>> read_overrides(const Arguments& arguments,
                                                                             const std::string& file,
                                                                             const std::string& harness,
                                                                             const program::Program& program) {
  std::vector<std::pair<program::VarId, double>> overrides;
  std::string starts;
  for (const std::string& one : arguments.values(Option::with)) {
    if (const std::size_t at = one.find('='); at == std::string::npos || at == 0)
      return say_error(fmt::format("--with takes NAME=VALUE, such as \"chamber.level=2 m\", not `{}`", one)),
             std::nullopt;
    starts += "  start " + one + "\n";
  }
  if (starts.empty()) return overrides;
  const auto own = with_text(file, harness, fmt::format("scenario begun_with {{\n{}}}\n", starts), "--with");
  if (own == nullptr) return std::nullopt;
  for (const program::Scenario::Start& s : own->scenarios.back().start) {
    const program::VarId here = program.find(own->variable(s.target).name);
    if (here == program::kNone)
      return say_error(fmt::format("`{}` is not in this run", own->variable(s.target).name)), std::nullopt;
    overrides.emplace_back(here, s.value);
  }
  return overrides;
}

}  // namespace isodyne::app
