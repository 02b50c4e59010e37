#include "named_runs.h"

#include <fmt/format.h>

#include "terminal.h"

namespace isodyne::app {

void say_if_unfinished(const record::Recording& recording, const std::string& path) {
  if (!recording.unfinished()) return;
  const std::string until =
      recording.times().empty() ? "nothing so far" : format_instant(Time{recording.times().back()});
  say_aside(recording.growing()
                ? fmt::format("{} is still being recorded: this is what there is, up to {}", path, until)
                : fmt::format("{} breaks off at {}: the run was killed, or the disk was full "
                              "(`isodyne recover` makes the file whole)",
                              path, until));
}

Result<std::unique_ptr<record::Recording>> open_recording(const std::string& path) {
  auto recording = record::Recording::open_run(path);
  if (recording) say_if_unfinished(**recording, path);
  return recording;
}

std::optional<std::vector<session::RunFolder>> open_runs(const std::vector<std::string>& folders) {
  std::vector<session::RunFolder> runs;
  for (const std::string& folder : folders) {
    auto run = session::open_run(folder);
    if (!run) {
      say_error(run.failure().text());
      return std::nullopt;
    }
    runs.push_back(std::move(*run));
  }
  return runs;
}

}  // namespace isodyne::app
