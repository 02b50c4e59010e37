// The door into a running plant: commands from anywhere, what they do, what comes back, and what is refused.

#include <atomic>
#include <cmath>
#include <map>
#include <thread>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/bounded_queue.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;
using observe::Command;
using observe::CommandKind;
using observe::CommandOutcome;
using observe::Refusal;

namespace {

std::shared_ptr<const program::Program> plant(const std::string& more = "") {
  return program_of(R"(
table tide(t: s) -> m = [0 s: 1 m, 1 s: 3 m, 2 s: 2 m] linear
bench B { step 10 ms
  input x : m = 1 m
  param gain : 1 = 2  from 0 to 10
  fixed param size : m = 1 m
  state z : m = 0 m
  z' = x / 1 s
  let doubled : m = gain * x
  let along : m = tide(time)
}
fault held { on doubled  offset 1 m  by hand }
fault other { on doubled  offset 2 m  by hand }
)" + more);
}

/// A run of which others know the door.
struct Running {
  std::shared_ptr<const program::Program> program;
  Seen seen;
  bench::Run run;
  std::atomic<bool> stop{false};
  bench::RunResult result;

  Running(std::shared_ptr<const program::Program> p, bench::RunPlan plan,
          std::vector<std::string> watched = {"x", "gain", "z", "doubled", "held"})
      : program(std::move(p)), seen(program, std::move(watched)), run(program, std::move(plan), nullptr, seen) {}
  void go() { result = run.execute(stop); }
  program::VarId id(const std::string& name) const { return program->find(name); }
  double at(const std::string& name, double seconds) const {
    const auto n = std::find(seen.names.begin(), seen.names.end(), name) - seen.names.begin();
    return seen.values[static_cast<std::size_t>(n)][static_cast<std::size_t>(std::lround(seconds * 100))];
  }
  std::map<std::int64_t, CommandOutcome> outcomes() {
    std::map<std::int64_t, CommandOutcome> all;
    for (CommandOutcome o; run.inbox().outcome(o);) {
      CHECK_FALSE(all.contains(o.command.ticket));
      all[o.command.ticket] = o;
    }
    return all;
  }
};

bench::RunPlan lasting(std::chrono::milliseconds time) {
  bench::RunPlan plan;
  plan.longest = time;
  return plan;
}

Command command(CommandKind kind, std::int64_t ticket, Time when, program::VarId target = program::kNone,
                double value = 0) {
  Command c;
  c.ticket = ticket;
  c.kind = kind;
  c.when = when;
  c.who = observe::Giver::client;
  c.target = target;
  c.value = value;
  return c;
}

}  // namespace

