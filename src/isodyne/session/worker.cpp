#include "isodyne/session/worker.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <charconv>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <memory>
#include <new>
#include <utility>
#include <vector>

#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/ports/library/foreign_calls.h"

// A sanitizer has handlers of its own for crashes, and says more than ours would.
#if defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
#define ISODYNE_UNDER_SANITIZER 1
#endif
#endif
#if !defined(ISODYNE_UNDER_SANITIZER) && (defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__))
#define ISODYNE_UNDER_SANITIZER 1
#endif

namespace isodyne::session {

namespace {

/// Shared by parent and child; written by the child.
struct Board {
  ports::CallBoard calls;
  std::atomic<std::uint64_t> alive{0};
  std::atomic<int> running{0}, waits{0}, done{0}, status{0}, signal{0}, exited{0};
  char folder[4096] = {}, started[64] = {}, bench_folder[4096] = {};
};

Board* g_board = nullptr;

template <std::size_t N>
void put_text(char (&to)[N], const std::string& text) {
  const std::size_t bytes = std::min(text.size(), N - 1);
  std::memcpy(to, text.data(), bytes);
  to[bytes] = '\0';
}

constexpr auto kForTheRecorder = 300;  ///< ms: what was put is in the file a tenth of a second later
constexpr int kEnded = 70;

/// Lets the thread that writes the recording go on for a moment. Only what a signal handler may do.
void let_it_be_written() {
  const timespec moment{0, kForTheRecorder * 1'000'000L};
  nanosleep(&moment, nullptr);
}

#ifndef ISODYNE_UNDER_SANITIZER
void on_crash(int signal) {
  // Somebody ends the process already, and another thread stumbles over it: the first cause is the one to tell.
  if (g_board->exited.load(std::memory_order_relaxed) != 0) {
    let_it_be_written();
    _exit(kEnded);
  }
  g_board->signal.store(signal, std::memory_order_relaxed);
  let_it_be_written();
  std::signal(signal, SIG_DFL);
  std::raise(signal);
}

void catch_crashes() {
  static char stack[64 * 1024];  // a full stack is one of the crashes
  stack_t alternate{};
  alternate.ss_sp = stack;
  alternate.ss_size = sizeof stack;
  sigaltstack(&alternate, nullptr);
  struct sigaction action {};
  sigemptyset(&action.sa_mask);
  action.sa_flags = SA_ONSTACK;
  action.sa_handler = on_crash;
  for (const int signal : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT}) sigaction(signal, &action, nullptr);
}
#else
void catch_crashes() {}
#endif

/// Somebody ends the process who is not us.
void on_exit() {
  if (g_board->done.load() != 0) return;
  g_board->exited.store(1);
  let_it_be_written();
  _exit(kEnded);
}

[[noreturn]] void be_child(const std::function<int()>& work, pid_t parent, const sigset_t& before) {
  prctl(PR_SET_PDEATHSIG, SIGKILL);
  if (getppid() != parent) _exit(kEnded);
  sigprocmask(SIG_SETMASK, &before, nullptr);
  ports::use_call_board(&g_board->calls);
  catch_crashes();
  std::atexit(on_exit);
  int status = 3;
  try {
    status = work();
  } catch (const std::exception& e) {
    fmt::print(stderr, "isodyne: error: internal error: {}\n", e.what());
  }
  if (std::fflush(stdout) != 0) status = 3;
  std::fflush(stderr);
  g_board->status.store(status);
  g_board->done.store(1);
  std::exit(status);
}

std::vector<pid_t> children() {
  std::vector<pid_t> all;
  std::error_code none;
  for (const auto& task : std::filesystem::directory_iterator("/proc/self/task", none)) {
    std::ifstream in(task.path() / "children");
    for (pid_t child = 0; in >> child;) all.push_back(child);
  }
  return all;
}

/// Whatever the child has started is ours now (subreaper), and ends with it.
void end_orphans() {
  for (int round = 0; round < 100; ++round) {
    const std::vector<pid_t> all = children();
    if (all.empty()) return;
    for (const pid_t child : all) ::kill(child, SIGKILL);
    while (waitpid(-1, nullptr, WNOHANG) > 0) {
    }
    const timespec moment{0, 2'000'000};
    nanosleep(&moment, nullptr);
  }
}

const char* signal_words(int signal) {
  switch (signal) {
    case SIGSEGV:
      return "crashed: invalid memory access (SIGSEGV)";
    case SIGBUS:
      return "crashed: invalid memory access (SIGBUS)";
    case SIGFPE:
      return "crashed: arithmetic error such as an integer division by zero (SIGFPE)";
    case SIGILL:
      return "crashed: illegal instruction (SIGILL)";
    case SIGABRT:
      return "crashed: it called abort() (SIGABRT)";
    default:
      return nullptr;
  }
}

/// Waits for the child, and ends it when it stands. What stands is measured in what this process saw pass, so that a
/// stopped or sleeping machine counts for nothing.
class Watch {
 public:
  explicit Watch(pid_t child) : child_(child) {}

