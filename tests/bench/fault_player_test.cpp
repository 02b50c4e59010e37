// What faults do to values, and when; against closed forms.

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// x(t) = t as a length, and what else is said, with one fault `f`, run for some seconds.
struct Faulty {
  std::shared_ptr<const program::Program> program;
  Seen seen;

  Faulty(const std::string& fault, std::vector<std::string> names, double seconds, std::uint64_t seed = 1)
      : program(program_of(fmt::format(R"(
bench B {{ step 10 ms
  let x : m = time * 1 m/s
  let on : bool = mod(time, 1 s) >= 0.5 s
  let seen : m = x
  param gain : 1 = 2
  let doubled : m = gain * x
  sensor level {{ of x  range 0 m .. 10 m  as 4 mA .. 20 mA  counts 0 .. 1000  every 10 ms }}
}}
condition late = time >= 0.995 s
fault other {{ on doubled  noise 1 m }}
fault f {{ {} }})",
                                       fault))),
        seen(program, std::move(names)) {
    bench::RunPlan plan;
    plan.faults = {1};
    plan.seed = seed;
    plan.longest = time_from_seconds(seconds);
    run_bench(seen, plan);
  }
  double operator()(const std::string& name, double at) const {
    for (std::size_t n = 0; n < seen.names.size(); ++n) {
      if (seen.names[n] == name) return seen.values[n][static_cast<std::size_t>(std::lround(at * 100))];
    }
    FAIL("no " + name);
    return 0;
  }
  /// Differences of a quantity from x.
  std::vector<double> errors() const {
    std::vector<double> all;
    for (std::size_t i = 0; i < seen.times.size(); ++i) all.push_back(seen.values[0][i] - to_seconds(seen.times[i]));
    return all;
  }
};

std::string fault_said(const std::string& fault) {
  return diagnostics_of(fmt::format(R"(
bench B {{ step 10 ms
  let x : m = time * 1 m/s
  let on : bool = true
  sensor level {{ of x  range 0 m .. 10 m  counts 0 .. 1000  every 10 ms }}
}}
fault f {{ {} }})",
                                    fault));
}

}  // namespace

TEST_CASE("quantise, invert and force") {
  CHECK(Faulty("on seen quantise 50 cm", {"seen"}, 2)("seen", 0.74) == Approx(0.5));
  CHECK(Faulty("on seen quantise 50 cm", {"seen"}, 2)("seen", 0.76) == Approx(1.0));
  CHECK(Faulty("on seen invert", {"seen"}, 2)("seen", 1.5) == Approx(-1.5));
  const Faulty turned("on on invert", {"on"}, 2);
  CHECK(turned("on", 0.2) == 1);
  CHECK(turned("on", 0.7) == 0);
}

TEST_CASE("A delay gives the value of that time ago, and at first the one at its begin") {
  const Faulty f("on seen delay 200 ms from 1 s to 2 s", {"seen"}, 3);
  CHECK(f("seen", 0.99) == Approx(0.99));
  CHECK(f("seen", 1.0) == Approx(1.0));
  CHECK(f("seen", 1.19) == Approx(1.0));
  CHECK(f("seen", 1.2) == Approx(1.0));
  CHECK(f("seen", 1.21) == Approx(1.01));
  CHECK(f("seen", 1.9) == Approx(1.7));
  CHECK(f("seen", 2.0) == Approx(2.0));
}

TEST_CASE("Faults on the wire and on the counts of a channel") {
  CHECK(Faulty("on level.signal open", {"level.signal"}, 1)("level.signal", 0.5) == 0);
  CHECK(Faulty("on level.signal short 24 mA", {"level.signal"}, 1)("level.signal", 0.5) == Approx(0.024));
  const Faulty healthy("on seen offset 1 m", {"level.counts"}, 1),
      flipped("on level.counts flip 3", {"level.counts"}, 1);
  for (const double t : {0.1, 0.33, 0.5, 0.97}) {
    const auto good = static_cast<int>(healthy("level.counts", t));
    CHECK(static_cast<int>(flipped("level.counts", t)) == (good ^ 8));
  }
}

TEST_CASE("Noise has its deviation, its seed, and is nobody else's") {
  const Faulty f("on seen noise 10 cm", {"seen"}, 100);
  const std::vector<double> e = f.errors();
  double sum = 0, squares = 0;
  for (const double x : e) {
    sum += x;
    squares += x * x;
  }
  const auto n = static_cast<double>(e.size());
  // Four standard errors of the mean, and of the deviation of n normal values.
  CHECK(std::abs(sum / n) < 4 * 0.1 / std::sqrt(n));
  CHECK(std::sqrt(squares / n) == Approx(0.1).margin(4 * 0.1 / std::sqrt(2 * n)));
  CHECK(Faulty("on seen noise 10 cm", {"seen"}, 1).seen.values[0] ==
        std::vector<double>(f.seen.values[0].begin(), f.seen.values[0].begin() + 101));
  CHECK(Faulty("on seen noise 10 cm", {"seen"}, 1, 2).seen.values[0] !=
        Faulty("on seen noise 10 cm", {"seen"}, 1).seen.values[0]);
  // With another noisy fault beside it, it is the same noise.
  bench::RunPlan both;
  both.faults = {0, 1};
  both.longest = time_from_seconds(1);
  Seen beside(f.program, {"seen"});
  run_bench(beside, both);
  CHECK(beside.values[0] == std::vector<double>(f.seen.values[0].begin(), f.seen.values[0].begin() + 101));
}

