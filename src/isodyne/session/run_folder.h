#pragma once
// A run, opened: the recording, and the bench as it was then, with its own requirements or with others.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/check/load.h"
#include "isodyne/core/result.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

struct RunFolder {
  std::string path;
  Summary summary;
  std::unique_ptr<record::Recording> recording;
  std::shared_ptr<const program::Program> program;
};

/// Opens a run folder; the bench is checked again from the sources in the recording.
Result<RunFolder> open_run(const std::string& path);

/// A recording, of a folder or a file, with its bench, to which `rules` are added. Mistakes in the rules are in
/// `loaded`; the program is then null. Verdicts need not be there.
struct OpenRecording {
  std::unique_ptr<record::Recording> recording;
  check::Loaded loaded;
  std::vector<std::string> of_today;  ///< files of the library that the rules use and the run did not
};
Result<OpenRecording> open_recording(const std::string& path, const std::optional<check::Rules>& rules = std::nullopt);

}  // namespace isodyne::session
