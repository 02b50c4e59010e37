#pragma once
// A campaign: its cases one after another and beside each other, each a run of its own from a clean state, and what
// they came to in a file.

#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/case_book.h"
#include "isodyne/session/cases.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

struct CampaignWish {
  std::shared_ptr<const Bench> bench;
  std::size_t campaign = 0;                        ///< of the program
  std::string book;                                ///< the file of the cases
  std::string kept;                                ///< the folder of the recordings that are kept, a folder a case
  std::uint64_t seed = 1;                          ///< of what is drawn, and of every run
  std::size_t jobs = 0;                            ///< 0: as many as there are cores
  bool resume = false;                             ///< the file may have cases already, which are not done again
  std::vector<std::int64_t> only;                  ///< these, also again; none: all
  bool fail_fast = false;                          ///< no case is begun after one is broken
  std::optional<std::chrono::nanoseconds> budget;  ///< no case is begun after so much time, by the wall clock
  std::chrono::milliseconds answer_within{1000};
};

struct CampaignCourse {
  std::int64_t wanted = 0;                         ///< now
  std::int64_t before = 0;                         ///< were there already
  std::int64_t done = 0, broken = 0, not_run = 0;  ///< broken: a requirement was
  std::int64_t kept = 0, to_keep = 0;              ///< recordings
  std::string unlike;    ///< cases whose run for the recording came to something else; empty: none
  bool stopped = false;  ///< before its end: interrupted, the budget, a broken one
};

/// `heard` gets the course on this thread, again and again; where it says false, no further case is begun.
Result<CampaignCourse> run_campaign(const CampaignWish& wish, const std::function<bool(const CampaignCourse&)>& heard);

/// Whether a requirement was broken in it.
bool is_broken(const CaseResult& result);

/// What one case is as a run.
RunRequest request_of(const CampaignWish& wish, const Case& one);

}  // namespace isodyne::session