TEST_CASE("Dropouts are as many as asked for, and keep the value before") {
  const Faulty f("on seen dropout 30 %", {"seen"}, 100);
  int lost = 0;
  for (std::size_t i = 1; i < f.seen.times.size(); ++i) {
    const double now = f.seen.values[0][i], before = f.seen.values[0][i - 1];
    const bool kept = now == before;
    lost += kept ? 1 : 0;
    if (!kept) CHECK(now == Approx(to_seconds(f.seen.times[i])));
  }
  // 10,000 draws: four standard deviations of the binomial distribution are 183.
  CHECK(std::abs(lost - 3000) < 183);
}

TEST_CASE("Spikes come once in each of their times, for one instant") {
  const Faulty f("on seen spikes 2 m every 200 ms from 1 s", {"seen"}, 21);
  std::vector<int> per_window(100, 0);
  const std::vector<double> e = f.errors();
  for (std::size_t i = 0; i < e.size(); ++i) {
    if (std::abs(e[i]) < 1e-9) continue;
    CHECK(e[i] == Approx(2));
    // A spike in the last step of its window comes at the first instant of the next.
    const auto window = static_cast<std::int64_t>((static_cast<double>(i) * 0.01 - 1 - 1e-9) / 0.2);
    if (window < 100) ++per_window[static_cast<std::size_t>(window)];
  }
  CHECK(std::count(per_window.begin(), per_window.end(), 1) == 100);
}

TEST_CASE("When faults act") {
  const auto active = [](const std::string& time, double seconds = 3, std::uint64_t seed = 1) {
    const Faulty f("on seen offset 1 m " + time, {"seen"}, seconds, seed);
    std::vector<double> on;
    for (const double x : f.errors()) on.push_back(std::abs(x - 1) < 1e-9 ? 1 : 0);
    return on;
  };
  const auto share = [](const std::vector<double>& on, double from, double to) {
    double sum = 0;
    for (auto i = static_cast<std::size_t>(std::lround(from * 100));
         i < static_cast<std::size_t>(std::lround(to * 100)); ++i)
      sum += on[i];
    return sum / ((to - from) * 100);
  };
  auto on = active("from 1 s lasting 500 ms");
  CHECK(share(on, 0, 1) == 0);
  CHECK(share(on, 1, 1.5) == 1);
  CHECK(share(on, 1.5, 3) == 0);
  on = active("from 1 s pulsing 300 ms every 1 s");
  CHECK(share(on, 1, 1.3) == Approx(1));
  CHECK(share(on, 1.3, 2) == 0);
  CHECK(share(on, 2, 2.3) == Approx(1));
  on = active("from 500 ms until late");
  CHECK(share(on, 0.5, 1.01) == Approx(1));  // the condition is that of the instant before
  CHECK(share(on, 1.01, 3) == 0);
  on = active("while on lasting 200 ms");
  CHECK(share(on, 0.51, 0.71) == Approx(1));
  CHECK(share(on, 0.71, 1.51) == 0);
  CHECK(share(on, 1.51, 1.71) == Approx(1));
  on = active("once late lasting 1 s pulsing 100 ms every 200 ms");
  CHECK(share(on, 0, 1.01) == 0);
  CHECK(share(on, 1.01, 2.01) == Approx(0.5));
  CHECK(share(on, 2.01, 3) == 0);
  // At random between 1 s and 2 s: within that, and another time with another seed.
  std::set<std::size_t> begins;
  for (std::uint64_t seed = 1; seed <= 10; ++seed) {
    on = active("between 1 s and 2 s", 3, seed);
    const auto first = static_cast<std::size_t>(std::find(on.begin(), on.end(), 1) - on.begin());
    CHECK(first >= 100);
    CHECK(first <= 200);
    CHECK(share(on, 2, 3) == 1);
    begins.insert(first);
  }
  CHECK(begins.size() >= 8);
}

TEST_CASE("Faults that make no sense are refused with advice") {
  CHECK_THAT(fault_said("on x flip 3"), Catch::Contains("turns bits of whole numbers"));
  CHECK_THAT(fault_said("on level.counts flip 60"), Catch::Contains("from 0 (the lowest) to 52"));
  CHECK_THAT(fault_said("on x open"), Catch::Contains("is about a wire"));
  CHECK_THAT(fault_said("on on noise 1"), Catch::Contains("changes numbers"));
  CHECK_THAT(fault_said("on x dropout 130 %"), Catch::Contains("between 0 % and 100 %"));
  CHECK_THAT(fault_said("on x spikes 1 m"), Catch::Contains("how often"));
  CHECK_THAT(fault_said("on x spikes 1 m every 0 s"), Catch::Contains("at least 1 ns"));
  CHECK_THAT(fault_said("on x noise 1 m every 1 s"), Catch::Contains("takes no `every`"));
  CHECK_THAT(fault_said("on x delay"), Catch::Contains("`delay 5 ms`"));
  CHECK_THAT(fault_said("on x delay 40 h"), Catch::Contains("steps at most"));
  CHECK_THAT(fault_said("on x delay 3 m"), Catch::Contains("s"));
  CHECK_THAT(fault_said("on x offset 1 m pulsing 2 s every 1 s"), Catch::Contains("the whole of its period"));
  CHECK_THAT(fault_said("on x offset 1 m from 1 s once on"), Catch::Contains("begins in one way"));
  CHECK_THAT(fault_said("on x offset 1 m between 2 s and 1 s"), Catch::Contains("ends before it begins"));
}
