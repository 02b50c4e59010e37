#pragma once
// Verdicts of a recording: what was judged from its images, set right by what the images cannot show.
//
// A recording may have fewer instants than the run that it is of. What was broken between two of them is not in it, so
// from the images alone nothing of that kind is held: it is undecided. The run itself was judged at every instant, and
// what it said is in the recording as events: of the same requirement, that counts.

#include <set>
#include <string>
#include <vector>

#include "isodyne/judge/judge.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::session {

/// The quantities that a requirement reads, over time and in measures too.
std::set<program::VarId> read_by(const program::Program& program, const program::Requirement& requirement);

struct SetRight {
  std::vector<judge::Verdict> verdicts;
  std::vector<std::string> remarks;  ///< what a reader has to know, a line each
};

/// `verdicts`: of the images, in the order of the program's requirements. `period`: between two images.
/// What the run said counts for requirements of the same name and formula.
SetRight set_right(const program::Program& program, const record::Recording& recording,
                   std::vector<judge::Verdict> verdicts, Time period);

/// A line about those of these measures of which the recording does not show all that the run saw; empty: none.
std::string seen_less(const program::Program& program, const record::Recording& recording,
                      const std::vector<std::int32_t>& measures);

/// Judges every image of a recording by the program that it was opened with, and sets that right.
SetRight judged_again(const OpenRecording& run, observe::Ending ending);

}  // namespace isodyne::session
