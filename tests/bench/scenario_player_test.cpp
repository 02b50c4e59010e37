// What scenarios do, and when; against closed forms.

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A bench with things to set, and a scenario `s` played on it; files that it names are in `files`.
struct Played {
  std::shared_ptr<const program::Program> program;
  Seen seen;
  bench::RunResult result;

  explicit Played(const std::string& scenario, std::uint64_t seed = 1, const NamedTexts& files = {})
      : program(program_of(fmt::format(R"(
bench B {{ step 10 ms
  input x : m = 1 m
  input y : m = 0 m
  input lamp : bool = false
  input count : int = 0
  param gain : 1 = 2  from 0 to 10
  state z : m = 0 m
  z' = x / 1 s
  let doubled : m = gain * x
  sensor lt {{ of z  range 0 m .. 100 m  every 10 ms }}
  let read : m = lt
}}
condition high = z > 3 m
fault held {{ on doubled  offset 1 m  by hand lasting 1 s }}
values calm {{ x = 4 m
  gain = 3 }}
scenario raise(by : m = 1 m, wait : s) {{ step x by by
  hold wait }}
{})",
                                       scenario),
                           files)),
        seen(program, {"x", "y", "lamp", "gain", "z", "doubled", "read", "held", "lt", "count"}) {
    bench::RunPlan plan;
    plan.scenario = static_cast<std::int32_t>(program->scenarios.size()) - 1;
    plan.faults = bench::faults_of(*program, plan.scenario);
    plan.longest = std::chrono::seconds(60);
    plan.seed = seed;
    result = run_bench(seen, plan);
  }
  double operator()(const std::string& name, double at) const {
    for (std::size_t n = 0; n < seen.names.size(); ++n) {
      if (seen.names[n] != name) continue;
      const auto i = static_cast<std::size_t>(std::lround(at * 100));
      REQUIRE(i < seen.values[n].size());
      return seen.values[n][i];
    }
    FAIL("no " + name);
    return 0;
  }
  double end() const { return to_seconds(result.ended_at); }
};

std::string said(const std::string& text) {
  return diagnostics_of(
      "bench B { step 10 ms\n input x : m = 1 m\n input on : bool = false\n let twice : m = 2 * x\n}\n" + text);
}

}  // namespace

TEST_CASE("Tracks run beside each other, and what follows waits for all of them") {
  const Played p(R"(scenario s {
  together {
    track a { hold 1 s
      set x = 2 m }
    track b { ramp y to 4 m over 2 s }
  }
  set lamp = true
  hold 500 ms })");
  CHECK(p("x", 0.99) == 1);
  CHECK(p("x", 1) == 2);
  CHECK(p("y", 1) == Approx(2));
  CHECK(p("lamp", 1.99) == 0);
  CHECK(p("y", 2) == Approx(4));
  CHECK(p("lamp", 2) == 1);
  CHECK(p.end() == Approx(2.5).margin(0.011));
}

TEST_CASE("Tracks may have tracks, and one that is over at once is no trouble") {
  const Played p(R"(scenario s {
  together {
    track a { }
    track b { together { track c { hold 1 s } track d { hold 2 s
      step x by 1 m } } }
  }
  hold 1 s })");
  CHECK(p("x", 2) == 2);
  CHECK(p.end() == Approx(3).margin(0.011));
}

TEST_CASE("repeat counts its rounds, also of another repeat within it, or goes on until something is true") {
  const Played p(R"(scenario s {
  repeat 3 times { repeat 2 times { step x by 1 m
      hold 100 ms } }
  repeat until z > 6 m { step count by 1
    hold 100 ms } })");
  CHECK(p("x", 0) == 2);
  CHECK(p("x", 0.35) == 5);
  CHECK(p("x", 0.55) == 7);
  // z is 0.1 * (2 + … + 7) = 2.7 m by then and grows by 7 m/s
  CHECK(p.end() == Approx(0.6 + 0.5).margin(0.03));
  CHECK(p.seen.last("count") == 5);
}

