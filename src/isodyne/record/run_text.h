#pragma once
// What a bench takes from an earlier run, as the text of a file: so that it stands among its sources like any other.

#include <optional>
#include <string>

#include "isodyne/core/result.h"

namespace isodyne::record {

/// Names that mean a part of a run: "runs/001-uplock#chamber.level" is a signal over time, as CSV;
/// "runs/001-uplock@5000000000" are all its values at the last recorded instant up to that one (ns), a name and a
/// number (SI) a line. The run is a folder, or a recording. Nothing: the name is that of a plain file.
std::optional<Result<std::string>> text_from_run(const std::string& name);

}  // namespace isodyne::record
