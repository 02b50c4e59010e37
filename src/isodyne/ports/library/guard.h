#pragma once
// Calls foreign code in this process and survives its crash or hang.
//
// A crash (SIGSEGV, SIGBUS, SIGFPE, SIGILL, abort) or a call that takes longer than the limit ends in a
// CallOutcome instead of the end of this process. Afterwards the foreign code must not be called again: its
// memory, and in the worst case ours, may be damaged. Enough to say what happened and close the recording.
// Limit: the thread sanitizer holds signals back until the next system call, so that under it a hang without
// one is not ended.

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

namespace isodyne::ports {

struct CallOutcome {
  enum class Kind { returned, crashed, hung };
  Kind kind = Kind::returned;
  int signal = 0;  ///< of a crash
};

/// "crashed: invalid memory access (SIGSEGV)"
std::string describe(const CallOutcome& outcome);

/// Guards calls made by the thread that constructs it; at most one CallGuard is alive at a time.
class CallGuard {
 public:
  explicit CallGuard(std::chrono::milliseconds limit);
  ~CallGuard();
  CallGuard(const CallGuard&) = delete;
  CallGuard& operator=(const CallGuard&) = delete;

  /// Runs `call(argument)`. On a crash or hang the call is left by a jump: it must be C code, or code whose
  /// destructors may be skipped.
  CallOutcome run(void (*call)(void*), void* argument);

  std::chrono::milliseconds limit() const { return limit_; }

 private:
  void watch();

  std::chrono::milliseconds limit_;
  std::mutex mutex_;
  std::condition_variable wake_;
  bool stopping_ = false;
  std::unique_ptr<char[]> stack_;
  std::thread watchdog_;
};

}  // namespace isodyne::ports
