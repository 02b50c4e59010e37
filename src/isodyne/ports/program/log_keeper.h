#pragma once
// What a program prints, kept in a file: not more than so much of it, and the last lines at hand for a message.

#include <atomic>
#include <cstdint>
#include <deque>
#include <mutex>
#include <string>
#include <thread>

#include "isodyne/core/result.h"

namespace isodyne::ports {

class LogKeeper {
 public:
  static constexpr std::uint64_t kMostBytes = 64u << 20;  ///< what comes beyond is counted, and said at the end

  /// `file` empty: nothing is kept but the last lines.
  explicit LogKeeper(std::string file) : file_(std::move(file)) {}
  ~LogKeeper() { stop(); }
  LogKeeper(const LogKeeper&) = delete;
  LogKeeper& operator=(const LogKeeper&) = delete;

  /// A descriptor for the program to write to; the caller closes its own copy when the program has it.
  Result<int> start();
  /// What has been written is kept; who still has the descriptor is not waited for.
  void stop();
  /// The last lines, a few, each with four blanks before it; empty if nothing was printed.
  std::string last_lines();

 private:
  void keep(int from);
  void take(const char* text, std::size_t bytes, int to);

  std::string file_;
  std::thread thread_;
  std::atomic<bool> stopping_{false};
  std::uint64_t written_ = 0, dropped_ = 0;
  std::mutex mutex_;
  std::deque<std::string> lines_;  ///< under the mutex; the last may be half
};

}  // namespace isodyne::ports