TEST_CASE("A round that takes no time takes a step, so nothing turns for ever within an instant") {
  const Played p("scenario s { repeat 50 times { step x by 1 m } }");
  CHECK(p.seen.last("x") == 51);
  CHECK(p.end() == Approx(0.5).margin(0.02));
}

TEST_CASE("either takes each way as often as the other, and the same way with the same seed") {
  int ways[3] = {0, 0, 0};
  for (std::uint64_t seed = 1; seed <= 90; ++seed) {
    const std::string text = "scenario s { either { set x = 2 m } or { set x = 3 m } or { set x = 4 m } hold 20 ms }";
    const std::string in_lines =
        "scenario s { either { set x = 2 m } or { set x = 3 m } or { set x = 4 m }\n hold 20 ms }";
    const Played p(in_lines, seed), again(in_lines, seed);
    REQUIRE(p.seen.last("x") == again.seen.last("x"));
    ++ways[static_cast<int>(p.seen.last("x")) - 2];
  }
  for (const int way : ways) CHECK(way > 15);  // 30 are expected, with a deviation of 4.5
}

TEST_CASE("Sub-scenarios have parameters with units and defaults") {
  const Played p(R"(scenario s { do raise(by = 2 m, wait = 1 s)
  do raise(wait = 500 ms) })");
  CHECK(p("x", 0) == 3);
  CHECK(p("x", 1) == 4);
  CHECK(p.end() == Approx(1.5).margin(0.011));
}

TEST_CASE("Sets of values, schedules, and steps") {
  const Played p(R"(scenario s {
  load calm
  schedule y, lamp {
    0 s: 1 m, true
    1 s: 2 m, false
    3 s: 3 m, true
  }
  step gain by 1
  hold 100 ms })");
  CHECK(p("x", 0) == 4);
  CHECK(p("gain", 0) == 3);
  CHECK(p("doubled", 0) == 12);
  CHECK(p("y", 0.99) == 1);
  CHECK(p("y", 1) == 2);
  CHECK(p("lamp", 2.99) == 0);
  CHECK(p("lamp", 3) == 1);
  CHECK(p("gain", 3) == 4);
}

TEST_CASE("A file is played onto an input, straight between its points") {
  const Played p("scenario s { hold 1 s\n play \"wind.csv\" column \"gust\" onto x\n hold 1 s }", 1,
                 {{"wind.csv", "t [s],calm [m],gust [cm]\n0,0,100\n1,0,300\n3,0,300\n4,0,0\n"}});
  CHECK(p("x", 0.99) == 1);
  CHECK(p("x", 1.5) == Approx(2));
  CHECK(p("x", 3) == Approx(3));
  CHECK(p("x", 4.5) == Approx(1.5));
  CHECK(p("x", 5.5) == Approx(0));
  CHECK(p.end() == Approx(6).margin(0.011));
}

TEST_CASE("A channel that is set shows that value until it is released") {
  const Played p(
      "scenario s { hold 1 s\n set lt = 50 m\n hold 1 s\n ramp lt to 60 m over 1 s\n release lt\n hold 1 s }");
  CHECK(p("lt", 0.99) == Approx(p("z", 0.99)));
  CHECK(p("lt", 1.5) == 50);
  CHECK(p("lt", 2.5) == Approx(55));
  CHECK(p("lt", 3.5) == Approx(p("z", 3.5)));
}

TEST_CASE("expect tells at once, within a time, or throughout one, with the margin of what it compares") {
  const Played p(R"(scenario s {
  expect x >= 50 cm
  expect z > 2 m within 3 s
  expect z > 100 m within 1 s
  expect x < 2 m for 1 s
  expect lamp for 1 s
  hold 100 ms
  end
  expect lamp })");
  const auto& all = p.result.expected;
  REQUIRE(all.size() == 6);
  CHECK(all[0].met == 1);
  CHECK(all[0].worst == Approx(0.5));
  CHECK(all[1].met == 1);
  CHECK(to_seconds(*all[1].worst_at) == Approx(2).margin(0.03));
  CHECK(all[2].missed == 1);
  CHECK(all[2].worst == Approx(3 - 100).margin(0.05));
  CHECK(all[3].met == 1);
  CHECK(all[3].worst == Approx(1));
  CHECK(all[4].missed == 1);
  CHECK(to_seconds(*all[4].first_missed) == Approx(4).margin(0.05));
  CHECK((all[5].met == 0 && all[5].missed == 0 && !all[5].open));
  CHECK(p.result.ending == observe::Ending::completed);
}

