#pragma once
// The worst case: runs that look for the smallest margin of a requirement, over numbers, faults and scenarios; and what
// was found made as plain as it can be.
//
// Numbers are places in ranges. First they are spread evenly (a Latin hypercube), with combinations of faults drawn;
// then methods of NLopt go on from the best places, side by side, while one run in four goes somewhere new or takes a
// fault more, less or another one. Everything is drawn from the seed, and no result depends on how many runs are done
// at once. That nothing is found proves nothing.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/session/case_runs.h"

namespace isodyne::session {

/// Its seed is that of the runs, and of what is drawn.
struct SearchWish : CaseSource {
  std::int32_t requirement = 0;
  std::vector<std::int32_t> scenarios;  ///< one of them at a time
  std::vector<std::int32_t> faults;     ///< some of these at a time
  std::size_t faults_at_once = 0;
  std::string setting;
  std::size_t runs = 500;  ///< to look; those that make it plainer come besides
  std::size_t jobs = 0;
};

/// One run of it.
struct SearchRun {
  Case of;
  CaseResult result;
  std::optional<double> margin;  ///< of the requirement, in its unit; none: not put to the test, or no answer
  bool broken = false;
  bool fault_missing = false;  ///< a fault of it never came
};

struct SearchNews {
  std::size_t done = 0, all = 0;
  std::optional<double> least;  ///< margin
  bool shrinking = false;
};

struct SearchResult {
  std::vector<SearchRun> runs;      ///< in the order in which they were asked for
  std::optional<SearchRun> least;   ///< of those with a margin
  std::optional<SearchRun> found;   ///< the first that is broken
  std::optional<SearchRun> plain;   ///< the same made plainer: fewer faults, rounder numbers, sooner
  std::size_t found_after = 0;      ///< runs
  std::size_t without_margin = 0;   ///< runs that did not put the requirement to the test, or gave no answer
  std::string why_without;          ///< of one of those
  std::size_t fault_missing = 0;    ///< runs in which a fault never came
  std::string not_as_asked;         ///< of the first run in which something was not what was asked for
  std::optional<SearchRun> anyway;  ///< it is broken before anything was changed
  std::size_t shrinking_runs = 0;
  bool stopped = false;
};

/// What is varied are ranges of `own`. `heard` is told again and again, on this thread; where it says false, no further
/// run is begun. A Failure: there is nothing to look through.
Result<SearchResult> search(SearchWish wish, const std::function<bool(const SearchNews&)>& heard);

/// A scenario that begins with what this run was given, and does the same.
std::string scenario_text(const SearchWish& wish, const Case& of, const std::string& name);

}  // namespace isodyne::session
