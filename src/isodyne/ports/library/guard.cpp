#include "isodyne/ports/library/guard.h"

#include <csetjmp>
#include <csignal>
#include <cstdint>
#include <cstring>

#include <pthread.h>

#include <fmt/format.h>

namespace isodyne::ports {

namespace {

constexpr int kCrashSignals[] = {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT};
constexpr std::size_t kStackBytes = 64 * 1024;

int hang_signal() {
  return SIGRTMIN + 4;
}

// Signal handlers can reach nothing but globals. Odd: a call is running; each call has its own number, so
// that a late watchdog cannot hit the next call.
std::atomic<std::uint64_t> g_call{0};
std::atomic<std::uint64_t> g_condemned{0};
pthread_t g_thread;
sigjmp_buf g_return;
struct sigaction g_before[5];

bool inside_call() {
  return (g_call.load(std::memory_order_relaxed) & 1) != 0 && pthread_equal(pthread_self(), g_thread);
}

void on_crash(int signal) {
  if (inside_call()) siglongjmp(g_return, signal);
  // Not the guarded code: die as if nobody had looked.
  std::signal(signal, SIG_DFL);
  std::raise(signal);
}

void on_hang(int signal) {
  // Relaxed is enough: the watchdog's signal orders its store before this load.
  if (inside_call() && g_condemned.load(std::memory_order_relaxed) == g_call.load(std::memory_order_relaxed)) {
    siglongjmp(g_return, signal);
  }
}

}  // namespace

std::string describe(const CallOutcome& outcome) {
  if (outcome.kind == CallOutcome::Kind::hung) return "did not come back";
  if (outcome.kind == CallOutcome::Kind::returned) return "returned";
  switch (outcome.signal) {
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
      return fmt::format("crashed: signal {}", outcome.signal);
  }
}

CallGuard::CallGuard(std::chrono::milliseconds limit) : limit_(limit), stack_(new char[kStackBytes]) {
  g_thread = pthread_self();
  stack_t alternate{};
  alternate.ss_sp = stack_.get();
  alternate.ss_size = kStackBytes;
  sigaltstack(&alternate, nullptr);  // a full stack is one of the crashes
  struct sigaction action {};
  sigemptyset(&action.sa_mask);
  action.sa_flags = SA_ONSTACK;
  action.sa_handler = on_crash;
  for (std::size_t i = 0; i < 5; ++i) sigaction(kCrashSignals[i], &action, &g_before[i]);
  action.sa_handler = on_hang;
  sigaction(hang_signal(), &action, nullptr);
  watchdog_ = std::thread([this] { watch(); });
}

CallGuard::~CallGuard() {
  {
    const std::lock_guard lock(mutex_);
    stopping_ = true;
  }
  wake_.notify_all();
  watchdog_.join();
  for (std::size_t i = 0; i < 5; ++i) sigaction(kCrashSignals[i], &g_before[i], nullptr);
  std::signal(hang_signal(), SIG_IGN);
  stack_t off{};
  off.ss_flags = SS_DISABLE;
  sigaltstack(&off, nullptr);
}

CallOutcome CallGuard::run(void (*call)(void*), void* argument) {
  const int signal = sigsetjmp(g_return, 1);
  if (signal == 0) {
    g_call.fetch_add(1, std::memory_order_relaxed);  // the watchdog needs the number only, no other data
    call(argument);
    g_call.fetch_add(1, std::memory_order_relaxed);
    return {};
  }
  g_call.fetch_add(1, std::memory_order_relaxed);
  if (signal == hang_signal()) return {CallOutcome::Kind::hung, 0};
  return {CallOutcome::Kind::crashed, signal};
}

void CallGuard::watch() {
  using Clock = std::chrono::steady_clock;
  const auto look = std::max(std::chrono::milliseconds(1), limit_ / 10);
  std::uint64_t seen = 0;
  Clock::time_point since = Clock::now();
  std::unique_lock lock(mutex_);
  while (!wake_.wait_for(lock, look, [this] { return stopping_; })) {
    const std::uint64_t call = g_call.load(std::memory_order_relaxed);
    const Clock::time_point now = Clock::now();
    if (call != seen) {
      seen = call;
      since = now;
    } else if ((call & 1) != 0 && now - since > limit_) {
      g_condemned.store(call, std::memory_order_relaxed);
      pthread_kill(g_thread, hang_signal());
    }
  }
}

}  // namespace isodyne::ports