TEST_CASE("An expectation that the run ends before is open") {
  const Played p("scenario s { end when z > 1 m\n expect z > 5 m within 10 s }");
  REQUIRE(p.result.expected.size() == 1);
  CHECK(p.result.expected[0].open);
  CHECK(p.end() == Approx(1).margin(0.03));
}

TEST_CASE("A fault by hand acts from its injection, for its time, and until it is cleared") {
  const Played p(
      "scenario s { hold 1 s\n inject held\n hold 2 s\n inject held\n hold 500 ms\n clear held\n hold 1 s }");
  CHECK(p("doubled", 0.99) == 2);
  CHECK(p("doubled", 1.5) == 3);
  CHECK(p("doubled", 2.5) == 2);  // lasting 1 s
  CHECK(p("doubled", 3.4) == 3);
  CHECK(p("doubled", 3.6) == 2);
  CHECK(p("held", 1.5) == 1);
}

TEST_CASE("Every action is an event with the line where it is written") {
  const Played p("scenario s { set x = 2 m\n  do raise(wait = 10 ms) }");
  std::vector<std::string> texts;
  for (const observe::Event& e : p.seen.events) {
    if (e.kind == observe::EventKind::action) texts.push_back(observe::event_text(*p.program, e));
  }
  REQUIRE(texts.size() == 3);
  CHECK(texts[0] == "set to 2 m (bench.dyne:20)");
  CHECK(texts[1] == "set to 3 m (bench.dyne:18)");  // in the scenario that is done
}

TEST_CASE("Mistakes in scenarios are named where they are") {
  const auto says = [](const std::string& text, const std::string& part) {
    const std::string all = said(text);
    INFO(text << "\n" << all);
    CHECK(all.find(part) != std::string::npos);
  };
  says("scenario s { do t }", "there is no scenario `t`");
  says("scenario s { do s }", "scenario `s` does itself: s -> s");
  says("scenario a { do b }\nscenario b { do a }", "a -> b -> a");
  says("scenario t(n : m) { set x = n }\nscenario s { do t }", "needs a value for `n`");
  says("scenario t(n : m) { set x = n }\nscenario s { do t(m = 3 m) }", "parameter of scenario `t` called `m`");
  says("scenario t(n : m) { set x = n }\nscenario s { do t(n = 3 s) }", "[unit-mismatch]");
  says("scenario s { load calm }", "there is no set of values `calm`");
  says("values v { twice = 3 m }", "`twice` cannot be set");
  says("scenario s { inject f }", "there is no fault `f`");
  says("fault f { on twice offset 1 m }\nscenario s { inject f }", "is not injected by hand");
  says("scenario s { schedule x { 2 s: 1 m\n 1 s: 2 m } }", "must rise from row to row");
  says("scenario s { schedule x { 1 s: 1 m, 2 m } }", "this row has 2 values");
  says("scenario s { play \"no.csv\" onto x }", "[cannot-read]");
  says("scenario s { play \"no.csv\" onto on }", "cannot be played");
  says("scenario s { release x }", "is no channel");
  says("scenario s { step on by true }", "cannot be moved by an amount");
  says("scenario s { repeat 1.5 times { hold 1 s } }", "[");
  says("scenario s { together { hold 1 s } }", "because what happens beside each other is in tracks");
  says("scenario s { hop 1 s }", "did you mean `hold`");
  says("scenario s { set x = 2 m\n start x = 3 m }", "start values come before");
}
