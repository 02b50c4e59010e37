#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/io/registers.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

int run_io_registers(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const program::Program& p = *loaded.program;
  const program::Controller* chosen = p.controllers.empty() ? nullptr : &p.controllers.front();
  if (arguments.words.size() > 1) {
    chosen = nullptr;
    for (const program::Controller& c : p.controllers) {
      if (c.name == arguments.words[1]) chosen = &c;
    }
  }
  if (chosen == nullptr) {
    say_error(arguments.words.size() > 1 ? fmt::format("bench {} has no controller `{}`", p.name, arguments.words[1])
                                         : fmt::format("bench {} has no controller", p.name));
    return kWrongInput;
  }
  const std::string text = io::registers_text(io::default_registers(p, *chosen));
  const auto out = arguments.value(Option::out);
  if (!out) {
    put(stdout, text);
    return kHeld;
  }
  const Status written = write_file(*out, text);
  if (!written) {
    say_error(written.failure().text());
    return kNotCompleted;
  }
  say_aside("wrote " + *out);
  return kHeld;
}

}  // namespace isodyne::app
