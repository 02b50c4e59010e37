// baseline: runs that were accepted, and whether later ones are still like them.

#include <filesystem>
#include <fstream>

#include <fmt/format.h>

#include "compare.h"
#include "isodyne/core/file.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/summary.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace fs = std::filesystem;

namespace {

/// A folder for everything that was asked of a run: what ought to give the same again.
fs::path place_of(const Arguments& arguments, const record::Recording& r) {
  return fs::path(arguments.value(Option::folder).value_or("baseline")) / record::wish_name(r.identity(), r.bench());
}

int copy_of(const std::string& run, const fs::path& to, const std::vector<std::string>& allowances) {
  std::error_code error;
  fs::create_directories(to, error);
  const fs::path from = fs::is_directory(run, error) ? fs::path(run) : fs::path(run).parent_path();
  const fs::path recording = fs::is_directory(run, error) ? from / "recording.h5" : fs::path(run);
  const bool before = fs::exists(to / "recording.h5", error);
  // Beside it first, so that there is always a whole one.
  fs::copy_file(recording, to / "recording.h5.new", fs::copy_options::overwrite_existing, error);
  if (!error) fs::rename(to / "recording.h5.new", to / "recording.h5", error);
  if (error) return say_error(fmt::format("cannot write {}: {}", to.string(), error.message())), kNotCompleted;
  fs::copy_file(from / "verdicts.json", to / "verdicts.json", fs::copy_options::overwrite_existing, error);
  std::string text;
  for (const std::string& a : allowances) text += a + "\n";
  const Status written = write_file((to / "allowed.txt").string(), text);
  if (!written) return say_error(written.failure().text()), kNotCompleted;
  say(fmt::format("{} is {} as {}", run, before ? "accepted in the place of the one before" : "accepted", to.string()));
  return kHeld;
}

std::vector<std::string> lines_of(const fs::path& file) {
  std::vector<std::string> lines;
  std::ifstream in(file);
  for (std::string line; std::getline(in, line);) {
    if (!line.empty()) lines.push_back(line);
  }
  return lines;
}

}  // namespace

int run_baseline_accept(const Arguments& arguments) {
  for (const std::string& run : arguments.words) {
    const auto recording = open_recording(run);
    if (!recording) return say_error(recording.failure().text()), kWrongInput;
    if ((*recording)->unfinished()) return say_error(run + " is not whole: it cannot be accepted"), kWrongInput;
    const int status = copy_of(run, place_of(arguments, **recording), arguments.values(Option::allow));
    if (status != kHeld) return status;
  }
  return kHeld;
}

int run_baseline_check(const Arguments& arguments) {
  int worst = kHeld;
  Json all = Json::array();
  for (std::size_t i = 0; i < arguments.words.size(); ++i) {
    const std::string& run = arguments.words[i];
    const auto recording = record::Recording::open_run(run);
    if (!recording) return say_error(recording.failure().text()), kWrongInput;
    const fs::path place = place_of(arguments, **recording);
    std::error_code none;
    if (!fs::exists(place / "recording.h5", none)) {
      say_error(
          fmt::format("nothing like {} was accepted yet ({}): isodyne baseline accept {}", run, place.string(), run));
      worst = kWrongInput;
      continue;
    }
    std::vector<std::string> allow = lines_of(place / "allowed.txt");
    const auto more = arguments.values(Option::allow);
    allow.insert(allow.end(), more.begin(), more.end());
    if (i > 0 && !arguments.has(Option::json)) say("");
    worst = std::max(
        worst, compare_runs(place.string(), {run}, allow, arguments, arguments.has(Option::json) ? &all : nullptr));
  }
  if (arguments.has(Option::json)) say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  return worst;
}

}  // namespace isodyne::app
