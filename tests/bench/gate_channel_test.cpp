// Gates from controllers: their edges through the clock and the latency of a channel against a naive line that is
// looked at tick by tick, logic in the language, libraries and programs, and what becomes of wrong answers and lost
// controllers.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/networks/solvers.h"
#include "isodyne/ports/make_port.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

/// Half bridges without losses into 1 mH: their currents are the volt-seconds.
const std::string kHulls = R"(use library "circuits.dyne"
model Hull {
  terminal earth : electric
  input gate : gate
  node plus, out : electric
  part s : VoltageSource between plus, earth
  s.voltage = 100 V
  part high : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between plus, out
  part low : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between out, earth
  part choke : Inductor(inductance = 1 mH) between out, earth
  high.gate = gate
  low.gate = not gate
}
)";

std::string bench_of(const std::string& clauses, const std::string& rest) {
  return kHulls +
         "model Logic {\n  input now : A[2]\n  output g : gate[2]\n  g = [false, now[1] > 1 A]\n}\n"
         "bench B {\n  step 50 us\n  part hull[2] : Hull at ground step 1 us\n  hull[*].gate = g\n"
         "  actuator g : gate[2] { " +
         clauses + " }\n  sensor now { of hull[*].choke.i  every 50 us }\n" + rest + "}\n";
}

const std::string kController =
    "  controller ctl {\n    every 50 us\n    reads now\n    writes g\n    setting a = part Logic()\n  }\n";

/// A controller that gives what it is told, answer by answer.
struct Script : ports::ControllerPort {
  struct Gate {
    bool on = false;
    std::vector<int> at;
  };
  std::vector<std::vector<Gate>> answers;
  std::size_t next = 0;

  Status open(Time) override { return Done{}; }
  Status exchange(Time, std::span<const double>, std::span<double> writes) override {
    const std::vector<Gate>& a = answers[std::min(next++, answers.size() - 1)];
    for (std::size_t g = 0; g < a.size(); ++g) {
      const std::size_t edges = a.size() + g * program::kEdgeNumbers;
      writes[g] = a[g].on ? 1 : 0;
      writes[edges] = static_cast<double>(a[g].at.size());
      for (std::size_t k = 0; k < a[g].at.size(); ++k) writes[edges + 1 + k] = a[g].at[k];
    }
    return Done{};
  }
  void close() override {}
};

