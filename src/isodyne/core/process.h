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

/// Runs a program (words[0] is its file) with its output and messages in a file of their own; gives its exit status,
/// 128 + n after signal n, or why there is none. `what` is its name in failures: "the compiler". Stopped with all that
/// it has started when it takes longer, or when `stop` is set.
Result<int> run_program(const std::string& what, const std::vector<std::string>& words, const std::string& messages,
                        std::chrono::milliseconds patience, const std::atomic<bool>& stop);

}  // namespace isodyne
