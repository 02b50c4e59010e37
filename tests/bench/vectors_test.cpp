// Many of a kind: arrays of controllers against controllers written out one by one, faults on whole vectors against
// faults on their elements, and elements of vectors in racks and frames.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/networks/solvers.h"
#include "isodyne/ports/make_port.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

/// Runs a bench whose controllers are parts.
bench::RunResult run_with_parts(Seen& seen, bench::RunPlan plan) {
  plan.networks = networks::solvers();
  ports::PortPlace place;
  place.networks = networks::solvers();
  const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting& s) {
    return ports::make_port(*seen.program, c, s, place);
  };
  bench::Run run(seen.program, std::move(plan), make_port, seen);
  const std::atomic<bool> stop{false};
  return run.execute(stop);
}

std::string basins(const std::string& chief, const std::string& controllers) {
  return "model Basin { input pump : bool\n  input leak : mm/s\n  output state level : m = 1 m\n"
         "  level' = (if pump then 10 mm/s else 0 mm/s) - leak }\n"
         "model Agent { param low : m = 0.9 m\n  input level : m\n  input chief_permit : bool\n  output pump : bool\n"
         "  output wish : m\n  wish = low - level\n  pump = chief_permit and wish > 0 m }\n" +
         chief +
         "bench Basins { step 10 ms\n  part basin[3] : Basin\n"
         "  for k in 1 .. 3 { basin[k].leak = k * 1 mm/s\n    basin[k].pump = pump[k] }\n"
         "  sensor level { of basin[*].level  every 100 ms }\n  actuator pump : bool[3]\n"
         "  messages radio { latency 20 ms  jitter 50 ms  loss 5 % }\n" +
         controllers + "}\nfault deaf { on agent[2].reads  loss 100 %  from 20 s }\n";
}

std::string array() {
  return basins(
      "model Chief { input agent_wish : m[3]\n  output permit : bool[3]\n"
      "  for k in 1 .. 3 { permit[k] = agent_wish[k] >= max(agent_wish) - 1 cm } }\n",
      "  controller chief { every 100 ms  reads agent[*].wish over radio  writes permit : bool[3]  setting m = part "
      "Chief }\n"
      "  controller agent[3] { every (1 + mod(index, 2)) * 100 ms  reads level[index], chief.permit[index] over radio\n"
      "    writes pump[index], wish : m\n    setting model = part Agent(low = 0.8 m + index * 5 cm)\n"
      "    setting asleep = part Agent(low = 0 m) }\n");
}

std::string one_by_one() {
  std::string agents, reads, inputs, all;
  for (int k = 1; k <= 3; ++k) {
    agents += fmt::format(
        "  controller agent{0} {{ every {1} ms  reads level[{0}], chief.permit[{0}] over radio\n"
        "    writes pump[{0}], wish : m\n    setting model = part Agent(low = {2} m) }}\n",
        k, k % 2 == 1 ? 200 : 100, 0.8 + k * 0.05);
    reads += fmt::format("{}agent{}.wish over radio", k == 1 ? "" : ", ", k);
    inputs += fmt::format("  input agent{}_wish : m\n", k);
    all += fmt::format("{}agent{}_wish", k == 1 ? "" : ", ", k);
  }
  std::string text = basins("model Chief { " + inputs + "  output permit : bool[3]\n  let all : m[3] = [" + all +
                                "]\n  for k in 1 .. 3 { permit[k] = all[k] >= max(all) - 1 cm } }\n",
                            "  controller chief { every 100 ms  reads " + reads +
                                "  writes permit : bool[3]  setting m = part Chief }\n" + agents);
  return text.replace(text.find("agent[2].reads"), 14, "agent2.reads");
}

const std::vector<std::string> kBasins{"basin[1].level", "basin[2].level", "basin[3].level", "pump[2]"};

}  // namespace

