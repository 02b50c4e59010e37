#include <fmt/format.h>

#include "command.h"
#include "terminal.h"

namespace isodyne::app {

int run_help(const Arguments& arguments) {
  if (arguments.words.empty()) {
    put(stdout, help_text());
    return kHeld;
  }
  if (arguments.words.size() == 1 && is_group(arguments.words[0])) {
    put(stdout, group_help(arguments.words[0]));
    return kHeld;
  }
  std::size_t taken = 0;
  const Command* command = find_command(arguments.words, taken);
  if (command == nullptr) return kWrongInput;
  put(stdout, help_text(*command));
  return kHeld;
}

}  // namespace isodyne::app