TEST_CASE("What is commanded happens at its instant, comes back with it, and is an event") {
  const auto p = plant("fault late { on along  offset 1 m  once x > 100 m }");
  bench::RunPlan plan = lasting(5000ms);
  plan.faults = {0, 2};
  const program::VarId x = p->find("x"), gain = p->find("gain");
  plan.commands.push_back(command(CommandKind::set, 1, 1s, gain, 3));
  plan.commands.push_back(command(CommandKind::ramp, 2, 1s, x, 4));
  plan.commands.back().over = 2s;
  plan.commands.push_back(command(CommandKind::inject, 3, 2s));
  plan.commands.back().index = 0;
  plan.commands.push_back(command(CommandKind::clear, 4, 2500ms));
  plan.commands.back().index = 0;
  for (const auto& [kind, ticket] : {std::pair{CommandKind::disarm, 8}, std::pair{CommandKind::arm, 9}}) {
    plan.commands.push_back(command(kind, ticket, 2550ms));
    plan.commands.back().index = 2;
  }
  plan.commands.push_back(command(CommandKind::mark, 5, 2600ms));
  plan.commands.back().text = "the boat has come";
  plan.commands.push_back(command(CommandKind::play, 6, 3500ms, x));
  plan.commands.back().index = 0;
  plan.commands.back().over = 2s;
  plan.commands.push_back(command(CommandKind::release, 7, 4000ms, x));
  Running r(p, plan);
  r.go();
  CHECK(r.at("gain", 0.99) == 2);
  CHECK(r.at("gain", 1) == 3);
  CHECK(r.at("x", 1) == 1);
  CHECK(r.at("x", 2) == Approx(2.5));
  CHECK(r.at("x", 3) == 4);
  CHECK(r.at("doubled", 1.99) == Approx(3 * r.at("x", 1.99)));
  CHECK(r.at("doubled", 2) == Approx(3 * 2.5 + 1));
  CHECK(r.at("held", 2.49) == 1);
  CHECK(r.at("held", 2.5) == 0);
  CHECK(r.at("x", 3.5) == 1);  // the table begins
  CHECK(r.at("x", 3.75) == Approx(1.5));
  CHECK(r.at("x", 4.5) == r.at("x", 3.99));  // let go, it stays where it was
  const auto outcomes = r.outcomes();
  REQUIRE(outcomes.size() == 9);
  for (const auto& [ticket, o] : outcomes) {
    CHECK(o.refusal == Refusal::none);
    CHECK(o.at == o.command.when);
  }
  std::vector<std::string> texts;
  for (const observe::Event& e : r.seen.events) {
    if (e.kind == observe::EventKind::command || e.kind == observe::EventKind::change)
      texts.push_back(subject_text(*p, e) + ": " + event_text(*p, e));
  }
  CHECK(texts == std::vector<std::string>{"gain: set to 3 by a client", "x: ramp to 4 m over 2 s by a client",
                                          "held: inject by a client", "held: clear by a client",
                                          "late: disarm by a client", "late: arm by a client",
                                          "run: mark \"the boat has come\" by a client",
                                          "x: play tide over 2 s by a client", "x: release by a client"});
  // What was said of a command is enough to give it again.
  for (const observe::Event& e : r.seen.events) {
    if (e.kind != observe::EventKind::command || subject_text(*p, e) == "run") continue;
    INFO(event_text(*p, e));
    const auto again = observe::command_of(*p, e.at, subject_text(*p, e), event_text(*p, e), e.value);
    REQUIRE(again);
    const auto given = std::find_if(outcomes.begin(), outcomes.end(), [&](const auto& o) {
      return o.second.command.when == e.at && o.second.command.kind == again->kind;
    });
    REQUIRE(given != outcomes.end());
    const observe::Command& c = given->second.command;
    CHECK(again->target == c.target);
    CHECK(again->index == c.index);
    CHECK(again->over == c.over);
    CHECK(again->value == c.value);
  }
}

TEST_CASE("Values are loaded together, or none of them is, and each is a change") {
  const auto p = plant();
  const program::VarId x = p->find("x"), gain = p->find("gain");
  const observe::ValueSet good{{{x, 2.5}, {gain, 4}}}, beyond{{{x, 9}, {gain, 40}}},
      computed{{{x, 9}, {p->find("doubled"), 1}}};
  bench::RunPlan plan = lasting(4000ms);
  for (const auto& [ticket, values] : {std::pair{1, &good}, std::pair{2, &beyond}, std::pair{3, &computed}}) {
    Command c = command(CommandKind::load, ticket, std::chrono::seconds(ticket));
    c.values = values;
    c.text = "tuned.csv";
    plan.commands.push_back(c);
  }
  plan.commands.push_back(command(CommandKind::load, 4, 3500ms));  // without any
  Running r(p, plan);
  r.go();
  CHECK(r.at("x", 0.99) == 1);
  CHECK(r.at("doubled", 1) == 10);
  CHECK(r.at("x", 3.99) == 2.5);
  CHECK(r.at("gain", 3.99) == 4);
  const auto outcomes = r.outcomes();
  CHECK(outcomes.at(1).refusal == Refusal::none);
  CHECK(outcomes.at(2).refusal == Refusal::outside_limits);
  CHECK(outcomes.at(3).refusal == Refusal::not_settable);
  CHECK(outcomes.at(4).refusal == Refusal::unknown);
  std::vector<std::string> texts;
  for (const observe::Event& e : r.seen.events) {
    if (e.kind == observe::EventKind::command || e.kind == observe::EventKind::change)
      texts.push_back(subject_text(*p, e) + ": " + event_text(*p, e));
  }
  CHECK(texts == std::vector<std::string>{"x: set to 2.5 m by a client", "gain: set to 4 by a client",
                                          "run: load \"tuned.csv\" by a client"});
}

