#pragma once
// Other programs that are run and waited for: the compiler, the browser.

#include <atomic>
#include <chrono>
#include <string>
#include <vector>

#include "isodyne/core/result.h"

namespace isodyne {

/// Where a program of this name is, along PATH; empty if it is not there.
std::string on_path(const std::string& name);

/// What a program is started with. It has nothing to read, no file of ours but those named here, and a process group of
/// its own: programs start others, and all of them have to be stopped.
struct Launch {
  std::vector<std::string> words;  ///< the first is its file
  std::string folder;              ///< where it works; empty: where we do
  std::string messages;            ///< a file of its own for output and messages; or
  int output = -1;                 ///< an open one of ours
  int third = -1;                  ///< an open file of ours that is its descriptor 3; −1: none
  std::string name, value;         ///< of one variable in its environment; empty: as ours
};

/// Its process number, or why there is none. `what` is its name in failures: "the compiler".
Result<int> start_program(const std::string& what, const Launch& launch);

/// Runs a program (words[0] is its file) with its output and messages in a file of their own; gives its exit status,
/// 128 + n after signal n, or why there is none. `what` is its name in failures: "the compiler". Stopped with all that
/// it has started when it takes longer, or when `stop` is set.
Result<int> run_program(const std::string& what, const std::vector<std::string>& words, const std::string& messages,
                        std::chrono::milliseconds patience, const std::atomic<bool>& stop);

}  // namespace isodyne
