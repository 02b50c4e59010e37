// isodyne recover: a recording whose run was killed becomes a whole file.

#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/record/recover.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;

int run_recover(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  std::error_code none;
  const std::string file = fs::is_directory(path, none) ? (fs::path(path) / "recording.h5").string() : path;
  const auto recovered = record::recover(file);
  if (!recovered) return say_error(recovered.failure().text()), kNotCompleted;
  const record::Recovered& r = *recovered;
  for (const std::string& name : r.lost) say_error(fmt::format("cannot read all of {}: nothing was changed", name));
  if (arguments.has(Option::json)) {
    const nlohmann::ordered_json result{{"recovered", !r.was_whole && r.lost.empty()},
                                        {"signals", r.signals},
                                        {"instants", r.instants},
                                        {"events", r.events},
                                        {"until_s", to_seconds(r.until)},
                                        {"lost", r.lost}};
    say(result.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
  } else if (r.was_whole) {
    say(file + " is whole: there is nothing to recover.");
  } else if (r.lost.empty()) {
    say(fmt::format("{}: {}, {} up to {}, {}.", file, counted(r.signals, "signal"), counted(r.instants, "instant"),
                    format_instant(r.until), counted(r.events, "event")));
  }
  return r.lost.empty() ? kHeld : kNotCompleted;
}

}  // namespace isodyne::app
