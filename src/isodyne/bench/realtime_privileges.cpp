#include "isodyne/bench/realtime_privileges.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <memory>
#include <thread>

#include <fcntl.h>
#include <sched.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <fmt/format.h>

namespace isodyne::bench {

namespace {

// One run at a time keeps real time in a process. The rest is written before the core is published.
std::atomic<int> g_stepping_core{-1};
cpu_set_t g_allowed;
std::vector<int> g_crew;

cpu_set_t allowed() {
  cpu_set_t set;
  CPU_ZERO(&set);
  sched_getaffinity(0, sizeof set, &set);
  return set;
}

/// Where the kernel has no driver for idle states (most virtual machines), a core that rests is given to others, and
/// comes back late. A thread that takes only what nobody else wants, on the core of the steps, keeps it at work.
class Keeper {
 public:
  explicit Keeper(int core) : thread_([this, core] { work(core); }) {}
  ~Keeper() {
    stop_.store(true, std::memory_order_relaxed);
    thread_.join();
  }

 private:
  void work(int core) {
    cpu_set_t one;
    CPU_ZERO(&one);
    CPU_SET(static_cast<std::size_t>(core), &one);
    sched_param none{};
    // Without both it would take time from the steps, or be elsewhere.
    if (sched_setscheduler(0, SCHED_IDLE, &none) != 0 || sched_setaffinity(0, sizeof one, &one) != 0) return;
    while (!stop_.load(std::memory_order_relaxed)) {
      for (int i = 0; i < 1000; ++i) std::atomic_signal_fence(std::memory_order_seq_cst);
    }
  }
  std::atomic<bool> stop_{false};
  std::thread thread_;
};
std::vector<std::unique_ptr<Keeper>> g_keepers;

bool has_idle_driver() {
  std::ifstream in("/sys/devices/system/cpu/cpuidle/current_driver");
  std::string driver;
  return std::getline(in, driver) && !driver.empty() && driver != "none";
}

std::vector<int> list_of(const cpu_set_t& set) {
  std::vector<int> cores;
  for (int core = 0; core < CPU_SETSIZE; ++core) {
    if (CPU_ISSET(core, &set)) cores.push_back(core);
  }
  return cores;
}

/// A core for each of a crew, as far as they go: those with the numbers asked for, counted from `first`.
std::vector<int> cores_beside(int first, const std::vector<std::int32_t>& wanted, const std::vector<int>& all) {
  std::vector<int> chosen;
  const auto n = all.size();
  const auto from = static_cast<std::size_t>(std::find(all.begin(), all.end(), first) - all.begin());
  const auto taken = [&](int core) {
    return core == first || std::find(chosen.begin(), chosen.end(), core) != chosen.end();
  };
  for (std::size_t i = 0; i < wanted.size() && i + 1 < n; ++i) {
    auto at = from + static_cast<std::size_t>(wanted[i]);
    while (taken(all[at % n])) ++at;
    chosen.push_back(all[at % n]);
  }
  return chosen;
}

/// Stack that is there before it is needed.
void touch_stack() {
  volatile char room[256 * 1024];
  for (std::size_t i = 0; i < sizeof room; i += 4096) room[i] = 0;
}

bool set_priority(int priority) {
  sched_param parameters{};
  parameters.sched_priority = priority;
  // What is started from here gets no priority.
  const int policy = priority > 0 ? SCHED_FIFO | SCHED_RESET_ON_FORK : SCHED_OTHER;
  return sched_setscheduler(0, policy, &parameters) == 0;
}

/// On a machine with few cores it is the crew that has to share.
void avoid_stepping_core() {
  const int core = g_stepping_core.load(std::memory_order_acquire);
  if (core < 0) return;
  cpu_set_t set = g_allowed;
  CPU_CLR(core, &set);
  for (const int c : g_crew) {
    if (CPU_COUNT(&set) > 1) CPU_CLR(c, &set);
  }
  sched_setaffinity(0, sizeof set, &set);
}

bool stay_on(int core) {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(static_cast<std::size_t>(core), &one);
  return sched_setaffinity(0, sizeof one, &one) == 0;
}

}  // namespace

int usable_cores() {
  const cpu_set_t set = allowed();
  return std::max(1, CPU_COUNT(&set));
}

RealtimePrivileges take_privileges(int core, const std::vector<std::int32_t>& crew) {
  RealtimePrivileges privileges;
  const cpu_set_t set = allowed();
  const std::vector<int> all = list_of(set);
  privileges.cores = std::max(1, static_cast<int>(all.size()));
  if (core < 0 && !all.empty()) core = crew.empty() ? all.back() : all.front();
  privileges.core = core;
  prctl(PR_SET_TIMERSLACK, 1UL);  // where there is no priority, the kernel would bundle wake-ups within 50 us
  touch_stack();
  // What the steps need is there by now. What others allocate later need not be locked, and must not fail for it.
  if (mlockall(MCL_CURRENT) == 0) {
    privileges.locked = true;
  } else {
    privileges.lacking.push_back(
        fmt::format("memory is not locked ({}): a page that is fetched back from disk delays a step. Allow it with "
                    "`ulimit -l unlimited`, or LimitMEMLOCK=infinity in a service",
                    std::strerror(errno)));
    munlockall();
  }
  privileges.awake_file = open("/dev/cpu_dma_latency", O_WRONLY | O_CLOEXEC);
  const std::int32_t none = 0;  // us that it may take to wake up
  privileges.awake = privileges.awake_file >= 0 && write(privileges.awake_file, &none, sizeof none) == sizeof none;
  if (!privileges.awake) {
    privileges.lacking.push_back(fmt::format(
        "the processor may doze between steps (/dev/cpu_dma_latency: {}) and then wakes late. Allow this user "
        "to write to that file",
        std::strerror(errno)));
  }
  if (set_priority(kSteppingPriority)) {
    privileges.priority = true;
  } else {
    privileges.lacking.push_back(
        fmt::format("no real-time priority ({}): other programs can delay a step. Allow it with `ulimit -r {}`, a line "
                    "\"USER - rtprio {}\" in /etc/security/limits.conf, or LimitRTPRIO={} in a service",
                    std::strerror(errno), kSteppingPriority, kSteppingPriority, kSteppingPriority));
  }
  if (privileges.cores < 2) {
    privileges.lacking.push_back("there is one core only: recording and ports take time from the steps");
    return privileges;
  }
  if (stay_on(privileges.core)) {
    privileges.pinned = true;
    g_allowed = set;
    privileges.crew = cores_beside(privileges.core, crew, all);
    g_crew = privileges.crew;
    g_stepping_core.store(privileges.core, std::memory_order_release);
    if (!has_idle_driver()) {
      g_keepers.push_back(std::make_unique<Keeper>(privileges.core));
      for (const int c : privileges.crew) g_keepers.push_back(std::make_unique<Keeper>(c));
    }
  } else {
    privileges.lacking.push_back(
        fmt::format("the steps cannot be kept on core {} ({})", privileges.core, std::strerror(errno)));
  }
  return privileges;
}

void give_back(const RealtimePrivileges& privileges) {
  g_keepers.clear();
  if (privileges.priority) set_priority(0);
  g_stepping_core.store(-1, std::memory_order_relaxed);
  if (privileges.awake_file >= 0) close(privileges.awake_file);
  if (privileges.locked) munlockall();
  if (privileges.pinned) sched_setaffinity(0, sizeof g_allowed, &g_allowed);
}

void step_beside(int member) {
  prctl(PR_SET_TIMERSLACK, 1UL);
  touch_stack();
  set_priority(kSteppingPriority);
  if (static_cast<std::size_t>(member) <= g_crew.size()) stay_on(g_crew[static_cast<std::size_t>(member) - 1]);
}

void help_stepping_thread() {
  avoid_stepping_core();
  set_priority(kSteppingPriority - 1);
}

void keep_away_from_stepping_thread() {
  set_priority(0);
  avoid_stepping_core();
}

}  // namespace isodyne::bench
