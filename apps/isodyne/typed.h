#pragma once
// What is typed about a bench that is loaded already: checked as a text of the bench would be, in a bench of its own.

#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "subcommand.h"

namespace isodyne::app {

/// The bench with one more text; mistakes are printed, null then.
std::shared_ptr<const program::Program> with_text(const std::string& file, const std::string& harness,
                                                  const std::string& text, const char* name = "what was typed");

/// The quantities of both that have the same name: there, here.
std::vector<std::pair<program::VarId, program::VarId>> matched(const program::Program& there,
                                                               const program::Program& here);

/// --with NAME=VALUE, SI; mistakes are printed, nothing then.
std::optional<std::vector<std::pair<program::VarId, double>>> read_overrides(const Arguments& arguments,
                                                                             const std::string& file,
                                                                             const std::string& harness,
                                                                             const program::Program& program);

}  // namespace isodyne::app
