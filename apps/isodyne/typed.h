#pragma once
// What is typed about a bench that is loaded already: checked as a text of the bench would be, in a bench of its own.

#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/session/typed.h"
#include "subcommand.h"

namespace isodyne::app {

/// The bench with one more text; mistakes are printed, null then.
std::shared_ptr<const program::Program> with_text(const session::Bench& bench, const std::string& text,
                                                  const char* name = "what was typed");
void print_mistakes(const check::Loaded& loaded);
/// What is wrong with a condition.
void print_mistakes(const session::Probe& probe);

/// --with NAME=VALUE, SI; mistakes are printed, nothing then.
std::optional<std::vector<std::pair<program::VarId, double>>> read_overrides(const Arguments& arguments,
                                                                             const session::Bench& bench);

}  // namespace isodyne::app
