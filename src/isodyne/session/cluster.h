#pragma once
// Tasks on a cluster, by the commands of Slurm: an array is submitted, and waited for. No server of ours is needed,
// only a folder that all machines share.

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"

namespace isodyne::session {

struct ClusterPlan {
  std::string folder;  ///< shared: what tasks do and what they leave
  std::string name;    ///< of the job
  std::vector<std::string>
      command;  ///< what each task runs; $LINE and $BOOK stand for its line, and a file N.sqlite, N from 1
  std::vector<std::string> lines;    ///< one for each task
  std::size_t cores = 1;             ///< for each task
  std::vector<std::string> options;  ///< more words for sbatch
};

/// The job of an earlier submission in this folder; empty: there was none.
std::string job_in(const std::string& folder);

/// Submits, and notes the job in the folder.
Status submit(const ClusterPlan& plan);

/// Until no task of the job is pending or running any more. `over` gets the number of each as soon as it is not. Where
/// `go_on` says false the job is cancelled.
Status wait_for_job(const std::string& folder, std::size_t tasks, const std::function<void(std::size_t)>& over,
                    const std::function<bool()>& go_on);

}  // namespace isodyne::session
