#pragma once
// Runs the nameplate checks of program/rated_case.h.

#include <string>
#include <vector>

#include "isodyne/program/rated_case.h"

namespace isodyne::bench {

struct RatedResult {
  struct Value {
    double found = 0, expected = 0;  ///< SI
    double tolerance = 0;            ///< SI, or a share of the expected value
    bool matches = false;
  };
  std::vector<Value> values;  ///< in the order of RatedCase::expected
  double reached = 0;         ///< s; when the values were read
  std::string trouble;        ///< why they mean little: it diverged, it never became steady; empty if all is well
};

/// Runs the case to its time, or until nothing changes any more: within the last tenth of the time so far
/// (and at least 1000 steps) every state has stayed within 1e-6 of its largest size. Gives up after
/// four million steps.
RatedResult run_rated(const program::RatedCase& rated);

}  // namespace isodyne::bench
