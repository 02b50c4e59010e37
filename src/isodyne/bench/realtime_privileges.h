#pragma once
// What the operating system grants a thread that keeps real time, and how to get what it does not.

#include <cstdint>
#include <string>
#include <vector>

namespace isodyne::bench {

struct RealtimePrivileges {
  bool priority = false;             ///< SCHED_FIFO
  bool locked = false;               ///< memory cannot be paged out
  bool pinned = false;               ///< the thread stays on one core
  bool awake = false;                ///< the processor does not doze between steps (/dev/cpu_dma_latency)
  int awake_file = -1;               ///< holds that for as long as it is open
  int core = -1;                     ///< which
  std::vector<int> crew;             ///< cores of the threads that step beside it
  int cores = 1;                     ///< that this process may use
  std::vector<std::string> lacking;  ///< what is missing and how to get it, a line each
};

/// The priority of the stepping thread; those who wait for a controller have one less.
constexpr int kSteppingPriority = 80;

/// How many cores this process may use.
int usable_cores();
/// Makes the calling thread one that keeps time: priority, locked memory, a core of its own (`core` −1: the last one
/// that this process may use). Says what could not be had. `crew`: one for each thread that will step beside it, the
/// number of its core counted from that of the stepping thread, which then is the first one unless chosen.
RealtimePrivileges take_privileges(int core, const std::vector<std::int32_t>& crew = {});
/// For a thread that steps beside the stepping thread, the first is 1: the same priority, and a core of its own.
void step_beside(int member);
/// Gives back what was taken.
void give_back(const RealtimePrivileges& privileges);
/// For a thread that works for the stepping thread: another core, and a little less priority.
void help_stepping_thread();
/// For a thread that may take its time: any core but that of the stepping thread, usual priority.
void keep_away_from_stepping_thread();

}  // namespace isodyne::bench
