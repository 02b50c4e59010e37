// Signals of a run, drawn in the terminal.

#include <cstdlib>
#include <string_view>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/text_plot.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"
#include "time_range.h"

namespace isodyne::app {

namespace {

/// Whether the terminal is said to know more than ASCII.
bool knows_unicode() {
  for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"}) {
    const char* value = std::getenv(name);  // nothing else runs yet
    if (value == nullptr || *value == '\0') continue;
    const std::string lower = lower_case(value);
    return lower.find("utf-8") != std::string::npos || lower.find("utf8") != std::string::npos;
  }
  return false;
}

}  // namespace

int run_show(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  const auto stretch = time_range_of(arguments);
  if (!stretch) return kWrongInput;
  const auto recording = open_recording(path);
  if (!recording) return say_error(recording.failure().text()), kWrongInput;
  const std::vector<std::string> words(arguments.words.begin() + 1, arguments.words.end());
  constexpr std::size_t kMost = 6;
  const auto names = words.empty() ? Result(present::usual_signals(path, **recording, kMost))
                                   : present::chosen_signals(**recording, words);
  if (!names) return say_error(names.failure().text()), kWrongInput;
  const auto& times = (*recording)->times();
  if (times.empty() || names->empty()) return say_error("there is nothing in " + path), kWrongInput;

  present::TextPlotStyle style;
  const std::size_t width = width_of(stdout);
  style.width = width == 0 ? 100 : width;
  style.height = names->size() <= 3 ? 8 : 5;
  style.ascii = arguments.has(Option::ascii) || !knows_unicode();
  style.begin = std::max(stretch->begin, to_seconds(Time{times.front()}));
  style.end = std::min(stretch->end, to_seconds(Time{times.back()}));
  if (style.end < style.begin)
    return say_error(fmt::format("the recording has nothing there: it goes from {} to {}",
                                 format_instant(Time{times.front()}), format_instant(Time{times.back()}))),
           kWrongInput;
  const std::size_t columns = 4 * style.width;  // there are two columns of dots in a character
  for (const std::string& name : *names) {
    const auto view = present::view_over_time(**recording, name, *stretch, columns);
    if (!view) return say_error(view.failure().text()), kWrongInput;
    put(stdout, present::text_plot(*view, style));
  }
  put(stdout, present::text_time_axis(style));
  return kHeld;
}

}  // namespace isodyne::app
