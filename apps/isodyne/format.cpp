#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/lang/format.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {
enum class Outcome { unchanged, changed, failed };

Outcome format_file(const std::string& file, bool only_check) {
  const Result<std::string> text = read_file(file);
  if (!text) {
    say_error(text.failure().text());
    return Outcome::failed;
  }
  Sources sources;
  const std::int32_t source = sources.add(file, *text);
  Diagnostics diagnostics;
  const std::string formatted = lang::format_text(sources, source, diagnostics);
  if (diagnostics.has_errors()) {
    put(stderr, diagnostics.render(sources, colours_on(stderr)));
    say_error(fmt::format("{} in {}; it stays as it is", counted(diagnostics.errors(), "mistake"), file));
    return Outcome::failed;
  }
  if (formatted == *text) return Outcome::unchanged;
  if (only_check) {
    say(fmt::format("{} is not formatted", file));
    return Outcome::changed;
  }
  const Status written = write_file(file, formatted);
  if (!written) {
    say_error(written.failure().text());
    return Outcome::failed;
  }
  say(fmt::format("formatted {}", file));
  return Outcome::changed;
}
}  // namespace

int run_format(const Arguments& arguments) {
  const bool only_check = arguments.has(Option::check);
  std::size_t changed = 0, failed = 0;
  for (const std::string& file : arguments.words) {
    const Outcome outcome = format_file(file, only_check);
    changed += outcome == Outcome::changed ? 1 : 0;
    failed += outcome == Outcome::failed ? 1 : 0;
  }
  if (changed + failed == 0)
    say(fmt::format("{} formatted already.", arguments.words.size() == 1 ? "It is" : "All are"));
  if (failed > 0) return kWrongInput;
  return only_check && changed > 0 ? kBroken : kHeld;
}

}  // namespace isodyne::app
