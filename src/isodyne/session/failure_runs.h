#pragma once
// Rows of failure modes as runs: each failure by itself in its scenario, beside a run of the scenario without it.
//
// A signal tells of a failure only where it does not come without it: one that is true at any instant after the
// failure began, in the run without it, tells nothing. A requirement counts against a failure only where it is not
// broken without it. So what a bench does wrong anyway is nobody's failure mode, and is told.

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/case_runs.h"
#include "isodyne/session/failure_table.h"

namespace isodyne::session {

struct FailureFinding {
  FailureResult result = FailureResult::no_answer;
  std::string why;                        ///< in a line, what the result alone does not say; may be empty
  std::string noticed_by;                 ///< the first signal that told
  std::optional<double> noticed_after_s;  ///< since the failure began
  std::vector<std::string> broken;        ///< requirements
  std::optional<double> broken_after_s;   ///< the first of them, since the failure began
  std::string margin;                     ///< of the requirement that has least of its margin left: "L-03 2.1 cm"
  std::string margin_without;             ///< the same one, without the failure: "4.8 cm"
  std::string command;                    ///< that runs it again, from inside the folder of the bench
};

/// A run as far as findings need it.
struct FailureRun {
  CaseResult result;
  std::optional<Onset> onset;
};

/// What a failure came to, from its run and the one of its scenario without it; `signals`: those of the onsets.
FailureFinding found(const program::Program& program, const FailureRow& row, const std::vector<program::VarId>& signals,
                     const FailureRun& healthy, const FailureRun& failed);

struct FailureWish : CaseSource {
  std::string setting;
  std::size_t jobs = 0;
  bool each_alone = false;
};

struct FailureNews {
  std::size_t done = 0, all = 0;  ///< runs
};

struct FailureFindings {
  std::vector<std::vector<std::optional<FailureFinding>>> of;  ///< table, row; none: the row cannot be run
  std::size_t runs = 0;
  bool stopped = false;
  std::string alone;  ///< why beginnings could not be shared; see do_cases()
};

/// Runs every row that has a fault and nothing wrong. Rows with the same fault and scenario are one run. `heard` is
/// told again and again, on this thread; where it says false, no further run is begun.
FailureFindings run_failures(FailureWish wish, const std::vector<FailureTable>& tables,
                             const std::function<bool(const FailureNews&)>& heard);

/// What is written into a table for a row.
WrittenCells written_cells(const FailureTable& table, const FailureRow& row, const FailureFinding& finding);
/// "was missed", where the last run came to something else; empty: it did not, or there was none.
std::string changed_text(const FailureRow& row, const FailureFinding& finding);

}  // namespace isodyne::session