std::vector<std::vector<Script::Gate>> random_answers(std::size_t count, std::uint64_t seed) {
  RandomStream random(seed, "answers");
  std::vector<std::vector<Script::Gate>> all(count, std::vector<Script::Gate>(2));
  for (auto& answer : all) {
    for (Script::Gate& g : answer) {
      g.on = random.uniform() < 0.5;
      const int edges = static_cast<int>(random.uniform() * 17);
      const double begin = random.uniform() < 0.3 ? 0.999 : 0;  // some all in a heap
      for (int k = 0; k < edges; ++k) {
        const double share = begin + (1 - begin) * random.uniform();
        g.at.push_back(static_cast<int>(std::lround(50'000 * share)));
      }
      std::sort(g.at.begin(), g.at.end());
    }
  }
  return all;
}

/// What was asked of a gate, nanosecond by nanosecond, looked at at the ticks of a clock, some time later. Level at
/// each nanosecond, so that volt-seconds are a sum.
std::vector<char> naive_line(const std::vector<std::vector<Script::Gate>>& answers, std::size_t gate, int clock,
                             int latency) {
  constexpr int kPeriod = 50'000;
  const int whole = kPeriod * static_cast<int>(answers.size() + 1);
  std::vector<char> raw(static_cast<std::size_t>(whole), 0), line(static_cast<std::size_t>(whole), 0);
  for (std::size_t k = 0; k < answers.size(); ++k) {
    const Script::Gate& g = answers[k][gate];
    const int base = kPeriod * static_cast<int>(k + 1);
    for (int t = 0; t < kPeriod && base + t < whole; ++t) {
      const auto passed = std::upper_bound(g.at.begin(), g.at.end(), t) - g.at.begin();
      raw[static_cast<std::size_t>(base + t)] = (passed % 2 == 0) == g.on ? 1 : 0;
    }
  }
  for (int t = latency; t < whole; ++t) {
    const int tick = (t - latency) / clock * clock;
    line[static_cast<std::size_t>(t)] = raw[static_cast<std::size_t>(tick)];
  }
  return line;
}

struct Scripted {
  std::vector<double> current[2], gate[2];
  bench::RunResult result;
  std::vector<observe::EdgeSeen> edges;
  std::vector<judge::Measured> measured;
  std::vector<judge::Verdict> verdicts;
  std::shared_ptr<const program::Program> program;
};

Scripted run_script(const std::string& clauses, const std::vector<std::vector<Script::Gate>>& answers,
                    const std::string& asked = "", const std::string& more = "") {
  Seen seen(program_of(bench_of(clauses, kController + more) + asked),
            {"hull[1].choke.i", "hull[2].choke.i", "g[1]", "g[2]"});
  bench::RunPlan plan;
  plan.networks = networks::solvers();
  plan.longest = 50us * static_cast<int>(answers.size());
  const bench::PortMaker make_port = [&](const program::Controller&, const program::Setting&) {
    auto port = std::make_unique<Script>();
    port->answers = answers;
    return port;
  };
  bench::Run run(seen.program, plan, make_port, seen);
  const std::atomic<bool> stop{false};
  Scripted s;
  s.result = run.execute(stop);
  INFO(s.result.explanation);
  CHECK(s.result.ending == observe::Ending::completed);
  for (std::size_t g : {0U, 1U}) s.current[g] = seen.values[g], s.gate[g] = seen.values[2 + g];
  s.edges = seen.edges_seen;
  s.program = seen.program;
  s.verdicts = seen.judge.verdicts(s.result.ending);
  s.measured = seen.measured;
  s.measured.insert(s.measured.end(), seen.judge.measured().begin(), seen.judge.measured().end());
  return s;
}

}  // namespace

TEST_CASE("Edges that a controller gives come at ticks of the channel's clock, after its latency, to the nanosecond") {
  struct Line {
    const char* clauses;
    int clock, latency;
  };
  for (const Line& l : {Line{"start false", 1, 0}, Line{"clock 5 ns  latency 100 ns  start false", 5, 100},
                        Line{"clock 1 us  start false", 1000, 0}, Line{"clock 40 ns  latency 70 us", 40, 70'000}}) {
    INFO(l.clauses);
    const auto answers = random_answers(30, 7);
    const Scripted s = run_script(l.clauses, answers);
    for (std::size_t g : {0U, 1U}) {
      const std::vector<char> line = naive_line(answers, g, l.clock, l.latency);
      double on = 0;
      std::size_t t = 0;
      for (std::size_t k = 0; k < s.current[g].size(); ++k) {
        INFO("gate " << g + 1 << " at " << 50 * k << " us");
        for (; t < 50'000 * k; ++t) on += line[t];
        CHECK(s.current[g][k] == Approx(100 * on * 1e-9 / 1e-3).margin(1e-9));  // A
        CHECK(s.gate[g][k] == (k * 50'000 < line.size() ? line[k * 50'000] : 0));
      }
    }
  }
}

TEST_CASE("A pulse that is too short for the clock of a gate is gone, counted and told") {
  // Two pulses between ticks, one across a tick, and edges at one instant, which are no pulse.
  const std::vector<std::vector<Script::Gate>> answers(
      3, {{false, {101, 103, 201, 204, 298, 302, 400, 400}}, {false, {}}});
  const Scripted s = run_script("clock 5 ns  start false", answers);
  REQUIRE(s.result.saturated.size() == 1);
  CHECK(s.result.saturated[0].channel == "g[1]");
  CHECK(s.result.saturated[0].samples == 2 * 3);
  CHECK(s.result.saturated[0].first == 50us);
  CHECK(run_script("start false", answers).result.saturated.empty());
}

namespace {
/// Stretches in which `is` holds, of a line looked at nanosecond by nanosecond, from a to b (b not included).
struct Stretches {
  double whole = 0, longest = 0, shortest = 1e9;
  int count = 0;
};
template <typename Is>
Stretches stretches(int a, int b, Is is) {
  Stretches s;
  double run = 0;
  bool began = false, was = is(a);
  for (int t = a; t < b; ++t) {
    const bool now = is(t);
    if (now && !was) ++s.count, began = true;
    if (!now && was && began) s.shortest = std::min(s.shortest, run);
    if (!now) run = 0;
    if (now) ++run, ++s.whole;
    s.longest = std::max(s.longest, run);
    was = now;
  }
  return s;
}
}  // namespace

TEST_CASE("Measures and requirements about gates alone are asked at each edge, to the nanosecond") {
  const auto answers = random_answers(24, 3);
  const Scripted s = run_script("clock 5 ns  latency 100 ns  start false", answers,
                                "measure on { of g[1]  duty }\nmeasure often { of g[1]  count }\n"
                                "measure pause { of not g[1] and not g[2]  shortest }\n"
                                "measure both { of g[1] and g[2]  longest }\n"
                                "measure each { of g[2]  duty  per 200 us }\n"
                                "requirement R-1 { never (g[1] and g[2]) }\n"
                                "requirement R-2 { always pause >= 1 ns }\nrequirement R-3 { always both <= 1 ns }\n",
                                "  record g every edge\n");
  const std::vector<char> one = naive_line(answers, 0, 5, 100), two = naive_line(answers, 1, 5, 100);
  const auto level = [](const std::vector<char>& line, int t) { return line[static_cast<std::size_t>(t)] != 0; };
  const int end = 50'000 * 24;
  // Every edge, once, in the order of time; those at instants of the bench are in its images.
  std::size_t next = 0;
  for (int t = 1; t < end; ++t) {
    for (const int g : {1, 2}) {
      const std::vector<char>& line = g == 1 ? one : two;
      if (level(line, t) == level(line, t - 1) || t % 50'000 == 0) continue;
      REQUIRE(next < s.edges.size());
      CHECK(s.edges[next].at == Time(t));
      CHECK(s.edges[next].gate == s.program->find(fmt::format("g[{}]", g)));
      CHECK(s.edges[next++].to == level(line, t));
    }
  }
  CHECK(next == s.edges.size());

  const auto value_of = [&](const std::string& name) {
    for (const judge::Measured& m : s.measured) {
      if (s.program->measures[static_cast<std::size_t>(m.measure)].name == name) return m.value;
    }
    return -1.0;
  };
  const Stretches on = stretches(0, end, [&](int t) { return level(one, t); });
  const Stretches pause = stretches(0, end, [&](int t) { return !level(one, t) && !level(two, t); });
  const Stretches both = stretches(0, end, [&](int t) { return level(one, t) && level(two, t); });
  CHECK(value_of("on") == Approx(on.whole / end).epsilon(1e-12));
  CHECK(value_of("often") == on.count);
  CHECK(value_of("pause") == Approx(pause.shortest * 1e-9).epsilon(1e-9));
  CHECK(value_of("both") == Approx(both.longest * 1e-9).epsilon(1e-9));
  int stretch = 0;
  for (const judge::Measured& m : s.measured) {
    if (s.program->measures[static_cast<std::size_t>(m.measure)].name != "each") continue;
    const int begin = 200'000 * stretch++, length = std::min(200'000, end - begin);
    CHECK(m.value ==
          Approx(stretches(begin, begin + length, [&](int t) { return level(two, t); }).whole / length).margin(1e-9));
  }
  CHECK(stretch >= 6);
  REQUIRE(s.verdicts.size() == 3);
  int first = 0;
  while (!(level(one, first) && level(two, first))) ++first;
  CHECK(s.verdicts[0].first_breach == Time(first));
  CHECK(first % 50'000 != 0);  // or it would show nothing
  CHECK(s.verdicts[1].answer == judge::Answer::held);
  CHECK(s.verdicts[2].answer == judge::Answer::broken);
}

TEST_CASE("The shortest of no stretch is no number, and one that was cut off does not count") {
  const std::vector<std::vector<Script::Gate>> answers(4, {{true, {}}, {false, {}}});
  const Scripted s = run_script("start false", answers, "measure short { of g[1]  shortest }\n");
  for (const judge::Measured& m : s.measured) CHECK(std::isnan(m.value));
}

TEST_CASE("The logic of a controller in the language gives the edges of its modulators one period later") {
  const std::string pwm =
      "  part pwm : Modulator(frequency = 33 kHz, dead_time = 700 ns)\n  pwm.reference = 0.4\n"
      "  pwm.enable = time >= 200 us\n";
  const auto currents = [&](const std::string& text) {
    Seen seen(program_of(text), {"hull.choke.i", "hull.gate"});
    bench::RunPlan plan;
    plan.networks = networks::solvers();
    plan.longest = 5ms;
    ports::PortPlace place;
    place.networks = networks::solvers();
    const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting& s) {
      return ports::make_port(*seen.program, c, s, place);
    };
    bench::Run run(seen.program, plan, make_port, seen);
    const std::atomic<bool> stop{false};
    const auto result = run.execute(stop);
    INFO(result.explanation);
    CHECK(result.ending == observe::Ending::completed);
    return seen.values;
  };
  const auto given = currents(kHulls + "model Logic {\n  input now : A\n  output g : gate\n" + pwm +
                              "  g = pwm.upper\n}\nbench B {\n  step 50 us\n  part hull : Hull at ground step 1 us\n"
                              "  hull.gate = g\n  actuator g : gate { latency 130 ns }\n"
                              "  sensor now { of hull.choke.i  every 50 us }\n" +
                              kController + "}\n");
  const auto direct = currents(kHulls + "bench B {\n  step 50 us\n  part hull : Hull at ground step 1 us\n" + pwm +
                               "  hull.gate = delay(pwm.upper, 50.13 us)\n}\n");
  CHECK(given == direct);
  CHECK(given[0].back() > 100);  // it did something
}

TEST_CASE("Each of an array of controllers gives the edges of its own gate, as if it were written out alone") {
  const std::string logic =
      "model Logic {\n  param aim : 1 = 0.1  from -1 to 1\n  input now : A\n  output g : gate\n"
      "  part pwm : Modulator(frequency = 33 kHz, dead_time = 700 ns)\n"
      "  pwm.reference = aim - now / 100 A\n  pwm.enable = true\n  g = pwm.upper\n}\n";
  const std::string bench =
      "bench B {\n  step 50 us\n  part hull[3] : Hull at ground step 1 us\n  hull[*].gate = g\n"
      "  actuator g : gate[3] { clock 5 ns  latency 130 ns }\n  sensor now { of hull[*].choke.i  every 50 us }\n";
  const std::string array =
      "  controller ctl[3] {\n    every 50 us * index\n    reads now[index]\n    writes g[index]\n"
      "    setting a = part Logic(aim = 0.2 * index - 0.3)\n  }\n}\n";
  std::string each;
  for (int k = 1; k <= 3; ++k)
    each += fmt::format(
        "  controller ctl{0} {{\n    every {1} us\n    reads now[{0}]\n    writes g[{0}]\n"
        "    setting a = part Logic(aim = 0.2 * {0} - 0.3)\n  }}\n",
        k, 50 * k);
  std::vector<Seen> seen;
  for (const std::string& controllers : {array, each + "}\n"}) {
    seen.emplace_back(program_of(kHulls + logic + bench + "  record g every edge\n" + controllers),
                      std::vector<std::string>{"hull[1].choke.i", "hull[2].choke.i", "hull[3].choke.i"});
    Seen& one = seen.back();
    bench::RunPlan plan;
    plan.networks = networks::solvers();
    plan.longest = 5ms;
    ports::PortPlace place;
    place.networks = networks::solvers();
    const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting& setting) {
      return ports::make_port(*one.program, c, setting, place);
    };
    bench::Run run(one.program, plan, make_port, one);
    const std::atomic<bool> stop{false};
    const auto result = run.execute(stop);
    INFO(result.explanation);
    REQUIRE(result.ending == observe::Ending::completed);
  }
  CHECK(seen[0].values == seen[1].values);
  REQUIRE(seen[0].edges_seen.size() == seen[1].edges_seen.size());
  int of_gate[3] = {};
  for (std::size_t k = 0; k < seen[0].edges_seen.size(); ++k) {
    const auto &a = seen[0].edges_seen[k], &b = seen[1].edges_seen[k];
    CHECK((a.at == b.at && a.to == b.to));
    for (int g = 0; g < 3; ++g) {
      const std::string name = fmt::format("g[{}]", g + 1);
      CHECK((a.gate == seen[0].program->find(name)) == (b.gate == seen[1].program->find(name)));
      if (a.gate == seen[0].program->find(name)) ++of_gate[g];
    }
    CHECK(a.at.count() % 5 == 0);
  }
  // 165 periods of a carrier in 5 ms, with two edges each, for all of them.
  for (const int edges : of_gate) CHECK(edges > 250);
  // They are not all the same.
  CHECK(seen[0].values[0].back() != seen[0].values[1].back());
}

TEST_CASE("A sensor at the edges of a gate has what there was at the first instant from its edge on") {
  const auto bench = [](const std::string& step, const std::string& quick) {
    return kHulls + "bench B {\n  step " + step + "\n  part hull : Hull at ground" + quick +
           "\n  part pwm : Modulator(frequency = 7.3 kHz, dead_time = 700 ns)" + quick +
           "\n  pwm.reference = 0.4\n  pwm.enable = true\n  hull.gate = pwm.upper\n"
           "  sensor i { of hull.choke.i  at pwm.valley }\n  sensor both { of [hull.choke.i, hull.s.i]  at "
           "pwm.peak "
           "}\n}\n";
  };
  const auto seen_of = [&](const std::string& text) {
    Seen seen(program_of(text), {"i", "both[1]", "both[2]", "hull.choke.i", "hull.s.i"});
    bench::RunPlan plan;
    plan.longest = 4ms;
    run_bench(seen, plan);
    return seen.values;
  };
  const auto fine = seen_of(bench("1 us", ""));
  const double period = 1e6 / 7300;  // us
  for (std::size_t t = 1; t < fine[0].size(); ++t) {
    INFO("at " << t << " us");
    // The last valley and the last peak, and the instant at or after each; the start is a sample too.
    const auto instant = [&](double phase) {
      const double k = std::floor((static_cast<double>(t) - phase) / period + 1e-9);
      return k < 0 ? std::size_t{0} : static_cast<std::size_t>(std::ceil(phase + k * period - 1e-9));
    };
    const std::size_t valley = instant(0), peak = instant(period / 2);
    if (valley <= t) CHECK(fine[0][t] == fine[3][valley]);
    if (peak <= t) CHECK(fine[1][t] == fine[3][peak]);
    if (peak <= t) CHECK(fine[2][t] == fine[4][peak]);
  }
  // The same where the bench looks at every fiftieth of its instants.
  const auto coarse = seen_of(bench("50 us", " step 1 us"));
  for (std::size_t k = 0; k < coarse[0].size(); ++k) {
    for (std::size_t s : {0U, 1U, 2U}) CHECK(coarse[s][k] == fine[s][50 * k]);
  }
}

TEST_CASE("Gates of a lost controller take what they are to take, or stay as their last edge left them") {
  struct Silent : Script {
    Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override {
      if (now >= 500us) return Failure{"controller `ctl`", "", "it is gone"};
      return Script::exchange(now, reads, writes);
    }
  };
  for (const bool safe : {true, false}) {
    INFO((safe ? "safe" : "hold"));
    std::string text = bench_of("start false  lost true", kController);
    text.replace(text.find("    reads now"), 13, "    lost " + std::string(safe ? "safe" : "hold") + "\n    reads now");
    Seen seen(program_of(text), {"g[1]", "g[2]"});
    bench::RunPlan plan;
    plan.networks = networks::solvers();
    plan.longest = 1ms;
    const bench::PortMaker make_port = [&](const program::Controller&, const program::Setting&) {
      auto port = std::make_unique<Silent>();
      port->answers.assign(1, {{true, {20'000}}, {false, {30'000}}});  // ends off, and on
      return port;
    };
    bench::Run run(seen.program, plan, make_port, seen);
    const std::atomic<bool> stop{false};
    const auto result = run.execute(stop);
    REQUIRE(result.remarks.size() == 1);
    shows(result.remarks[0], safe ? "g[1] takes true, g[2] takes true" : "g[1] holds false, g[2] holds true");
    // The last answer is that to 450 us, valid from 500 us; 550 us is where the next would have been.
    CHECK(seen.values[0][10] == 1);
    CHECK(seen.values[0].back() == (safe ? 1 : 0));
    CHECK(seen.values[1].back() == 1);
  }
}

TEST_CASE("Messages that a fault keeps away leave gates as they are") {
  std::string text =
      bench_of("start false", kController) + "fault away { on ctl.writes  loss 100 %  from 300 us lasting 200 us }\n";
  const auto loaded = load_text(text);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program);
  Seen seen(loaded.program, {"hull[1].choke.i", "g[1]"});
  bench::RunPlan plan;
  plan.networks = networks::solvers();
  plan.longest = 1ms;
  plan.faults = {0};
  const bench::PortMaker make_port = [&](const program::Controller&, const program::Setting&) {
    auto port = std::make_unique<Script>();
    port->answers.assign(1, {{true, {20'000}}, {false, {}}});
    return port;
  };
  bench::Run run(seen.program, plan, make_port, seen);
  const std::atomic<bool> stop{false};
  run.execute(stop);
  // 20 us on in each period of which an answer came: not in those from 350 us to 500 us (questions of 300 to 450 us).
  const double per_period = 100 * 20e-6 / 1e-3;
  for (std::size_t k = 1; k < seen.values[0].size(); ++k) {
    INFO("at " << 50 * k << " us");
    const double periods = static_cast<double>(k - 1) - std::clamp(static_cast<double>(k) - 7, 0.0, 4.0);
    CHECK(seen.values[0][k] == Approx(per_period * periods).margin(1e-9));
  }
}
