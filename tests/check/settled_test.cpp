// What would be frozen, could not be broken, ends in nothing, or is no number: said where it is written, or stopped.

#include <cmath>

#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using Catch::Contains;

namespace {
constexpr const char* kParts = R"(
model V {
  param c : 1 = 0.5
  output state x : 1 = 0
  x' = (c - x) / 1 s
}
)";
std::string settled_bench(const std::string& line, const std::string& more = "") {
  return std::string(kParts) + more + "bench B {\n  step 10 ms\n  input open : bool = false\n  param k : 1 = 2\n" +
         "  output state y : 1 = 1\n  y' = -y / 1 s\n  " + line + "\n}\n";
}

/// With the warnings of `check`.
std::string warnings_of(const std::string& text, bool bench_needed = true) {
  const check::Loaded loaded =
      check::load_bench("", "bench.dyne", [&](const std::string&) -> Result<std::string> { return text; },
                        {.rules = {}, .harness = "", .bench_needed = bench_needed, .rated = false, .lint = true});
  return loaded.diagnostics.render(*loaded.sources, false);
}
}  // namespace

TEST_CASE("A parameter cannot be given what moves") {
  for (const char* given : {"if open then 1 else 0", "y", "2 * y + k"}) {
    INFO(given);
    const std::string said = diagnostics_of(settled_bench(std::string("part v : V(c = ") + given + ")"));
    CHECK_THAT(said, Contains("parameter `v.c` would keep the value that") && Contains("at the start") &&
                         Contains("declare `input c` in the model instead") && Contains("[not-constant]"));
    CHECK_THAT(said, Contains("bench.dyne:13:"));  // where it is written
  }
  CHECK(load_text(settled_bench("part v : V(c = 3 * k)")).program != nullptr);
  CHECK(load_text(settled_bench("part v : V(x = 3 * k)")).program != nullptr);
}

TEST_CASE("The same within a model, and in a model that no bench uses") {
  const std::string outer =
      "model W {\n  input u : 1\n  output state z : 1 = 0\n  z' = u / 1 s\n  part v : V(c = u)\n}\n";
  CHECK_THAT(diagnostics_of(settled_bench("part w : W\n  w.u = y", outer)), Contains("parameter `w.v.c` would keep"));
  CHECK_THAT(warnings_of(kParts + outer, false), Contains("would keep"));
}

TEST_CASE("A parameter that is computed from one that changes is warned of") {
  const std::string said =
      warnings_of(settled_bench("part v : V(c = 3 * k)") + "scenario s {\n  set k = 4\n  hold 1 s\n}\n");
  CHECK_THAT(said, Contains("`v.c` is computed from `k` once") && Contains("[frozen]"));
  CHECK_THAT(warnings_of(settled_bench("part v : V(c = 3 * k)")), !Contains("[frozen]"));
}

TEST_CASE("A requirement that limits cannot break, an actuator nobody writes, a sensor nobody reads") {
  const std::string text =
      "bench B {\n  step 10 ms\n  output state level : m = 1 m  limited 0 m .. 9 m\n  level' = gap * 1 1/s\n"
      "  actuator gap : m\n  sensor lt { of level  every 20 ms }\n}\n"
      "requirement R-1 { always level <= 9 m }\nrequirement R-2 { always level >= 0 m and level < 10 m }\n"
      "requirement R-3 { always level <= 8.9 m }\n";
  const std::string said = warnings_of(text);
  CHECK_THAT(said, Contains("requirement `R-1` cannot be broken: `level` is limited to 0 m .. 9 m"));
  CHECK_THAT(said, Contains("requirement `R-2` cannot be broken"));
  CHECK_THAT(said, !Contains("`R-3` cannot"));
  CHECK_THAT(said, Contains("nothing writes actuator `gap`, so it stays at 0 m"));
  CHECK_THAT(said, Contains("nothing reads sensor `lt`"));
}

namespace {
bench::RunResult settled_run(const std::string& text, double seconds, std::vector<judge::Verdict>* verdicts = nullptr,
                             bench::RunPlan plan = {}) {
  Seen seen(program_of(text));
  if (seconds > 0) plan.longest = time_from_seconds(seconds);
  const auto result = run_bench(seen, plan);
  if (verdicts != nullptr) *verdicts = seen.judge.verdicts(result.ending);
  return result;
}
/// q = 1 / d is infinite at 0.5 s, and no number just there if it is 0 / 0.
std::string divides(const std::string& q, const std::string& rest) {
  return "bench B {\n  step 10 ms\n  let d : m = 50 cm - time * 1 m/s\n  let near : m = if abs(d) < 1 mm then 0 m else "
         "d\n"
         "  let q : 1 = " +
         q + "\n  output state y : 1 = 0\n  y' = 1 / 1 s\n  " + rest;
}
}  // namespace