namespace {

/// Seconds at which the fault begins and ends, in turn, where these commands about it are given.
std::vector<double> acts(const std::shared_ptr<const program::Program>& p,
                         const std::vector<std::pair<CommandKind, Time>>& given,
                         std::map<std::int64_t, CommandOutcome>* outcomes = nullptr) {
  bench::RunPlan plan = lasting(5000ms);
  const auto late = static_cast<std::int32_t>(p->faults.size()) - 1;
  plan.faults = {late};
  for (const auto& [kind, when] : given) {
    plan.commands.push_back(command(kind, static_cast<std::int64_t>(plan.commands.size()), when));
    plan.commands.back().index = late;
  }
  Running r(p, plan, {"x"});
  r.go();
  std::vector<double> changes;
  for (const observe::Event& e : r.seen.events) {
    if (e.kind == observe::EventKind::fault_on || e.kind == observe::EventKind::fault_off)
      changes.push_back(to_seconds(e.at));
  }
  const auto all = r.outcomes();
  if (outcomes != nullptr) *outcomes = all;
  for (const auto& [ticket, o] : all) CHECK((outcomes != nullptr || o.refusal == Refusal::none));
  return changes;
}

}  // namespace

TEST_CASE("A trigger that is disarmed does nothing, and one that is armed again waits anew") {
  // True at 1 s and for half a second: seen then, the fault acts from the instant after it.
  const auto p = plant("fault late { on doubled  offset 5 m  once time >= 1 s and time < 1.5 s  lasting 200 ms }");
  constexpr auto arm = CommandKind::arm, disarm = CommandKind::disarm;
  using Changes = std::vector<double>;
  CHECK(acts(p, {}) == Changes{1.01, 1.21});
  CHECK(acts(p, {{disarm, 500ms}}).empty());
  CHECK(acts(p, {{disarm, 500ms}, {arm, 900ms}}) == Changes{1.01, 1.21});
  // At the very instant at which it was to begin; one later it is too late, and it goes on to its own end.
  CHECK(acts(p, {{disarm, 1010ms}}).empty());
  CHECK(acts(p, {{disarm, 1020ms}}) == Changes{1.01, 1.21});
  // What came while it was disarmed is past; what is still there counts.
  CHECK(acts(p, {{disarm, 500ms}, {arm, 1300ms}}) == Changes{1.3, 1.5});
  CHECK(acts(p, {{disarm, 500ms}, {arm, 1510ms}}).empty());
  // It has acted, and does so once more.
  CHECK(acts(p, {{arm, 1400ms}}) == Changes{1.01, 1.21, 1.4, 1.6});
  CHECK(acts(p, {{arm, 1600ms}}) == Changes{1.01, 1.21});
  std::map<std::int64_t, CommandOutcome> outcomes;
  CHECK(acts(p, {{arm, 1100ms}}, &outcomes) == Changes{1.01, 1.21});
  CHECK(outcomes.at(0).refusal == Refusal::acting);
  // Between two of its pulses it acts too.
  const auto pulses = plant(
      "fault late { on doubled  offset 5 m  once time >= 1 s and time < 1.05 s  lasting 700 ms  pulsing 100 ms every "
      "300 "
      "ms }");
  const Changes throughout{1.01, 1.11, 1.31, 1.41, 1.61, 1.71};
  CHECK(acts(pulses, {}) == throughout);
  CHECK(acts(pulses, {{disarm, 1200ms}}) == throughout);
  CHECK(acts(pulses, {{arm, 1200ms}}, &outcomes) == throughout);
  CHECK(outcomes.at(0).refusal == Refusal::acting);
  const auto by_hand = plant("fault late { on doubled  offset 5 m  by hand }");
  CHECK(acts(by_hand, {{arm, 100ms}, {disarm, 200ms}}, &outcomes).empty());
  CHECK(outcomes.at(0).refusal == Refusal::no_trigger);
  CHECK(outcomes.at(1).refusal == Refusal::no_trigger);
}

