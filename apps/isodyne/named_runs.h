#pragma once
// Run folders that are named on the command line.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/run_folder.h"

namespace isodyne::app {

/// Opens the recording of a run folder, or a file; says aside if nobody has closed it.
Result<std::unique_ptr<record::Recording>> open_recording(const std::string& path);
void say_if_unfinished(const record::Recording& recording, const std::string& path);

/// All of them, opened; on a mistake says so and gives nothing.
std::optional<std::vector<session::RunFolder>> open_runs(const std::vector<std::string>& folders);

}  // namespace isodyne::app