TEST_CASE("What a requirement reads and is no number stops the run: no verdict rests on it") {
  for (const auto& [q, word] : {std::pair{"near / near", "not a number"}, std::pair{"1 m / near", "infinite"}}) {
    for (const char* asked : {"always q > -5", "always q < 5", "always not (q > 4)",
                              "whenever q > 3 then within 1 s y > 0", "always (y > 0.2 implies q > -9)"}) {
      INFO(q << ": " << asked);
      std::vector<judge::Verdict> verdicts;
      const auto result = settled_run(divides(q, "}\nrequirement R { ") + asked + " }\n", 2, &verdicts);
      CHECK(result.ending == observe::Ending::diverged);
      CHECK(to_seconds(result.ended_at) == Approx(0.5));
      CHECK_THAT(result.explanation, Contains("`q` is " + std::string(word)) && Contains("requirement `R` reads it"));
      REQUIRE(result.details.size() >= 2);
      CHECK_THAT(result.details[0], Contains("its equation is in bench.dyne:5"));
      CHECK_THAT(result.details.back(), Contains("guard it"));
      CHECK(verdicts[0].answer != judge::Answer::held);
    }
  }
}

TEST_CASE("Controllers, channels, conditions, tables, modes and blocks are asked no less than requirements") {
  const std::string q = "near / near";
  const std::pair<const char*, const char*> kReaders[] = {
      {"sensor s { of q  every 10 ms }\n  let u : 1 = s\n}\n", "sensor `s`"},
      {"modes m from a {\n    a -> b when q > 3\n    b -> a when q < -3\n  }\n}\n", "a transition of `m`"},
      {"output memory n : int = 0\n  when q > 3 { n := n + 1 }\n}\n", "a `when` block"},
      {"output memory n : 1 = 0\n  every 10 ms { n := q }\n}\n", "an `every` block"},
      {"let z : 1 = t(q)\n}\ntable t(x: 1) -> 1 = [0: 1, 5: 2] linear outside held\n", "the equation of `z`"},
      {"let z : bool = q > 3\n}\n", "the equation of `z`"},
      {"}\nmeasure r { of q  rms }\n", "measure `r`"}};
  for (const auto& [text, reader] : kReaders) {
    INFO(text);
    const auto result = settled_run(divides(q, text), 2);
    CHECK(result.ending == observe::Ending::diverged);
    CHECK_THAT(result.explanation, Contains(reader));
  }
  bench::RunPlan with_fault;
  with_fault.faults = {0};
  const auto fault =
      settled_run(divides(q, "param p : 1 = 1\n  let use : 1 = p * y\n}\nfault f { on p  times 2  once q > 3 }\n"), 2,
                  nullptr, with_fault);
  CHECK_THAT(fault.explanation, Contains("fault `f`"));
  // Nobody chose it: nobody reads it.
  CHECK(settled_run(divides(q, "param p : 1 = 1\n  let use : 1 = p * y\n}\nfault f { on p  times 2  once q > 3 }\n"), 2)
            .ending == observe::Ending::completed);
  bench::RunPlan with_scenario;
  with_scenario.scenario = 0;
  const auto wait =
      settled_run(divides(q, "}\nscenario s { wait until q > 3  within 2 s }\n"), 0, nullptr, with_scenario);
  CHECK_THAT(wait.explanation, Contains("scenario `s`"));
}

TEST_CASE("What is guarded may be undefined elsewhere") {
  for (const char* asked :
       {"always (if abs(d) > 1 cm then q > -200 else true)", "always (abs(d) > 1 cm implies 1 m / near > -200)",
        "always (abs(d) <= 1 cm or 1 m / near > -200)", "always (if abs(d) > 1 cm then q else 0) < 200"}) {
    INFO(asked);
    std::vector<judge::Verdict> verdicts;
    const auto result = settled_run(divides("1 m / near", "}\nrequirement R { ") + asked + " }\n", 2, &verdicts);
    INFO(result.explanation);
    CHECK(result.ending == observe::Ending::completed);
    CHECK(verdicts[0].answer == judge::Answer::held);
  }
}

TEST_CASE("A formula that divides by itself is looked at where it stands") {
  const auto result = settled_run(divides("1", "}\nrequirement R { always 1 m / near > -200 }\n"), 2);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK_THAT(result.explanation, Contains("requirement `R` compares what is no finite number"));
}

TEST_CASE("A quantity that is only recorded may be without a value, and is listed") {
  std::vector<judge::Verdict> verdicts;
  const auto result = settled_run(divides("near / near", "}\nrequirement R { always y < 9 }\n"), 2, &verdicts);
  CHECK(result.ending == observe::Ending::completed);
  CHECK(verdicts[0].answer == judge::Answer::held);
  REQUIRE(result.remarks.size() == 1);
  CHECK_THAT(result.remarks[0], Contains("`q` is without a value from 0.5 s on"));
}
