// The command line: finds the command, reads its arguments, runs it.

#include <csignal>
#include <exception>

#include <fmt/format.h>

#include "isodyne/core/version.h"
#include "isodyne/session/worker.h"
#include "subcommand.h"
#include "terminal.h"

namespace {

int dispatch(const std::vector<std::string>& words) {
  using namespace isodyne::app;
  if (words.empty() || words[0] == "--help" || words[0] == "-h") {
    put(stdout, help_text());
    return words.empty() ? kWrongInput : kHeld;
  }
  if (words[0] == "--version") {
    say(std::string("isodyne ") + isodyne::kVersion);
    return kHeld;
  }
  if (words.size() == 2 && is_group(words[0]) && (words[1] == "--help" || words[1] == "-h")) {
    put(stdout, group_help(words[0]));
    return kHeld;
  }
  std::size_t taken = 0;
  const Subcommand* command = find_command(words, taken);
  if (command == nullptr) return kWrongInput;
  const auto arguments = read_arguments(*command, {words.begin() + static_cast<std::ptrdiff_t>(taken), words.end()});
  if (!arguments) return kWrongInput;
  if (arguments->has(Option::help)) {
    put(stdout, help_text(*command));
    return kHeld;
  }
  const auto work = [&] { return command->run(*arguments); };
  if (!command->foreign) return work();
  return isodyne::session::in_own_process(
      work, [](const isodyne::session::Broke& broke) { return say_error(broke.why), kNotCompleted; });
}

}  // namespace

int main(int argc, char** argv) {
  std::signal(SIGXFSZ, SIG_IGN);  // a file size limit is reported like a full disk
  std::signal(SIGPIPE, SIG_IGN);  // so is a reader that went away
  try {
    const int status = dispatch({argv + 1, argv + argc});
    return std::fflush(stdout) == 0 ? status : isodyne::app::kNotCompleted;
  } catch (const std::exception& e) {
    isodyne::app::say_error(fmt::format("internal error: {}", e.what()));
    return isodyne::app::kNotCompleted;
  }
}
