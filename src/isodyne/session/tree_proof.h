#pragma once
// A fault tree against runs: does each minimal cut set reach the hazard, and does anything else?
//
// A hazard is reached in a run where one of its requirements is broken that is not broken in the run of the same
// scenario without the faults. Tried are the cut sets of up to `order` events, and every combination of up to `order`
// faults of the bench that does not make the top of the tree true: also of faults that no event stands for. Of
// combinations that reach the hazard those with more faults are not tried.
//
// A cut set counts as refuted only where its faults were there, at the same time, in a scenario that puts a requirement
// of the hazard to the test without them. So what no run shows is told apart from what a run shows to be wrong. A run
// that with the faults does not come to that any more (gates that stay shut) does not reach the hazard.

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/session/case_runs.h"
#include "isodyne/trees/cut_sets.h"

namespace isodyne::session {

enum class Proof {
  reaches,
  does_not,      ///< it came, and does not reach the hazard
  not_together,  ///< its faults exclude each other, or were not there at the same time
  no_fault,      ///< an event of it has no fault, and the others do not reach it: no run shows it
  never_came,    ///< a fault of it never came in any scenario
  no_answer      ///< the runs do not tell
};
const char* proof_word(Proof proof);

struct ProofFinding {
  Proof proof = Proof::no_answer;
  std::string scenario;        ///< of the run that tells
  std::string requirement;     ///< that is broken; else the one that has least of its margin left
  std::string margin;          ///< "-2.1 cm"
  std::optional<double> at_s;  ///< of the first breach
  std::string why, command;    ///< may be empty
};

struct TreeProof {
  struct Cut {
    trees::CutSet set;
    ProofFinding finding;
  };
  struct Combination {
    std::vector<std::int32_t> faults;
    ProofFinding finding;
  };
  std::vector<Cut> cuts;                        ///< fewest events first
  double beyond = 0;                            ///< cut sets with more events, which were not tried
  std::vector<Combination> outside;             ///< of the tree, and reach the hazard all the same
  std::vector<Combination> unanswered;          ///< outside of the tree, and the runs do not tell
  std::map<Proof, std::size_t> outside_counts;  ///< of all that are outside of the tree
  std::vector<ProofFinding> anyway;             ///< requirements that are broken without any fault
  std::size_t runs = 0;
  bool stopped = false;
  std::string alone;  ///< why beginnings could not be shared; see do_cases()
};

struct ProofWish : CaseSource {
  std::int32_t hazard = 0;
  std::size_t order = 2;
  std::string setting;
  std::size_t jobs = 0;
  bool each_alone = false;
};

struct ProofNews {
  std::size_t order = 0, done = 0, all = 0;  ///< runs with so many faults
};

/// `heard` is told again and again, on this thread; where it says false, no further run is begun. A Failure: it cannot
/// be, or there would be more runs than anybody waits for.
Result<TreeProof> prove(ProofWish wish, const trees::FaultTree& tree, const trees::CutSets& sets,
                        const std::function<bool(const ProofNews&)>& heard);

}  // namespace isodyne::session
