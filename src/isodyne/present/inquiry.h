#pragma once
// Answers about a Program: what a name means, and how the parts hang together.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::present {

/// A heading and what belongs to it, for people: "unit" → "m".
using Facts = std::vector<std::pair<std::string, std::string>>;

/// What a quantity is, where it comes from, and who reads it.
Facts facts_of(const program::Program& program, program::VarId id);
/// What a part is made of. `path` is that of an existing part.
Facts facts_of_part(const program::Program& program, const std::string& path);

/// The value a variable starts with, SI; none where it is not known before the run.
std::optional<double> start_value(const program::Program& program, program::VarId id);
/// The value a variable starts with as people read it, or as it is written; empty if there is none.
std::string start_text(const program::Program& program, program::VarId id);
/// "0 m .. 9 m", or empty.
std::string limits_text(const program::Program& program, program::VarId id);

/// The parts of the bench, its channels and controllers, and what flows between them, for Graphviz.
std::string structure_dot(const program::Program& program);
/// Draws it as SVG.
Status draw_structure(const program::Program& program, const std::string& file);

}  // namespace isodyne::present
