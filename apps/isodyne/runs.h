#pragma once
// Run folders that are named on the command line.

#include <optional>
#include <string>
#include <vector>

#include "command.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::app {

/// Opens the recording of a run folder, or a file; says aside if nobody has closed it.
Result<std::unique_ptr<record::Recording>> open_recording(const std::string& path);
void say_if_unfinished(const record::Recording& recording, const std::string& path);

/// All of them, opened; on a mistake says so and gives nothing.
std::optional<std::vector<session::RunFolder>> open_runs(const std::vector<std::string>& folders);

/// Makes the folder of a new run, that of --out or runs/NNN-NAME; an earlier run is never written over.
Result<std::string> make_run_folder(const Arguments& arguments, const std::string& name);

}  // namespace isodyne::app
