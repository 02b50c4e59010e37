#pragma once
// Cases of a campaign as runs: one by itself, or several that have a beginning in common, which is computed once.
//
// Cases that differ in their faults alone are the same until a fault of one of them acts. They are one run up to there;
// then a copy of the process (worker.h) goes on with those that have the fault, and the original with those that do
// not. So each comes to what it would have come to by itself, to the bit; what cannot be copied is run by itself.
//
// Functions of this header that run something do so in a worker (workers.h), and what they say is for read_case().

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/case_book.h"
#include "isodyne/session/cases.h"
#include "isodyne/session/coverage.h"
#include "isodyne/session/onset.h"
#include "isodyne/session/run_service.h"
#include "isodyne/session/workers.h"

namespace isodyne::session {

/// Of what the cases are.
struct CaseSource {
  static constexpr std::size_t kNoCampaign = static_cast<std::size_t>(-1);
  std::shared_ptr<const Bench> bench;
  std::size_t campaign = kNoCampaign;  ///< of the program; none: cases that somebody else has put together
  std::uint64_t seed = 1;              ///< of every run
  std::chrono::milliseconds answer_within{1000};
  /// There are many of them: each begins on native code, which is compiled once. Else it comes while a run goes on.
  bool many = false;
  std::shared_ptr<const CoverageItems> items;  ///< null: nobody looks at what is met
  std::vector<program::VarId> signals;         ///< truths of which an onset is noted; see onset.h
  /// What is varied where there is no campaign; null: nothing.
  std::shared_ptr<const program::Campaign> own;
  /// The factors of its campaign; without one there are none.
  const program::Campaign& factors() const;
};

/// What one case is as a run.
RunRequest request_of(const CaseSource& source, const Case& one);
/// Its factors, and how to repeat it; nothing of what it comes to.
CaseResult described(const CaseSource& source, const Case& one);

/// Runs it. `folder`: for its evidence; empty: none is kept.
std::string do_case(const CaseSource& source, const Case& one, const std::string& folder);

/// Which of the cases may be run together: tasks for do_together(), of indices into `cases`.
std::vector<Task> together(const CaseSource& source, const std::vector<Case>& cases, std::size_t workers);
/// Runs those of a task, and says each. Those of which nothing is said have to be run by themselves.
void do_together(const CaseSource& source, const std::vector<Case>& cases, const Task& task, Teller& teller);

/// Puts what a run came to into a result that describes its case.
void take_outcome(const RunOutcome& outcome, CaseResult& result);

/// Of what a worker said.
struct CaseNews {
  bool alone = false;   ///< it is to be run by itself, and `why` says why
  bool copied = false;  ///< its beginning was that of others
  std::string why;
  std::optional<Onset> onset;  ///< where signals were looked at
};
/// Puts it into a result that describes the case.
CaseNews read_case(const Piece& piece, CaseResult& result);

/// Does the cases in worker processes (`jobs`: so many at once; 0: as many as there are cores). `take` gets what each
/// came to, by its place among them, on this thread and in any order; where it says false, no further case is begun.
/// Gives why beginnings could not be shared; empty: they could be, or there were none, or `each_alone` is wished.
std::string do_cases(const CaseSource& source, const std::vector<Case>& cases, std::size_t jobs, bool each_alone,
                     const std::function<bool(std::size_t, CaseResult&, const CaseNews&)>& take);

}  // namespace isodyne::session