  /// The status as of waitpid.
  int run(const sigset_t& signals) {
    using Clock = std::chrono::steady_clock;
    Clock::time_point before = Clock::now();
    for (;;) {
      int status = 0;
      if (waitpid(child_, &status, WNOHANG) == child_) return status;
      siginfo_t info{};
      const timespec moment{0, 20'000'000};
      const int signal = sigtimedwait(&signals, &info, &moment);
      // A key on the terminal reaches the child by itself.
      if (signal == SIGTERM || signal == SIGHUP || (signal == SIGINT && info.si_code == SI_USER))
        ::kill(child_, signal);
      const auto now = Clock::now();
      look(std::min<std::int64_t>(100, std::chrono::duration_cast<std::chrono::milliseconds>(now - before).count()));
      before = now;
    }
  }

  bool stood() const { return stood_; }

 private:
  static constexpr std::int64_t kMostStill = 30'000, kMostExit = 5'000;  ///< ms

  void look(std::int64_t passed_ms) {
    if (stood_) return;
    const std::uint64_t calls = g_board->calls.calls.load(std::memory_order_acquire), alive = g_board->alive.load();
    const bool same = calls == calls_ && alive == alive_;
    calls_ = calls;
    alive_ = alive;
    still_ms_ = same ? still_ms_ + passed_ms : 0;
    const bool inside = (calls & 1u) != 0;
    // Nothing but a library that ran here can make a run stand between its calls: of a paced one a step may be long.
    const bool broken = !inside && calls > 0 && g_board->running.load() != 0 && still_ms_ > kMostStill;
    const bool hangs = inside && still_ms_ > g_board->calls.limit_ms.load();
    const bool leaves = g_board->done.load() != 0 && still_ms_ > kMostExit;
    if (g_board->waits.load() != 0 || !(broken || hangs || leaves)) return;
    stood_ = true;
    ::kill(child_, SIGKILL);
  }

  pid_t child_;
  std::uint64_t calls_ = 0, alive_ = 0;
  std::int64_t still_ms_ = 0;
  bool stood_ = false;
};

Broke story_of(const Board& board, int status, bool stood) {
  const ports::CallBoard& c = board.calls;
  Broke b;
  b.folder = board.folder;
  b.started = board.started;
  b.bench_folder = board.bench_folder;
  const std::int64_t at = c.at_ns.load();
  b.at = Time{std::max<std::int64_t>(0, at)};
  const int signal = WIFSIGNALED(status) ? WTERMSIG(status) : 0;
  const char* crash = signal_words(signal);
  std::string did = stood                 ? fmt::format("did not come back within {} ms", c.limit_ms.load())
                    : crash != nullptr    ? crash
                    : board.exited.load() ? "ended the program: it called exit()"
                    : signal == SIGKILL   ? "was killed from outside, or by the system for want of memory"
                    : signal != 0         ? fmt::format("was ended by signal {} ({})", signal, strsignal(signal))
                                          : fmt::format("ended the program with status {}", WEXITSTATUS(status));
  const std::string when = at >= 0 && board.running.load() != 0 ? " at " + format_instant(b.at) : "";
  if (c.inside()) {
    b.controller = true;
    const std::int32_t most = static_cast<std::int32_t>(ports::CallBoard::kMostNames) - 1;
    const std::int32_t who = std::clamp(c.who.load(), 0, most);
    const char* name = c.known.load() > 0 ? c.names[who] : "";
    if (c.known.load() > 0) b.who = c.controllers[who];
    const auto reads = std::clamp<std::int32_t>(c.read_count.load(), 0, ports::CallBoard::kMostReads);
    if (c.function.load() == ports::ForeignFunction::step) b.reads.assign(c.reads, c.reads + reads);
    b.why = fmt::format("{}: {} {}{}", name, ports::foreign_word(c.function.load()), did, when);
  } else if (c.calls.load() > 0) {
    b.controller = true;
    if (stood) did = "stands";
    b.why = fmt::format(
        "the run {}{}, not within a call of {}, but its library may have damaged the memory that they share", did, when,
        c.known.load() == 1 ? c.names[0] : "a controller");
  } else {
    b.why = fmt::format("the run {}{}", did, when);
  }
  return b;
}

}  // namespace

