#pragma once
// The cases of a campaign that are still to be done, here or by tasks on a cluster, each into the book as soon as it is
// known.

#include <chrono>
#include <functional>
#include <set>
#include <string>
#include <vector>

#include "isodyne/session/campaign.h"
#include "isodyne/session/cluster.h"

namespace isodyne::session {

class CaseRounds {
 public:
  using Heard = std::function<bool(const CampaignCourse&)>;
  /// All of them outlive it. `jobs`: processes at once; 0: as many as there are cores.
  CaseRounds(const CampaignWish& wish, const Cases& cases, CaseBook& book, std::size_t jobs, CampaignCourse& course,
             const Heard& heard)
      : wish_(wish), cases_(cases), book_(book), jobs_(jobs), course_(course), heard_(heard), covered_(book.key()) {}

  /// What is in the book already counts for coverage.
  Status count_in();
  Status run(const std::vector<std::int64_t>& numbers);
  /// By tasks on a cluster. One that is at work already, for somebody who is gone, is waited for first.
  Status run_on_cluster(const std::vector<std::int64_t>& numbers);

 private:
  /// Cases that share a beginning are in one task.
  ClusterPlan plan_for(const std::vector<std::int64_t>& numbers, const std::string& folder) const;
  Status wait(const std::string& folder, std::size_t tasks, std::set<std::int64_t>& left);
  /// What a task that failed or was cancelled said, if it said anything.
  std::string why_unfinished(const std::string& folder, std::size_t tasks, std::size_t cases) const;
  /// What a task has left, which may be nothing or a part.
  Status merge(const std::string& part, std::set<std::int64_t>& left);

  /// Whether it goes on.
  bool take(const CaseResult& result);
  bool may_begin() const;

  const CampaignWish& wish_;
  const Cases& cases_;
  CaseBook& book_;
  const std::size_t jobs_;
  CampaignCourse& course_;
  const Heard& heard_;
  const std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
  Status stored_ = Done{};
  CoverageSum covered_;
};

}  // namespace isodyne::session
