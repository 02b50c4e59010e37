#pragma once
// Run folders that are named on the command line.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/present/run_folder.h"

namespace isodyne::app {

/// All of them, opened; on a mistake says so and gives nothing.
std::optional<std::vector<present::RunFolder>> open_runs(const std::vector<std::string>& folders);

}  // namespace isodyne::app
