#include "runs.h"

#include <cerrno>
#include <charconv>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>
#include <sys/stat.h>

#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;

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

Result<std::string> make_run_folder(const Arguments& arguments, const std::string& name) {
  std::error_code error;
  if (const auto out = arguments.value(Option::out)) {
    if (fs::exists(*out, error) && (!fs::is_directory(*out, error) || !fs::is_empty(*out, error))) {
      return Failure{"cannot use", *out, "it exists and is not an empty folder; earlier runs are not written over",
                     Failure::Kind::wrong_input};
    }
    fs::create_directories(*out, error);
    if (error) return Failure{"cannot create the folder", *out, error.message()};
    return *out;
  }
  fs::create_directories("runs", error);
  if (error) return Failure{"cannot create the folder", "runs", error.message() + "; choose another with --out"};
  int number = 1;
  for (const auto& entry : fs::directory_iterator("runs", error)) {
    int taken = 0;
    const std::string taken_name = entry.path().filename().string();
    if (std::from_chars(taken_name.data(), taken_name.data() + taken_name.size(), taken).ec == std::errc{})
      number = std::max(number, taken + 1);
  }
  for (; number < 1'000'000; ++number) {  // mkdir decides between two runs that start together
    const std::string folder = fmt::format("runs/{:03}-{}", number, name);
    if (mkdir(folder.c_str(), 0777) == 0) return folder;
    if (errno != EEXIST)
      return Failure{"cannot create the folder", folder,
                     std::string(std::strerror(errno)) + "; choose another with --out"};
  }
  return Failure{"cannot find a free name in", "runs", ""};
}

}  // namespace isodyne::app
