// What is no number between two instants of the bench, in the steps of a quicker part: nobody sees it there, and what
// it decides stays decided.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/native.h"
#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;
using Catch::Contains;

namespace {

/// `n` counts the instants of the part; 1 / (n - 9) is infinite at 4.5 ms and at no other.
std::string quick(const std::string& reads, const std::string& part = "step 500 us", const std::string& more = "") {
  return "model Gap {\n  output state x : m = 1 m\n  x' = -1 m/s\n  memory n : 1 = 0\n"
         "  every 500 us { n := n + 1 }\n  param p : 1 = 2\n  " +
         reads + "\n}\nbench Quick {\n  step 10 ms\n  part gap : Gap  " + part + "\n  " + more +
         "\n}\nrequirement R-1 { always gap.x > 0 m }\n";
}

bench::RunResult ran(const std::string& text, bool native = false, bool reference = false) {
  Seen seen(program_of(text));
  bench::RunPlan plan;
  plan.longest = Time{100'000'000};
  plan.reference = reference;
  if (native) {
    plan.native = test_compiler();
    plan.wait_for_native = true;
  }
  return run_bench(seen, plan);
}

const std::string kWhen = "output memory seen : bool = false\n  when 1 / (n - 9) > 1e9 { seen := true }";
const std::string kModes = "modes m from off {\n    off -> on when 1 / (n - 9) > 1e9\n    on -> off when n > 12\n  }";

}  // namespace

TEST_CASE("A run stops where a quick part read what is no number between two instants of the bench") {
  const std::pair<std::string, const char*> kReaders[] = {
      {kWhen, "a `when` block read what is no finite number"},
      {kModes, "a transition of `gap.m` read"},
      {"let q : 1 = 1 / (n - 9)\n  let far : 1 = if q > 1e9 then 1 else 0", "the equation of `gap.far` read"},
      {"let q : 1 = sqrt(abs(n - 9) - 0.5)\n  let far : bool = min(q, 2) > 1", "the equation of `gap.far` read"},
      {"let z : 1 = delay(1 / (n - 8), 1 ms)\n  let far : bool = z > 1e9", "the equation of `gap.far` read"},
      {"memory q : 1 = 0\n  every 500 us { q := log(abs(n - 9)) }", "an `every` block read"}};
  for (const auto& [reads, reader] : kReaders) {
    for (const bool native : {false, true}) {
      INFO(reads << (native ? ", native" : ""));
      const auto result = ran(quick(reads), native);
      CHECK(result.ending == observe::Ending::diverged);
      CHECK_THAT(result.explanation, Contains(reader));
      CHECK_THAT(result.explanation, Contains("at 0.0045 s"));
      REQUIRE(result.details.size() >= 2);
      CHECK_THAT(result.details[0], Contains("bench.dyne:8:") || Contains("bench.dyne:9:"));
      CHECK_THAT(result.details.back(), Contains("guard it"));
    }
  }
}

TEST_CASE("The first and the last instant between two of the bench, and the instants of the bench themselves") {
  // Instant k of the part reads n = k, and one of the bench sees what its block has made of that: k + 1. Between it is
  // who read it; at an instant of the bench, which quantity, and what made it.
  struct Instant {
    int n;
    const char* said;
    int ended_ms;
  };
  const Instant kInstants[] = {{1, "at 0 s `gap.q` is infinite, and the equation of `gap.far` reads it", 0},
                               {2, "at 0.001 s the equation of `gap.far` read", 10},
                               {19, "at 0.0095 s the equation of `gap.far` read", 10},
                               {21, "at 0.01 s `gap.q` is infinite, and the equation of `gap.far` reads it", 10},
                               {22, "at 0.011 s the equation of `gap.far` read", 20},
                               {199, "at 0.0995 s the equation of `gap.far` read", 100}};
  for (const Instant& at : kInstants) {
    for (const bool native : {false, true}) {
      INFO(at.n << (native ? ", native" : ""));
      const auto result = ran(quick(fmt::format("let q : 1 = 1 / (n - {})\n  let far : bool = q > 1e9", at.n)), native);
      CHECK(result.ending == observe::Ending::diverged);
      CHECK_THAT(result.explanation, Contains(at.said));
      CHECK(result.ended_at == Time{at.ended_ms * 1'000'000});  // at the next instant of the bench
    }
  }
  // Behind the end of the run nobody reads anything.
  CHECK(ran(quick("let q : 1 = 1 / (n - 202)\n  let far : bool = q > 1e9")).ending == observe::Ending::completed);
}

