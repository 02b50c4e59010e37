#pragma once
// Requirements against scenarios and faults over a set of runs: what was judged where, and what nothing covers.

#include <string>
#include <vector>

#include "isodyne/session/run_folder.h"

namespace isodyne::present {

struct TraceRun {
  std::string folder, scenario, title;
  std::vector<std::string> faults;        ///< that were injected
  std::vector<std::string> not_injected;  ///< chosen, but their trigger never came
  bool lost = false;                      ///< a controller was, though nothing asked for it
  bool has_twin = false;                  ///< a run of the same scenario and setting without any fault is here
};

struct TraceRow {
  std::string requirement, description, source;
  std::vector<std::optional<judge::Answer>> answers;  ///< per run; nothing: it was not asked
  std::vector<std::string> margins;
  /// Over all runs: broken before held before undecided before not put to the test.
  judge::Answer overall = judge::Answer::not_tested;
};

/// Who looks for a fault, and who found it: two things. A requirement may name a fault and hold; one that has never
/// heard of it may be broken by it.
struct TraceFault {
  struct Caught {
    std::string requirement;
    std::vector<std::size_t> runs;  ///< in which it acted and the requirement was broken; from 0
  };
  std::string name;
  std::vector<std::size_t> acted;  ///< runs
  std::vector<std::string> named_by;
  /// Broken where it acted, not before it did, and not in a run of the same scenario and setting without any fault.
  std::vector<Caught> caught_by;
};

/// "R-1 in 2, 4", by what each run is called; empty: nothing caught it.
std::string caught_text(const TraceFault& fault, const std::vector<std::string>& called);
/// What has to be known to read that: what counts, where there is no healthy run to compare with, where several faults
/// acted. A sentence each.
struct Trace;
std::vector<std::string> caught_remarks(const Trace& trace, const std::vector<std::string>& called);

/// What must not happen, and the requirements that keep it away.
struct TraceHazard {
  struct Requirement {
    std::string name, level, allocated;  ///< may be empty
    judge::Answer overall = judge::Answer::not_tested;
    bool by_review = false;
  };
  std::string name, description, level, source;
  std::vector<Requirement> requirements;
};

struct Trace {
  std::string bench;
  std::vector<TraceRun> runs;
  std::vector<TraceRow> rows;
  std::vector<std::string> untested;    ///< requirements that no run put to the test
  std::vector<std::string> uninjected;  ///< faults of the bench that no run injected
  std::vector<std::string> unplayed;    ///< scenarios of the bench that no run played
  std::vector<std::string> unnamed;     ///< injected faults that no requirement names
  std::vector<std::string> uncaught;    ///< injected faults that broke nothing
  std::vector<TraceFault> faults;       ///< of the bench, in the order of its text
  std::vector<TraceHazard> hazards;     ///< the same
};

/// What nothing covers, each with what it is: "Faults that no run injected".
std::vector<std::pair<const char*, std::vector<std::string>>> gaps_of(const Trace& trace);

/// The requirements that read whether this fault acts.
std::vector<std::string> naming(const program::Program& program, const program::Fault& fault);

/// The bench is that of the last run; requirements that only earlier runs knew are there too.
Trace trace_of(const std::vector<session::RunFolder>& runs);

/// A line for each requirement and run: requirement, source, scenario, faults, verdict, margin, folder, hazards that it
/// keeps away, level, to whom it is allocated; then what nothing covers, with an empty run.
std::string trace_csv(const Trace& trace);
/// The matrix as a picture.
std::string trace_svg(const Trace& trace);

}  // namespace isodyne::present
