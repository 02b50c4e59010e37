#include <fmt/format.h>

#include "isodyne/present/inquiry.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

int run_draw(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const std::string out = arguments.value(Option::out).value_or(loaded.program->name + ".svg");
  const Status drawn = present::draw_structure(*loaded.program, out);
  if (!drawn) {
    say_error(drawn.failure().text());
    return kNotCompleted;
  }
  say(fmt::format("drew {} into {}", loaded.program->name, out));
  return kHeld;
}

}  // namespace isodyne::app