TEST_CASE("An array of controllers does what the same controllers do that are written out one by one, to the bit") {
  const bool faulty = GENERATE(false, true);
  std::vector<Seen> seen;
  for (const std::string& text : {array(), one_by_one()}) {
    seen.emplace_back(program_of(text), kBasins);
    bench::RunPlan plan;
    plan.longest = 60s;
    plan.seed = 7;
    if (faulty) plan.faults = {0};
    const auto result = run_with_parts(seen.back(), plan);
    INFO(result.explanation);
    REQUIRE(result.ending == observe::Ending::completed);
  }
  REQUIRE(seen[0].times.size() == 6001);
  CHECK(seen[0].values[2] == seen[1].values[2]);
  CHECK(seen[0].values == seen[1].values);
  // The chief lets those pump that lack most, so all of them stay near the levels that they want.
  for (std::size_t k = 0; k < 3; ++k) CHECK(seen[0].values[k].back() > (faulty ? 0.5 : 0.75));
  // A permission that no longer comes is kept as it was.
  const auto& pumped = seen[0].values[3];
  CHECK((std::count(pumped.begin() + 3000, pumped.end(), pumped[3000]) == 3001) == faulty);
}

TEST_CASE("A setting is chosen for an array of controllers, or for one of them, and the nearest choice counts") {
  const auto p = program_of(array());
  REQUIRE(p->controllers.size() == 4);
  const auto chosen = [&](const std::string& words) {
    std::string all;
    for (const program::Controller& c : p->controllers) {
      const program::Setting* const s = bench::setting_of(c, words);
      all += c.name + "=" + (s == nullptr ? "none" : s->name) + " ";
    }
    return all;
  };
  CHECK(chosen("") == "chief=m agent[1]=model agent[2]=model agent[3]=model ");
  CHECK(chosen("asleep") == "chief=m agent[1]=asleep agent[2]=asleep agent[3]=asleep ");
  CHECK(chosen("agent=asleep") == "chief=m agent[1]=asleep agent[2]=asleep agent[3]=asleep ");
  CHECK(chosen("agent[2]=asleep") == "chief=m agent[1]=model agent[2]=asleep agent[3]=model ");
  CHECK(chosen("agent=asleep,agent[3]=model") == "chief=m agent[1]=asleep agent[2]=asleep agent[3]=model ");
  Seen seen(p, kBasins);
  bench::RunPlan plan;
  plan.longest = 60s;
  plan.setting = "agent[3]=asleep";
  REQUIRE(run_with_parts(seen, plan).ending == observe::Ending::completed);
  CHECK(seen.last("basin[3].level") < 0.83);
  CHECK(seen.last("basin[1].level") > 0.83);
}

TEST_CASE("A fault on a vector is one on each element, and what is drawn is drawn for each") {
  const std::string text =
      "bench B { step 10 ms\n  sensor level { of [1 m, 2 m, 3 m]  every 10 ms }\n"
      "  actuator lamp : bool[2] { start true }\n}\n"
      "fault all { on level  offset 10 cm  from 1 s  to 2 s }\nfault late { on level[*]  delay 50 ms }\n"
      "fault loud { on level  noise 1 cm }\n"
      "fault out { on lamp  force false  from 1 s }\nfault spiky { on level  spikes 1 m every 100 ms }\n";
  const auto run = [&](const std::string& fault, const std::string& on = "level") {
    std::string changed = text;
    changed.replace(changed.find("on level  noise") + 3, 5, on);
    auto p = program_of(changed);
    Seen seen(p, {"level[1]", "level[2]", "level[3]", "lamp[1]", "lamp[2]"});
    bench::RunPlan plan;
    plan.longest = 3s;
    for (std::size_t f = 0; f < p->faults.size(); ++f) {
      if (p->faults[f].name == fault) plan.faults = {static_cast<std::int32_t>(f)};
    }
    REQUIRE(plan.faults.size() == 1);
    const auto result = run_bench(seen, plan);
    INFO(result.explanation);
    CHECK(result.ending == observe::Ending::completed);
    return seen.values;
  };
  const auto all = run("all");
  for (std::size_t k = 0; k < 3; ++k) {
    CHECK(all[k][99] == static_cast<double>(k + 1));
    CHECK(all[k][100] == static_cast<double>(k + 1) + 0.1);
    CHECK(all[k][199] == static_cast<double>(k + 1) + 0.1);
    CHECK(all[k][200] == static_cast<double>(k + 1));
  }
  const auto loud = run("loud"), first = run("loud", "level[1]");
  CHECK(loud[0] == first[0]);
  std::vector<double> d1, d2;
  for (std::size_t i = 0; i < loud[0].size(); ++i) d1.push_back(loud[0][i] - 1), d2.push_back(loud[1][i] - 2);
  double both = 0, one = 0, two = 0;
  for (std::size_t i = 0; i < d1.size(); ++i) both += d1[i] * d2[i], one += d1[i] * d1[i], two += d2[i] * d2[i];
  CHECK(std::abs(both) / std::sqrt(one * two) < 0.2);
  CHECK(std::sqrt(two / static_cast<double>(d2.size())) == Approx(0.01).epsilon(0.15));
  const auto out = run("out");
  CHECK(out[3][99] == 1);
  CHECK(out[4][99] == 1);
  CHECK(out[3][100] == 0);
  CHECK(out[4][100] == 0);
  const auto spiky = run("spiky");
  CHECK(std::count(spiky[0].begin(), spiky[0].end(), 2.0) == std::count(spiky[2].begin(), spiky[2].end(), 4.0));
  CHECK(std::find(spiky[0].begin(), spiky[0].end(), 2.0) - spiky[0].begin() !=
        std::find(spiky[1].begin(), spiky[1].end(), 3.0) - spiky[1].begin());
}