TEST_CASE("A trigger between two instants of the bench is heeded only while it is armed") {
  // The pulse is over before the bench looks again.
  const auto p = program_of(R"(
model Bell { output state angle : 1 = 0
  angle' = 1 / 1 s
  output struck : bool
  struck = angle > 1.0025 and angle < 1.0045 }
bench B { step 10 ms
  input x : m = 1 m
  let doubled : m = 2 * x
  part bell : Bell step 1 ms }
fault late { on doubled  offset 5 m  once bell.struck  lasting 200 ms }
)");
  constexpr auto arm = CommandKind::arm, disarm = CommandKind::disarm;
  using Changes = std::vector<double>;
  const Changes rung = acts(p, {});
  REQUIRE(rung.size() == 2);
  CHECK(rung[0] > 1.0045);
  CHECK(rung[0] <= 1.02);
  CHECK(acts(p, {{disarm, 500ms}}).empty());
  CHECK(acts(p, {{disarm, 1s}, {arm, 1010ms}}).empty());
  CHECK(acts(p, {{disarm, 500ms}, {arm, 1s}}) == rung);
}

TEST_CASE("By hand and by a scenario the same is done, to the bit") {
  const auto p = plant("scenario s { hold 1 s\n set gain = 3\n ramp x to 4 m over 1.7 s\n hold 1 s }");
  bench::RunPlan scenario = lasting(4000ms);
  scenario.scenario = 0;
  Running text(p, scenario);
  text.go();
  bench::RunPlan plan = lasting(4000ms);
  plan.commands.push_back(command(CommandKind::set, 1, 1s, p->find("gain"), 3));
  plan.commands.push_back(command(CommandKind::ramp, 2, 1s, p->find("x"), 4));
  plan.commands.back().over = 1700ms;
  Running hand(p, plan);
  hand.go();
  const std::size_t rows = text.seen.times.size();
  REQUIRE(rows > 300);
  for (std::size_t n = 0; n < text.seen.names.size(); ++n) {
    INFO(text.seen.names[n]);
    CHECK(std::equal(text.seen.values[n].begin(), text.seen.values[n].end(), hand.seen.values[n].begin()));
  }
}

TEST_CASE("What cannot be done is refused with its reason, and changes nothing") {
  const auto p = plant();
  bench::RunPlan plan = lasting(1000ms);
  plan.faults = {0};
  const program::VarId x = p->find("x"), gain = p->find("gain");
  const auto add = [&](CommandKind kind, program::VarId target, double value, std::int32_t index = program::kNone) {
    plan.commands.push_back(command(kind, static_cast<std::int64_t>(plan.commands.size()), 500ms, target, value));
    plan.commands.back().index = index;
  };
  add(CommandKind::set, p->find("size"), 2);
  add(CommandKind::set, p->find("z"), 2);
  add(CommandKind::set, gain, 10.5);
  add(CommandKind::set, x, std::nan(""));
  add(CommandKind::ramp, gain, -1);
  add(CommandKind::set, 1'000'000, 1);
  add(CommandKind::set, program::kTime, 1);
  add(CommandKind::inject, program::kNone, 0, 1);
  add(CommandKind::inject, program::kNone, 0, 7);
  add(CommandKind::play, x, 0, 9);
  add(CommandKind::release, x, 0);
  Running r(p, plan);
  r.go();
  const auto outcomes = r.outcomes();
  const std::vector<Refusal> expected{Refusal::not_settable, Refusal::not_settable,   Refusal::outside_limits,
                                      Refusal::not_a_number, Refusal::outside_limits, Refusal::unknown,
                                      Refusal::unknown,      Refusal::not_chosen,     Refusal::unknown,
                                      Refusal::unknown,      Refusal::not_moving};
  REQUIRE(outcomes.size() == expected.size());
  for (std::size_t i = 0; i < expected.size(); ++i) {
    INFO(i);
    CHECK(outcomes.at(static_cast<std::int64_t>(i)).refusal == expected[i]);
    CHECK(std::string(refusal_text(expected[i])).size() > 5);
  }
  CHECK(r.at("gain", 0.9) == 2);
  CHECK(r.at("x", 0.9) == 1);
  CHECK(r.seen.events.size() == 1);  // that it has ended
}

