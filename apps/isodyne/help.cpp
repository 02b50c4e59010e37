#include <fmt/format.h>

#include "command.h"
#include "terminal.h"

namespace isodyne::app {

int run_help(const Arguments& arguments) {
  if (arguments.words.empty()) {
    put(stdout, help_text());
    return kHeld;
  }
  const Command* command = find_command(arguments.words[0]);
  if (command == nullptr) {
    say_error(fmt::format("there is no command `{}`; see `isodyne help`", arguments.words[0]));
    return kWrongInput;
  }
  put(stdout, help_text(*command));
  return kHeld;
}

}  // namespace isodyne::app
