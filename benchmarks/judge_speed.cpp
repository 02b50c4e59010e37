// What judging costs: 100 requirements over 200 signals at 1 kHz beside the run itself; operators over windows of all
// lengths; and a thousand faults that are declared and do not act. Prints Markdown. Exit status 1 if a bound of
// docs/performance.md is missed.

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>

#include <fmt/format.h>

#include "isodyne/bench/run.h"
#include "isodyne/judge/judge.h"
#include "measure.h"

using namespace isodyne;
using namespace isodyne::measure;

namespace {

/// A hundred states in pairs that swing and decay, and a quantity made of each: 200 signals.
std::string plant(int states) {
  std::string text =
      "model Swing {\n  param w : 1/s = 3 1/s\n  input push : m/s = 0 m/s\n  output state x : m = 1 m\n  output state "
      "v : m/s = 0 m/s\n"
      "  output force : m/s^2\n  output energy : m^2/s^2\n  force = -w * w * x - 0.1 1/s * v\n  energy = v * v / 2 + w "
      "* w * x * x / 2\n"
      "  x' = v + push\n  v' = force\n}\nbench B {\n  step 1 ms\n";
  for (int i = 0; i < states / 2; ++i) {
    text += fmt::format("  part s{} : Swing(w = {} 1/s)\n", i, 1 + 0.1 * i);
    text += fmt::format("  s{}.push = {}\n", i,
                        i == 0 ? "0.1 m/s * sin(2 rad/s * time)" : fmt::format("0.01 1/s * s{}.x", i - 1));
  }
  return text + "}\n";
}

/// Sixty limits, twenty that depend on a condition or answer within a time, twenty over windows.
std::string rules(int count) {
  std::string text;
  for (int i = 0; i < count; ++i) {
    const int s = i % 50, kind = i % 10;
    text += fmt::format("requirement R-{} {{ ", i);
    if (kind < 6)
      text += fmt::format("always (abs(s{}.x) <= 20 m and s{}.energy <= 500 m^2/s^2)", s, s);
    else if (kind == 6)
      text += fmt::format("always (s{0}.v > 0.5 m/s implies s{0}.force <= 100 m/s^2)", s);
    else if (kind == 7)
      text += fmt::format("whenever s{0}.x > 0.9 m then within 5 s s{0}.x < 0.95 m", s);
    else if (kind == 8)
      text += fmt::format("always within 10 s s{}.x < 20 m", s);
    else
      text +=
          fmt::format("always (s{0}.x < 20 m for at least 2 s or s{0}.v < 90 m/s in the last 1 s or time < 2 s)", s);
    text += " }\n";
  }
  return text;
}

class Judging : public observe::Observer {
 public:
  Judging(std::shared_ptr<const program::Program> p, judge::Judge::Where where) : judge(std::move(p), where) {}
  ~Judging() override { judge.flush(); }
  void image(const observe::Image& i) override { judge.image(i); }
  judge::Judge judge;
};

/// Seconds that a run takes, with native code out of the cache.
double run(const std::shared_ptr<const program::Program>& p, observe::Observer& observer, double seconds,
           std::vector<std::int32_t> faults = {}) {
  bench::RunPlan plan;
  plan.longest = time_from_seconds(seconds);
  plan.native = engine::NativeSettings::usual();
  plan.wait_for_native = true;
  plan.faults = std::move(faults);
  const std::atomic<bool> stop{false};
  bench::Run r(p, plan, {}, observer);
  const auto begin = Clock::now();
  r.execute(stop);
  return since(begin);
}

/// With the judge on a thread of its own, as `isodyne run` has it, and on that of the run.
bool share_of_the_run(double seconds, judge::Judge::Where where) {
  const auto p = checked(plant(100) + rules(100));
  observe::Observer nobody;
  run(p, nobody, 1);  // into the cache
  std::vector<double> shares, alone;
  for (int turn = 0; turn < (seconds > 600 ? 3 : 7); ++turn) {
    Judging judging(p, where);
    const auto begin = Clock::now();
    run(p, judging, seconds);
    judging.judge.flush();
    const double with = since(begin);
    const auto again = Clock::now();
    run(p, nobody, seconds);
    const double without = since(again);
    const double steps = seconds * 1000;
    shares.push_back((with - without) / with);
    alone.push_back(without / steps * 1e9);
  }
  const double share = median(shares);
  std::printf(
      "| 100 requirements over 200 signals, 1 kHz, %g simulated seconds, %s: share of the run | %.1f %% | %.0f ns a "
      "step without | 20 %% | %s |\n",
      seconds, where == judge::Judge::Where::beside ? "judge beside" : "judge on the same thread", 100 * share,
      median(alone), share <= 0.2 ? "" : "**missed**");
  return share <= 0.2;
}

bool windows() {
  std::vector<int> lengths{10, 100, 1000, 10'000, 100'000};
  std::vector<std::vector<double>> costs(lengths.size());
  for (int turn = 0; turn < 7; ++turn) {
    for (std::size_t i = 0; i < lengths.size(); ++i) {
      const auto p =
          checked(fmt::format("bench B {{ step 1 ms\n let x : m = time * 1 m/s\n let on : bool = true\n}}\n"
                              "requirement R {{ always (x < 900000 m stays for {0} ms) }}\nrequirement S {{ always (on "
                              "for at least {0} ms or x < 900000 m in the last {0} ms) }}\n",
                              lengths[i]));
      judge::Judge judge(p);
      std::vector<double> image(p->variables.size());
      const program::VarId x = p->find("x"), on = p->find("on");
      const auto look = [&](std::int64_t k) {
        const double noise =
            static_cast<double>((k * 2654435761LL) % 1000003);  // rises and falls: the worst for some windows
        image[static_cast<std::size_t>(x)] = noise;
        image[static_cast<std::size_t>(on)] = 1;
        judge.image({Time{k * 1'000'000}, image.data()});
      };
      std::int64_t k = 0;
      for (; k < 2 * lengths[i] + 1000; ++k) look(k);  // until the windows are full
      const auto begin = Clock::now();
      constexpr int kSamples = 400'000;
      for (const std::int64_t end = k + kSamples; k < end; ++k) look(k);
      costs[i].push_back(since(begin) / kSamples * 1e9);
    }
  }
  double low = 1e9, high = 0;
  std::string all;
  for (std::size_t i = 0; i < lengths.size(); ++i) {
    const double cost = median(costs[i]);
    low = std::min(low, cost);
    high = std::max(high, cost);
    all += fmt::format("{}{}: {:.0f} ns", all.empty() ? "" : ", ", lengths[i], cost);
  }
  const bool good = high <= 1.3 * low;
  std::printf(
      "| cost a sample of operators over windows (samples: ns) | %s | highest against lowest %.2f | 1.30 | %s |\n",
      all.c_str(), high / low, good ? "" : "**missed**");
  return good;
}

bool faults(double seconds) {
  std::string declared;
  for (int i = 0; i < 1000; ++i) {
    const int s = i % 50;
    const char* what[] = {"force", "energy", "push", "w"};
    const char* amount[] = {"offset 1 m/s^2", "offset 1 m^2/s^2", "offset 1 m/s", "times 2"};
    declared += fmt::format("fault f{} {{ on s{}.{} {} once s{}.x > 1000 m }}\n", i, s, what[i / 50 % 4],
                            amount[i / 50 % 4], s);
  }
  const auto with = checked(plant(100) + declared), without = checked(plant(100));
  observe::Observer nobody;
  run(with, nobody, 1);
  run(without, nobody, 1);
  std::vector<double> ratios, times;
  for (int turn = 0; turn < 15; ++turn) {
    const double a = run(with, nobody, seconds), b = run(without, nobody, seconds);
    ratios.push_back(a / b);
    times.push_back(a / seconds * 1e6);
  }
  const double ratio = median(ratios);
  std::printf("| 1,000 faults declared, none in the run, against none declared | %.3f | %.0f ns a step | 1.02 | %s |\n",
              ratio, median(times), ratio <= 1.02 ? "" : "**missed**");
  return ratio <= 1.02;
}

}  // namespace

/// judge_speed [SECONDS [share]]: the simulated time that the share is measured over (an hour), and whether only that.
int main(int argc, char** argv) {
  const double seconds = argc > 1 ? std::atof(argv[1]) : 3600;
  std::printf("| work | measured | beside it | bound | |\n|---|---:|---:|---:|---|\n");
  const bool judged = share_of_the_run(seconds, judge::Judge::Where::beside);
  share_of_the_run(std::min(seconds, 60.0), judge::Judge::Where::here);
  if (argc > 2) return judged ? 0 : 1;
  const bool constant = windows(), cheap = faults(std::min(seconds, 60.0));
  return judged && constant && cheap ? 0 : 1;
}