TEST_CASE("What a repeated run cannot do again is said beside its verdicts") {
  const auto p = plant();
  bench::RunPlan plan = lasting(1000ms);
  plan.commands.push_back(command(CommandKind::set, 1, 500ms, p->find("gain"), 11));
  plan.commands.back().who = observe::Giver::repeat;
  Running r(p, plan);
  r.go();
  REQUIRE(r.result.remarks.size() == 1);
  CHECK(
      r.result.remarks[0] ==
      "1 change by hand could not be made again, the first at 0.5 s, of `gain`: the parameter has limits, and this is "
      "outside of them.");
}

TEST_CASE("Many threads command one run: each command has one outcome, those of a thread in its order") {
  constexpr int kThreads = 4, kEach = 3000;
  Running r(plant(), lasting(3'600'000ms));
  const program::VarId x = r.id("x");
  std::thread runs([&] { r.go(); });
  std::vector<std::thread> givers;
  std::atomic<int> left{kThreads}, in_flight{0};
  for (int t = 0; t < kThreads; ++t) {
    givers.emplace_back([&, t] {
      for (int i = 0; i < kEach; ++i) {
        const Command c = command(CommandKind::set, t * kEach + i, {}, x, t + i);
        while (in_flight > 500) std::this_thread::yield();  // there is room for 1024 outcomes, whoever is slow
        ++in_flight;
        while (!r.run.inbox().put(c)) std::this_thread::yield();
      }
      --left;
    });
  }
  std::vector<std::int64_t> tickets;
  const auto take = [&] {
    for (CommandOutcome o; r.run.inbox().outcome(o); --in_flight) tickets.push_back(o.command.ticket);
  };
  while (left > 0) take();
  for (std::thread& t : givers) t.join();
  while (tickets.size() < kThreads * kEach) take();
  r.stop = true;
  runs.join();
  CHECK(r.run.inbox().outcomes_lost() == 0);
  std::vector<std::int64_t> last(kThreads, -1);
  for (const std::int64_t ticket : tickets) {
    auto& before = last[static_cast<std::size_t>(ticket / kEach)];
    CHECK(ticket > before);
    before = ticket;
  }
  const auto changes = std::count_if(r.seen.events.begin(), r.seen.events.end(),
                                     [](const auto& e) { return e.kind == observe::EventKind::change; });
  CHECK(changes == kThreads * kEach);
}

TEST_CASE("A full queue says so, and keeps its order") {
  BoundedQueue<int> queue(8);
  for (int round = 0; round < 3; ++round) {
    for (int i = 0; i < 8; ++i) CHECK(queue.put(i));
    CHECK_FALSE(queue.put(8));
    int got = -1;
    for (int i = 0; i < 8; ++i) {
      CHECK(queue.take(got));
      CHECK(got == i);
    }
    CHECK_FALSE(queue.take(got));
  }
}

