#pragma once
// The part of a controller's C header that is about one frame: its bytes, and functions that read and write fields.

#include <string>

#include "isodyne/program/program.h"

namespace isodyne::ports {

/// A struct of the bytes as they go over a wire, with `get` and `set` functions for each field: the raw number, and for
/// channels with counts also the quantity in SI. They work on any processor, whatever its order of bytes.
std::string frame_text(const program::Program& program, const program::Frame& frame);

/// Changes when the meaning of any bit does.
std::string frame_identity(const program::Program& program, const program::Frame& frame);

}  // namespace isodyne::ports