TEST_CASE("Of two parts with steps of their own each is named with its instant, and the first that is found counts") {
  const auto text = [](int slow, int fast) {
    return fmt::format(
        "model Slow {{\n  memory n : 1 = 0\n  every 1 ms {{ n := n + 1 }}\n  output state x : 1 = 0\n  x' = 1 / 1 s\n"
        "  let far : bool = 1 / (n - {}) > 1e9\n}}\n"
        "model Fast {{\n  memory n : 1 = 0\n  every 500 us {{ n := n + 1 }}\n  output state x : 1 = 0\n  x' = 1 / 1 s\n"
        "  let far : bool = 1 / (n - {}) > 1e9\n}}\n"
        "bench Two {{\n  step 10 ms\n  part slow : Slow  step 1 ms\n  part fast : Fast  step 500 us\n}}\n",
        slow, fast);
  };
  CHECK_THAT(ran(text(13, 1000)).explanation, Contains("at 0.013 s the equation of `slow.far` read"));
  CHECK_THAT(ran(text(1000, 25)).explanation, Contains("at 0.0125 s the equation of `fast.far` read"));
  // Both between the same two instants of the bench: one of them is named, with its own instant.
  const auto both = ran(text(13, 25)).explanation;
  CHECK_THAT(both,
             Contains("at 0.013 s the equation of `slow.far`") || Contains("at 0.0125 s the equation of `fast.far`"));
}

TEST_CASE("The same of a part on a core of its own") {
  const auto result = ran(quick(kWhen, "step 500 us  on core 1", "let y : m = gap.x"));
  CHECK(result.ending == observe::Ending::diverged);
  CHECK_THAT(result.explanation, Contains("at 0.0045 s a `when` block read"));
}

TEST_CASE("What is guarded in a quick part, or divided by what stays, is nobody's trouble") {
  for (const char* reads :
       {"let q : bool = if n > 9.5 or n < 8.5 then 1 / (n - 9) > 3 else false",
        "let q : bool = (n > 9.5 and 1 / (n - 9) > 3)", "let q : 1 = 1 / max(abs(n - 9), 0.1)\n  let z : bool = q > 3",
        "let q : 1 = 1 / (n - 9)"}) {  // that one nobody reads
    INFO(reads);
    const auto result = ran(quick(reads));
    INFO(result.explanation);
    CHECK(result.ending == observe::Ending::completed);
  }
  // Nothing is looked at, so nothing is paid.
  CHECK(program_of(quick("let q : bool = n / p > 3"))->quick_watches.empty());
  CHECK(program_of(quick("let q : bool = n / 4 > 3"))->quick_watches.empty());
  // As quick as the bench: everything is looked at anyhow.
  CHECK(program_of("bench B {\n  step 10 ms\n  output memory n : 1 = 0\n  every 10 ms { n := n + 1 }\n  when 1 / (n - "
                   "9) > 5 { n := 0 }\n}\n")
            ->quick_watches.empty());
  CHECK(program_of(quick(kWhen))->quick_watches.size() == 1);
}

TEST_CASE("What stands on its way to another value at an instant of the bench was never read between") {
  // With the samples of before, the part would divide by zero at 0 s and at 0.05 s.
  const std::string text =
      quick("input u : 1\n  let q : bool = 1 / (u - 3) > 5", "step 500 us",
            "let level : 1 = if time < 0.045 s then 3.5 else 4.5\n  sensor s { of level  every 10 ms }\n  gap.u = if "
            "time < 0.05 s then 3 + s else s - 0.5");
  for (const bool native : {false, true}) {
    const auto result = ran(text, native);
    INFO(result.explanation);
    CHECK(result.ending == observe::Ending::completed);
  }
}

TEST_CASE("The reference solver may try what does not come true") {
  const auto result =
      ran("model Root {\n  output state x : 1 = 1\n  x' = -2 * sqrt(abs(x)) / 1 s\n"
          "  let q : bool = sqrt(x + 0.5) > 0.8\n}\nbench B {\n  step 10 ms\n  part root : Root  step "
          "1 ms\n}\nrequirement R-1 { always root.x > -2 }\n",
          false, true);
  INFO(result.explanation);
  CHECK(result.ending == observe::Ending::completed);
}

TEST_CASE("To look on changes no bit of what is looked at") {
  // The same part with and without somebody who reads what may be no number, but is one throughout.
  const std::string looked = quick("let q : bool = 1 / (n + 9) > 0.05"), not_looked = quick("let q : bool = n < 11");
  std::vector<std::vector<double>> kept[2];
  for (const bool first : {false, true}) {
    Seen seen(program_of(first ? looked : not_looked), {"gap.x", "gap.q"});
    bench::RunPlan plan;
    plan.longest = Time{100'000'000};
    CHECK(run_bench(seen, plan).ending == observe::Ending::completed);
    kept[first ? 1 : 0] = seen.values;
  }
  CHECK(kept[0] == kept[1]);
}
