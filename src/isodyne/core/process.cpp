#include "isodyne/core/process.h"

#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

namespace isodyne {

std::string on_path(const std::string& name) {
  if (name.find('/') != std::string::npos) return access(name.c_str(), X_OK) == 0 ? name : std::string{};
  const char* path = std::getenv("PATH");
  std::string rest = path == nullptr ? "" : path;
  while (!rest.empty()) {
    const std::size_t colon = rest.find(':');
    const std::string file = rest.substr(0, colon) + "/" + name;
    rest = colon == std::string::npos ? "" : rest.substr(colon + 1);
    if (access(file.c_str(), X_OK) == 0) return file;
  }
  return {};
}

namespace {
/// With one of them replaced.
std::vector<char*> environment_with(const Launch& launch, std::string& place) {
  std::vector<char*> all;
  for (char** e = environ; *e != nullptr; ++e) {
    const std::string_view entry(*e);
    if (launch.name.empty() || !entry.starts_with(launch.name + "=")) all.push_back(*e);
  }
  place = launch.name + "=" + launch.value;
  if (!launch.name.empty()) all.push_back(place.data());
  all.push_back(nullptr);
  return all;
}
}  // namespace

Result<int> start_program(const std::string& what, const Launch& launch) {
  std::vector<char*> arguments;
  for (const std::string& w : launch.words) arguments.push_back(const_cast<char*>(w.c_str()));
  arguments.push_back(nullptr);
  std::string variable;
  const std::vector<char*> environment = environment_with(launch, variable);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  if (launch.output >= 0)
    posix_spawn_file_actions_adddup2(&actions, launch.output, 1);
  else
    posix_spawn_file_actions_addopen(&actions, 1, launch.messages.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
  posix_spawn_file_actions_adddup2(&actions, 1, 2);
  if (launch.third >= 0) posix_spawn_file_actions_adddup2(&actions, launch.third, 3);
  // An inherited file keeps its lock: the recording could not be opened again while the child runs.
  posix_spawn_file_actions_addclosefrom_np(&actions, launch.third >= 0 ? 4 : 3);
  if (!launch.folder.empty()) posix_spawn_file_actions_addchdir_np(&actions, launch.folder.c_str());
  posix_spawnattr_t attributes;
  posix_spawnattr_init(&attributes);
  posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
  pid_t child = 0;
  const int failed =
      posix_spawn(&child, launch.words[0].c_str(), &actions, &attributes, arguments.data(), environment.data());
  posix_spawn_file_actions_destroy(&actions);
  posix_spawnattr_destroy(&attributes);
  if (failed != 0) return Failure{"cannot start " + what, launch.words[0], std::strerror(failed)};
  return static_cast<int>(child);
}

Result<int> run_program(const std::string& what, const std::vector<std::string>& words, const std::string& messages,
                        std::chrono::milliseconds patience, const std::atomic<bool>& stop) {
  Launch launch;
  launch.words = words;
  launch.messages = messages;
  const auto started = start_program(what, launch);
  if (!started) return started.failure();
  const pid_t child = *started;
  const auto begin = std::chrono::steady_clock::now();
  while (true) {
    int status = 0;
    const pid_t ended = waitpid(child, &status, WNOHANG);
    if (ended == child) return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    if (ended < 0) return Failure{"lost " + what, words[0], std::strerror(errno)};
    const bool late = std::chrono::steady_clock::now() - begin > patience;
    if (late || stop.load(std::memory_order_relaxed)) {  // relaxed: the flag publishes no other data
      kill(-child, SIGKILL);
      waitpid(child, &status, 0);
      if (!late) return Failure{what + " was stopped", words[0], ""};
      return Failure{what + " was stopped", words[0],
                     fmt::format("it took longer than {:.0f} s", std::chrono::duration<double>(patience).count())};
    }
    poll(nullptr, 0, 1);
  }
}

}  // namespace isodyne
