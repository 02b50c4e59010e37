#pragma once
// What several benchmarks need: a clock, a median, a bench out of a text.

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <memory>
#include <string>
#include <vector>

#include "isodyne/check/load.h"

namespace isodyne::measure {

using Clock = std::chrono::steady_clock;

inline double since(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

inline double median(std::vector<double> all) {
  std::sort(all.begin(), all.end());
  return all[all.size() / 2];
}

inline std::shared_ptr<const program::Program> checked(const std::string& text) {
  const check::Loaded loaded =
      check::load_bench("", "bench.dyne", [&](const std::string&) { return Result<std::string>(text); });
  if (loaded.program == nullptr) {
    std::fputs(loaded.diagnostics.render(*loaded.sources, false).c_str(), stderr);
    std::exit(2);
  }
  return loaded.program;
}

}  // namespace isodyne::measure