TEST_CASE("In lockstep a run stands, makes steps, stores its state and ends when it is told to") {
  bench::RunPlan plan = lasting(10'000ms);
  plan.commands = {};
  Running r(plant(), plan);
  std::vector<std::string> saved;
  r.run.save_with([&](const char* file) {
    saved.push_back(fmt::format("{} at {}", file, to_seconds(r.run.last_image()->at)));
    return saved.size() < 2;
  });
  r.run.inbox().put(command(CommandKind::pause, 1, 1s));
  std::thread runs([&] { r.go(); });
  std::map<std::int64_t, CommandOutcome> all;
  const auto until = [&](std::int64_t ticket) {
    while (!all.contains(ticket)) {
      for (CommandOutcome o; r.run.inbox().outcome(o);) all[o.command.ticket] = o;
      std::this_thread::sleep_for(100us);
    }
    return all[ticket];
  };
  CHECK(until(1).at == 1s);
  Command step = command(CommandKind::step, 2, {});
  step.steps = 5;
  r.run.inbox().put(step);
  until(2);
  Command save = command(CommandKind::save, 3, 1050ms);
  save.text = "one";
  r.run.inbox().put(save);
  CHECK(until(3).refusal == Refusal::none);
  CHECK(until(3).at == 1050ms);  // it stands there
  save.ticket = 4;
  CHECK(r.run.inbox().put(save));
  CHECK(until(4).refusal == Refusal::failed);
  // What is set while it stands counts from the next instant on, and belongs to the state already.
  r.run.inbox().put(command(CommandKind::set, 5, {}, r.id("x"), 7));
  save.ticket = 6;
  r.run.inbox().put(save);
  until(6);
  const auto changes = r.run.changes();
  REQUIRE(changes.size() == 1);
  CHECK(changes[0].at == 1060ms);
  r.run.inbox().put(command(CommandKind::go_on, 7, {}));
  r.run.inbox().put(command(CommandKind::end, 8, 2s));
  runs.join();
  CHECK(r.result.ending == observe::Ending::interrupted);
  CHECK(r.result.ended_at == 2s);
  CHECK(saved == std::vector<std::string>{"one at 1.05", "one at 1.05", "one at 1.05"});
  CHECK(r.at("x", 1.05) == 1);
  CHECK(r.at("x", 1.06) == 7);
}

TEST_CASE("A run that keeps to the wall clock takes commands at its next instant, and does not stand") {
  bench::RunPlan plan = lasting(600ms);
  plan.pace = bench::PacePlan{};
  Running r(plant(), plan);
  std::thread runs([&] { r.go(); });
  r.run.inbox().put(command(CommandKind::pause, 1, 100ms));
  r.run.inbox().put(command(CommandKind::set, 2, 200ms, r.id("gain"), 4));
  r.run.inbox().put(command(CommandKind::end, 3, 400ms));
  runs.join();
  const auto outcomes = r.outcomes();
  REQUIRE(outcomes.size() == 3);
  CHECK(outcomes.at(1).refusal == Refusal::only_lockstep);
  CHECK(outcomes.at(2).at == 200ms);
  CHECK(r.result.ended_at == 400ms);
  CHECK(r.result.ending == observe::Ending::interrupted);
  CHECK(r.seen.last("gain") == 4);
}

TEST_CASE("What the run did not live to carry out comes back too") {
  bench::RunPlan plan = lasting(1000ms);
  Running r(plant(), plan);
  r.run.inbox().put(command(CommandKind::set, 1, 2s, r.id("x"), 5));
  r.run.inbox().put(command(CommandKind::end, 2, 3s));
  r.go();
  const auto outcomes = r.outcomes();
  REQUIRE(outcomes.size() == 2);
  for (const auto& [ticket, o] : outcomes) CHECK(o.refusal == Refusal::run_over);
  CHECK_FALSE(r.run.inbox().put(command(CommandKind::mark, 3, {})));
}

TEST_CASE("A quantity gets only what it can be, and a fault only what it is made for") {
  const auto p = program_of(R"(
choice Way { up, down }
table steep(t: s) -> 1 = [0 s: 1, 1 s: 11] linear
table over(t: s, n: 1) -> 1 = [0 s: [0: 1, 1: 2], 1 s: [0: 1, 1: 2]] linear
bench B { step 10 ms
  input lamp : bool = false
  input count : int = 0
  input way : Way = up
  param gain : 1 = 2  from 0 to 10
  let doubled : 1 = 2 * gain + steep(time) + over(time, 0)
}
fault late { on doubled  offset 1  from 10 s }
)");
  bench::RunPlan plan = lasting(1000ms);
  plan.faults = {0};
  const auto table = [&](const char* name) {
    const auto& all = p->tables;
    return static_cast<std::int32_t>(
        std::find_if(all.begin(), all.end(), [&](const auto& x) { return x.name == name; }) - all.begin());
  };
  const auto add = [&](CommandKind kind, const char* target, double value, std::int32_t index = program::kNone) {
    const auto ticket = static_cast<std::int64_t>(plan.commands.size());
    plan.commands.push_back(command(kind, ticket, 500ms, target == nullptr ? program::kNone : p->find(target), value));
    plan.commands.back().index = index;
    plan.commands.back().over = 100ms;
  };
  add(CommandKind::set, "lamp", 0.5);
  add(CommandKind::set, "count", 2.5);
  add(CommandKind::set, "way", 2);
  add(CommandKind::set, "way", -1);
  add(CommandKind::ramp, "lamp", 1);
  add(CommandKind::ramp, "count", 3);
  add(CommandKind::play, "way", 0, table("steep"));
  add(CommandKind::play, "gain", 0, table("over"));  // it has two arguments
  add(CommandKind::inject, nullptr, 0, 0);
  add(CommandKind::set, "lamp", 1);
  add(CommandKind::set, "way", 1);
  add(CommandKind::play, "gain", 0, table("steep"));  // up to 2 within its time
  add(CommandKind::play, "gain", 0, table("steep"));
  plan.commands.back().over = 950ms;  // up to 10.5
  Running r(p, plan, {"lamp", "way", "gain"});
  r.go();
  const auto outcomes = r.outcomes();
  const std::vector<Refusal> expected{
      Refusal::not_of_type, Refusal::not_of_type, Refusal::not_of_type,   Refusal::not_of_type, Refusal::not_of_type,
      Refusal::not_of_type, Refusal::not_of_type, Refusal::unknown,       Refusal::not_by_hand, Refusal::none,
      Refusal::none,        Refusal::none,        Refusal::outside_limits};
  REQUIRE(outcomes.size() == expected.size());
  for (std::size_t i = 0; i < expected.size(); ++i) {
    INFO(i);
    CHECK(outcomes.at(static_cast<std::int64_t>(i)).refusal == expected[i]);
  }
  CHECK(r.seen.last("lamp") == 1);
  CHECK(r.seen.last("way") == 1);
  CHECK(r.seen.last("gain") == 2);
}

TEST_CASE("A state is stored only where it can be reached again, and a step is one at least") {
  bench::RunPlan plan = lasting(1000ms);
  plan.commands.push_back(command(CommandKind::ramp, 1, 100ms, plant()->find("x"), 4));
  plan.commands.back().over = 100ms;
  for (const bool paced : {false, true}) {
    INFO(paced);
    if (paced) plan.commands.clear(), plan.pace = bench::PacePlan{};
    Running r(plant(), plan);
    int saved = 0;
    r.run.save_with([&](const char*) { return ++saved > 0; });
    Command save = command(CommandKind::save, 2, 500ms);
    save.text = "s.json";
    r.run.inbox().put(save);
    Command step = command(CommandKind::step, 3, 600ms);
    step.steps = 0;
    r.run.inbox().put(step);
    r.go();
    CHECK(saved == 0);
    const auto outcomes = r.outcomes();
    CHECK(outcomes.at(2).refusal == (paced ? Refusal::only_lockstep : Refusal::not_storable));
    CHECK(outcomes.at(3).refusal == (paced ? Refusal::only_lockstep : Refusal::no_steps));
  }
}
