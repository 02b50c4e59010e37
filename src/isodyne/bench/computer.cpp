#include "isodyne/bench/computer.h"

#include <algorithm>
#include <ctime>
#include <fstream>
#include <sstream>

#include <sys/utsname.h>

#include <fmt/format.h>

namespace isodyne::bench {

namespace {

using namespace std::chrono_literals;

constexpr Time kSteps[] = {10ms, 5ms, 2ms, 1ms, 500us, 200us, 100us, 50us, 20us};

std::string first_line(const std::string& file) {
  std::ifstream in(file);
  std::string line;
  std::getline(in, line);
  return line;
}

ComputerFact kernel() {
  utsname about{};
  uname(&about);
  const bool real_time =
      first_line("/sys/kernel/realtime") == "1" || std::string(about.version).find("PREEMPT_RT") != std::string::npos;
  return {
      "kernel", fmt::format("{}{}", about.release, real_time ? ", with real-time preemption" : ""),
      real_time ? "" : "a kernel with real-time preemption (package linux-image-rt-amd64) shortens the worst waits"};
}

ComputerFact clock_source() {
  const std::string source = first_line("/sys/devices/system/clocksource/clocksource0/current_clocksource");
  timespec finest{};
  clock_getres(CLOCK_MONOTONIC, &finest);
  constexpr int kLooks = 10'000;
  const std::int64_t begin = monotonic_ns();
  for (int i = 0; i < kLooks; ++i) monotonic_ns();
  const double cost = static_cast<double>(monotonic_ns() - begin) / kLooks;
  return {
      "clock", fmt::format("{}, a look costs {:.0f} ns", source.empty() ? "unknown source" : source, cost),
      cost > 200 ? "the clock is slow to read; a machine whose source is tsc or kvm-clock waits more precisely" : ""};
}

ComputerFact frequency(int core) {
  const std::string governor =
      first_line(fmt::format("/sys/devices/system/cpu/cpu{}/cpufreq/scaling_governor", std::max(core, 0)));
  if (governor.empty()) return {"processor frequency", "not under the control of this system", ""};
  return {"processor frequency", "governor " + governor,
          governor == "performance" ? "" : "set the governor to performance: a core that has slowed down steps late"};
}

ComputerFact throttling() {
  const std::string share = first_line("/proc/sys/kernel/sched_rt_runtime_us");
  if (share == "-1") return {"share of real-time threads", "not limited", ""};
  const std::string period = first_line("/proc/sys/kernel/sched_rt_period_us");
  return {"share of real-time threads", fmt::format("at most {} of each {} us", share, period), ""};
}

/// Ticks that a hypervisor gave to others, of this core.
std::int64_t stolen(int core) {
  std::ifstream in("/proc/stat");
  const std::string name = fmt::format("cpu{} ", core);
  for (std::string line; std::getline(in, line);) {
    if (!line.starts_with(name)) continue;
    std::istringstream fields(line.substr(name.size()));
    std::int64_t value = 0;
    for (int i = 0; i < 8; ++i) fields >> value;
    return value;
  }
  return 0;
}

/// A thread that only looks at the clock: whatever stops it is not of its making.
void watch_gaps(ComputerCheck& check, Time span) {
  const std::int64_t begin = monotonic_ns();
  std::int64_t before = begin;
  // In turns of 40 ms with a pause: the kernel stops a thread of real-time priority that never rests.
  while (before - begin < span.count()) {
    const std::int64_t turn = before;
    while (before - turn < 40'000'000) {
      const std::int64_t now = monotonic_ns();
      const std::int64_t gap = now - before;
      if (gap > 20'000) ++check.gaps;
      check.longest_gap_ns = std::max(check.longest_gap_ns, gap);
      before = now;
    }
    const timespec rest{0, 10'000'000};
    clock_nanosleep(CLOCK_MONOTONIC, 0, &rest, nullptr);
    before = monotonic_ns();
  }
  check.watched_s = static_cast<double>(before - begin) / 1e9;
}

void try_sleep(ComputerCheck& check, Time span) {
  std::int64_t due = monotonic_ns();
  for (std::int64_t i = 0; i < span / 1ms; ++i) {
    due += 1'000'000;
    const timespec until{static_cast<time_t>(due / 1'000'000'000), static_cast<long>(due % 1'000'000'000)};
    clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr);
    check.sleep.add(monotonic_ns() - due);
    due = std::max(due, monotonic_ns() - 1'000'000);
  }
}

StepTrial try_step(Time step, Time span) {
  StepTrial trial;
  trial.step = step;
  Pacer pacer(step, 1);
  Time at{};
  pacer.begin(at);
  for (std::int64_t i = 0; i < span / step; ++i) {
    pacer.wait(at);
    pacer.done(at);
    at += step;
  }
  trial.steps = pacer.steps();
  trial.overruns = pacer.overruns();
  trial.lateness = pacer.lateness();
  return trial;
}

}  // namespace

/// At most one step in ten thousand late, and the usual late begin (p99) within a tenth of the step.
bool StepTrial::held() const {
  return overruns * 10'000 <= steps && lateness.quantile(0.99) <= static_cast<double>(step.count()) / 10;
}

Time ComputerCheck::shortest() const {
  Time held{};
  for (const StepTrial& t : trials) {
    if (!t.held()) break;
    held = t.step;
  }
  return held;
}

ComputerCheck check_computer(int core, Time each, const std::function<bool(double)>& go_on) {
  ComputerCheck check;
  check.privileges = take_privileges(core);
  check.facts = {kernel(), clock_source(), frequency(check.privileges.core), throttling()};
  const std::int64_t stolen_before = stolen(check.privileges.core), begin = monotonic_ns();
  constexpr double kParts = 2 + std::size(kSteps);
  double done = 0;
  const auto next = [&] { return go_on(++done / kParts); };
  watch_gaps(check, each);
  if (next()) try_sleep(check, each);
  int failed = 0;
  for (const Time step : kSteps) {
    if (!next() || failed == 2) break;
    check.trials.push_back(try_step(step, each));
    failed += check.trials.back().held() ? 0 : 1;
  }
  const double ticks = static_cast<double>(stolen(check.privileges.core) - stolen_before);
  const double share = ticks / 100 / (static_cast<double>(monotonic_ns() - begin) / 1e9);
  if (share > 0)
    check.facts.push_back(
        {"taken by the machine below", fmt::format("{:.1f} % of core {}", 100 * share, check.privileges.core),
         share > 0.001 ? "this is a virtual machine and others use the same processor: real time needs one "
                         "of its own"
                       : ""});
  give_back(check.privileges);
  return check;
}

}  // namespace isodyne::bench
