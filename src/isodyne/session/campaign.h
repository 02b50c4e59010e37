#pragma once
// A campaign: its cases one after another and beside each other, each a run of its own from a clean state, and what
// they came to in a file.

#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/case_runs.h"

namespace isodyne::session {

/// Where tasks on a cluster do the cases; see cluster.h.
struct ClusterWish {
  std::string program;               ///< the file of isodyne, there as here
  std::size_t tasks = 0;             ///< 0: 50 cases each, at most 1000 tasks
  std::vector<std::string> options;  ///< for sbatch
};

struct CampaignWish : CaseSource {                 ///< its seed is that of what is drawn, too
  std::string book;                                ///< the file of the cases
  std::string kept;                                ///< the folder of the recordings that are kept, a folder a case
  std::size_t jobs = 0;                            ///< 0: as many as there are cores
  bool resume = false;                             ///< the file may have cases already, which are not done again
  std::vector<std::int64_t> only;                  ///< these, also again; none: all
  std::optional<ClusterWish> cluster;              ///< `jobs` are the cores of each task then
  bool fail_fast = false;                          ///< no case is begun after one is broken
  std::optional<std::chrono::nanoseconds> budget;  ///< no case is begun after so much time, by the wall clock
  bool recordings = true;                          ///< as the campaign says; else none
  bool each_alone = false;                         ///< no beginnings are shared; it comes to the same
};

struct CampaignCourse {
  std::int64_t wanted = 0;                         ///< now
  std::int64_t before = 0;                         ///< were there already
  std::int64_t done = 0, broken = 0, not_run = 0;  ///< broken: a requirement was
  std::int64_t copied = 0;                         ///< went on from a beginning that others had computed
  std::int64_t left_out = 0;                       ///< enough was covered
  std::int64_t kept = 0, to_keep = 0;              ///< recordings
  std::string alone;       ///< why beginnings could not be shared; empty: they could, or there were none to share
  std::string unfinished;  ///< why tasks on a cluster left cases undone; empty: they did not
  std::string unlike;      ///< cases whose run for the recording came to something else; empty: none
  bool stopped = false;    ///< before its end: interrupted, the budget, a broken one
};

/// What a file has cases of, in the bench that is given: its campaign and seed. A Failure: it is another text.
Status find_source(const CaseBookKey& key, CaseSource& source);

/// A case as a run of its own, in the bench that is given.
Result<RunRequest> request_again(const CaseBookKey& key, CaseSource source, const CaseResult& was);

/// `heard` gets the course on this thread, again and again; where it says false, no further case is begun.
Result<CampaignCourse> run_campaign(CampaignWish wish, const std::function<bool(const CampaignCourse&)>& heard);

}  // namespace isodyne::session
