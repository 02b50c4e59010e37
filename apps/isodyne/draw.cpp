#include <fmt/format.h>

#include "isodyne/present/inquiry.h"
#include "isodyne/present/network_drawing.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

int run_draw(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const std::string out = arguments.value(Option::out).value_or(loaded.program->name + ".svg");
  const bool of_part = arguments.words.size() > 1;
  if (of_part && !arguments.has(Option::circuit)) {
    say_error("a picture of one part is that of its circuit: add --circuit");
    return kWrongInput;
  }
  const Status drawn = arguments.has(Option::circuit)
                           ? present::draw_network(*loaded.program, of_part ? arguments.words[1] : std::string(), out)
                           : present::draw_structure(*loaded.program, out);
  if (!drawn) {
    say_error(drawn.failure().text());
    return kNotCompleted;
  }
  const std::string what = !arguments.has(Option::circuit) ? loaded.program->name
                           : of_part ? fmt::format("the circuit of {} of {}", arguments.words[1], loaded.program->name)
                                     : fmt::format("the circuit of {}", loaded.program->name);
  say(fmt::format("drew {} into {}", what, out));
  return kHeld;
}

}  // namespace isodyne::app
