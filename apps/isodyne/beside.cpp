#include "beside.h"

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <thread>

#include <poll.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include "holder.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

struct Worker {
  std::size_t piece = 0;
  pid_t process = -1;
  int from = -1;
  std::string said;
};

bool write_all(int to, const std::string& text) {
  for (std::size_t at = 0; at < text.size();) {
    const ssize_t n = ::write(to, text.data() + at, text.size() - at);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    at += static_cast<std::size_t>(n);
  }
  return true;
}

/// In the new process: the work is held as a run is, so that it cannot stand for ever.
[[noreturn]] void do_piece(std::size_t piece, int to, const std::function<std::string(std::size_t)>& work) {
  prctl(PR_SET_PDEATHSIG, SIGKILL);
  const int status = hold([&] { return write_all(to, work(piece)) ? 0 : 3; },
                          [](const Broke& b) {
                            say_error(b.why);
                            return 3;
                          });
  ::_exit(status);
}

bool start(Worker& w, const std::function<std::string(std::size_t)>& work) {
  int ends[2];
  if (::pipe(ends) != 0) return false;
  std::fflush(stdout);
  std::fflush(stderr);
  w.process = ::fork();
  if (w.process == 0) {
    ::close(ends[0]);
    do_piece(w.piece, ends[1], work);
  }
  ::close(ends[1]);
  if (w.process < 0) {
    ::close(ends[0]);
    return false;
  }
  w.from = ends[0];
  return true;
}

/// Reads what is there; true when there is no more.
bool drained(Worker& w) {
  char block[4096];
  const ssize_t n = ::read(w.from, block, sizeof block);
  if (n > 0) w.said.append(block, static_cast<std::size_t>(n));
  return n == 0 || (n < 0 && errno != EINTR);
}

}  // namespace

std::vector<std::optional<std::string>> beside(std::size_t pieces, std::size_t at_once,
                                               const std::function<std::string(std::size_t)>& work,
                                               const std::function<void(std::size_t)>& done) {
  std::vector<std::optional<std::string>> all(pieces);
  const std::size_t most = at_once > 0 ? at_once : std::max(1u, std::thread::hardware_concurrency());
  std::vector<Worker> running;
  std::size_t next = 0, ready = 0;
  while (ready < pieces) {
    while (next < pieces && running.size() < most) {
      Worker w{next++, -1, -1, ""};
      if (start(w, work)) {
        running.push_back(std::move(w));
      } else {
        all[w.piece] = work(w.piece);
        done(++ready);
      }
    }
    std::vector<pollfd> wanted;
    for (const Worker& w : running) wanted.push_back({w.from, POLLIN, 0});
    if (::poll(wanted.data(), wanted.size(), -1) < 0 && errno != EINTR) break;
    for (std::size_t i = running.size(); i > 0; --i) {
      Worker& w = running[i - 1];
      if (wanted[i - 1].revents == 0 || !drained(w)) continue;
      ::close(w.from);
      int status = 0;
      while (::waitpid(w.process, &status, 0) < 0 && errno == EINTR) {
      }
      if (WIFEXITED(status) && WEXITSTATUS(status) == 0) all[w.piece] = std::move(w.said);
      running.erase(running.begin() + static_cast<std::ptrdiff_t>(i - 1));
      done(++ready);
    }
  }
  return all;
}

}  // namespace isodyne::app