TEST_CASE("Elements of a vector lie on channels of a rack, and are what the clauses at the vector would make of them") {
  const auto text = [](bool placed) {
    return std::string(
               "module Coarse { inputs 4  as 0 V .. 10 V  limits -1 V .. 12 V  counts 0 .. 100  word 8 bit\n  outputs "
               "2 of gate  "
               "clock 5 us  latency 3 us }\n") +
           "bench B { step 50 us\n  let t : m = 1 m + 100 m/s * time\n"
           "  sensor level { of [t, 2 * t, 3 * t]  range 0 m .. 10 m  every 50 us " +
           (placed ? "" : "as 0 V .. 10 V  limits -1 V .. 12 V  counts 0 .. 100  word 8 bit ") +
           "}\n  actuator g : gate[2] { " + (placed ? "" : "clock 5 us  latency 3 us ") + "start false }\n" +
           (placed ? "  rack r { slot 1 : Coarse { channel 1 : level[2]\n    channel 2 : level[1]\n    channel 4 : "
                     "level[3] off\n"
                     "    channel 6 : g[1]\n    channel 5 : g[2] } }\n"
                   : "") +
           "  controller c { every 50 us  reads level  writes g  setting m = part Logic }\n}\n"
           "model Logic { input level : m[3]\n  output g : gate[2]\n  part pwm : Modulator(frequency = 20 kHz, "
           "dead_time "
           "= 1.3 us)\n  pwm.reference = 0.3\n  g = [pwm.upper, pwm.lower] }\n";
  };
  std::vector<Seen> seen;
  for (const bool placed : {true, false}) {
    seen.emplace_back(program_of("use library \"circuits.dyne\"\n" + text(placed)),
                      std::vector<std::string>{"level[1]", "level[2]", "level[1].counts", "g[1]", "g[2]", "level[3]"});
    bench::RunPlan plan;
    plan.longest = 20ms;
    const auto result = run_with_parts(seen.back(), plan);
    INFO(result.explanation);
    REQUIRE(result.ending == observe::Ending::completed);
  }
  for (std::size_t k = 0; k < 5; ++k) {
    INFO(k);
    CHECK(seen[0].values[k] == seen[1].values[k]);
  }
  CHECK(seen[0].values[5].back() == 0);  // it is off
  CHECK(seen[1].values[5].back() > 1);
  REQUIRE(seen[0].program->actuators.size() == 2);
  for (const program::Actuator& a : seen[0].program->actuators) {
    CHECK(a.clock == 5us);
    CHECK(a.latency == 3us);
  }
  const program::Rack& rack = seen[0].program->racks.front();
  CHECK(rack.slots.front().channels[0].name == "level[2]");
  CHECK(program::at(seen[0].program->sensors, rack.slots.front().channels[0].sensor).name == "level[2]");
}
