#pragma once
// The picture of a circuit: each node is a level line, each element stands upright between the lines of its two nodes.
// A dot is a connection; lines that cross without one are none.

#include <string>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::present {

/// Draws the network that has elements in the part `part`, and of it those elements; empty: the only network there is.
/// `file` ends in .svg, .png or .pdf. Fails with what there is to choose from.
Status draw_network(const program::Program& program, const std::string& part, const std::string& file);

}  // namespace isodyne::present
