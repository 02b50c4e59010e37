#pragma once
// Where `use library "…"` looks.

#include <string>
#include <vector>

#include "isodyne/core/result.h"

namespace isodyne::app {

/// Folders in the order they are looked through: those of the environment variable ISODYNE_LIBRARY
/// (separated by colons), then the parts shipped with this program.
std::vector<std::string> library_folders();

/// The text of a library file, from the first folder that has it.
Result<std::string> read_library_file(const std::string& name);

}  // namespace isodyne::app
