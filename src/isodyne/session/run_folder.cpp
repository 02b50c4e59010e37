#include "isodyne/session/run_folder.h"

#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"

namespace isodyne::session {

namespace fs = std::filesystem;

Result<OpenRecording> open_recording(const std::string& path, const std::optional<check::Rules>& rules) {
  auto recording = record::Recording::open_run(path);
  if (!recording) return recording.failure();
  OpenRecording run{std::move(*recording), {}, {}};
  const record::RunIdentity& identity = run.recording->identity();
  check::Wish wish;
  wish.rules = rules;
  wish.harness = identity.harness;
  wish.live = identity.live;
  const auto reader = [&](const std::string& relative) -> Result<std::string> {
    for (const auto& [name, text] : identity.sources) {
      if (name == relative) return text;
    }
    // What the rules use is beside them or in the library of today, not in the recording.
    if (rules && rules->library && relative.starts_with(check::kLibraryMark)) {
      const std::string name = relative.substr(check::kLibraryMark.size());
      auto text = rules->library(name);
      if (text) run.of_today.push_back(name);
      return text;
    }
    if (rules) return read_file(relative);  // named as the rules themselves are
    return Failure{"the recording has no source called", relative, ""};
  };
  run.loaded = check::load_bench("", identity.main, reader, wish);
  if (run.loaded.program != nullptr || rules) return run;
  return Failure{
      "cannot use the bench in the recording of", path,
      "this version of Isodyne reads it differently:\n" + run.loaded.diagnostics.render(*run.loaded.sources, false)};
}

Result<RunFolder> open_run(const std::string& path) {
  std::error_code none;
  if (!fs::is_directory(path, none)) return Failure{"cannot open the run", path, "there is no such folder"};
  auto opened = open_recording(path);
  if (!opened) return opened.failure();
  const std::string verdicts = (fs::path(path) / "verdicts.json").string();
  if (!fs::exists(verdicts, none))
    return Failure{"cannot open the run", path, fmt::format("it was never judged: isodyne judge {0} --out {0}", path)};
  auto summary = read_summary(verdicts);
  if (!summary) return summary.failure();
  return RunFolder{path, std::move(*summary), std::move(opened->recording), opened->loaded.program};
}

}  // namespace isodyne::session