void WorkerBoard::evidence_in(const std::string& folder, const std::string& started, const std::string& bench_folder) {
  if (g_board == nullptr) return;
  put_text(g_board->folder, folder);
  put_text(g_board->started, started);
  put_text(g_board->bench_folder, bench_folder);
}
void WorkerBoard::alive() {
  // And once more when the first image was shown: what has been made meanwhile is not destroyed under other threads.
  static std::atomic<bool> shown{false};
  if (g_board == nullptr) return;
  if (!shown.load(std::memory_order_relaxed) && !shown.exchange(true)) std::atexit(on_exit);
  // One thread shows the images of a run, so nothing is lost without a lock; and nothing else is published with it.
  g_board->alive.store(g_board->alive.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
}
void WorkerBoard::begin() {
  if (g_board == nullptr) return;
  // Once more: the last one registered is the first one called, before destructors of what other threads still use.
  std::atexit(on_exit);
  g_board->running.store(1);
}
void WorkerBoard::end() {
  if (g_board != nullptr) g_board->running.store(0);
}
void WorkerBoard::waits(bool so) {
  if (g_board != nullptr) g_board->waits.store(so ? 1 : 0);
}

namespace {

/// A board for a child, while there is one: its parent's own comes back afterwards.
struct Charge {
  Board* outer = nullptr;
  sigset_t signals{}, before{};
  pid_t parent = 0;
};

bool take_charge(Charge& c) {
  void* memory = mmap(nullptr, sizeof(Board), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) return false;
  c.outer = std::exchange(g_board, new (memory) Board);
  sigemptyset(&c.signals);
  for (const int s : {SIGCHLD, SIGINT, SIGTERM, SIGHUP}) sigaddset(&c.signals, s);
  sigprocmask(SIG_BLOCK, &c.signals, &c.before);
  prctl(PR_SET_CHILD_SUBREAPER, 1);
  std::fflush(stdout);
  std::fflush(stderr);
  c.parent = getpid();
  return true;
}

/// The child's board is kept by whoever still reads it.
std::unique_ptr<Board, void (*)(Board*)> lay_down(const Charge& c) {
  sigprocmask(SIG_SETMASK, &c.before, nullptr);
  return {std::exchange(g_board, c.outer), [](Board* b) { munmap(b, sizeof(Board)); }};
}

}  // namespace

int in_own_process(const std::function<int()>& work, const std::function<int(const Broke&)>& afterwards) {
  Charge charge;
  if (!take_charge(charge)) return work();
  const pid_t child = fork();
  if (child == 0) be_child(work, charge.parent, charge.before);
  if (child < 0) {
    lay_down(charge);
    return work();
  }
  Watch watch(child);
  const int status = watch.run(charge.signals);
  end_orphans();
  const auto board = lay_down(charge);
  if (board->done.load() != 0) return board->status.load();
  // Ended by a second key on the terminal: as if there were only one process.
  if (WIFSIGNALED(status) &&
      (WTERMSIG(status) == SIGINT || WTERMSIG(status) == SIGTERM || WTERMSIG(status) == SIGHUP) &&
      !board->calls.inside()) {
    std::signal(WTERMSIG(status), SIG_DFL);
    std::raise(WTERMSIG(status));
  }
  return afterwards(story_of(*board, status, watch.stood()));
}

Side copy_process(const std::function<void(const Broke&)>& broke) {
  Charge charge;
  if (g_board == nullptr || !take_charge(charge)) return Side::none;
  g_board->calls.take_over(charge.outer->calls);
  g_board->running.store(charge.outer->running.load());
  const int waited = charge.outer->waits.exchange(1);  // the original stands, and is not to be ended for it
  const pid_t child = fork();
  if (child == 0) {
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (getppid() != charge.parent) _exit(kEnded);
    sigprocmask(SIG_SETMASK, &charge.before, nullptr);
    ports::use_call_board(&g_board->calls);
    return Side::copy;
  }
  if (child < 0) {
    charge.outer->waits.store(waited);
    lay_down(charge);
    return Side::none;
  }
  Watch watch(child);
  const int status = watch.run(charge.signals);
  end_orphans();
  charge.outer->waits.store(waited);
  const auto board = lay_down(charge);
  if (board->done.load() == 0) broke(story_of(*board, status, watch.stood()));
  return Side::original;
}

void end_copy() {
  std::fflush(stdout);
  std::fflush(stderr);
  g_board->status.store(0);
  g_board->done.store(1);
  ::_exit(0);
}

std::size_t threads_here() {
  std::error_code none;
  const auto all = std::filesystem::directory_iterator("/proc/self/task", none);
  return static_cast<std::size_t>(std::distance(begin(all), end(all)));
}

}  // namespace isodyne::session
