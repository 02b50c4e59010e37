// pack: one file to hand over.

#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/catalogue.h"
#include "isodyne/session/pack.h"
#include "isodyne/session/summary.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;

int run_pack(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  std::error_code none;
  if (!fs::is_directory(path, none)) return say_error(path + " is no run folder"), kWrongInput;
  const auto recording = open_recording(path);
  if (!recording) return say_error(recording.failure().text()), kWrongInput;
  // Of a run that was made elsewhere nobody knows whose files it names.
  const std::string usual = session::bench_folder_of_own_run(path, (*recording)->identity()).value_or("");
  std::string out = arguments.value(Option::out).value_or((fs::path(path) / "").parent_path().string() + ".zip");
  if (!out.ends_with(".zip")) out += ".zip";
  if (fs::exists(out, none)) return say_error(out + " exists; earlier files are not written over"), kWrongInput;
  const auto packed = session::pack(path, **recording, arguments.value(Option::folder).value_or(usual), out);
  if (!packed) return say_error(packed.failure().text()), kNotCompleted;
  say(fmt::format("{}: {}, {:.1f} MB", out, counted(packed->files, "file"),
                  static_cast<double>(fs::file_size(out, none)) / 1e6));
  for (const std::string& m : packed->missing)
    say_aside(fmt::format("  the controllers in {} are not packed: name the folder of the bench with --folder", m));
  return kHeld;
}

}  // namespace isodyne::app
