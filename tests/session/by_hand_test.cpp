// What was done by hand becomes a text of the language, and that gives the same run again, to the bit.

#include <random>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/record/differences.h"
#include "isodyne/session/by_hand.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/run_service.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using observe::Command;
using observe::CommandKind;

namespace {

const char* const kYard =
    "choice Mode { off, on, boost }\n"
    "table swell(t: s) -> l/s = [0 s: 1 l/s, 20 ms: 5 l/s, 50 ms: 1 l/s] linear outside repeated\n"
    "bench Yard { step 1 ms  method rk4\n  record every 1 ms\n"
    "  input inflow : l/s = 2 l/s\n  input other : l/s = 1 l/s\n  input warm : degC = 20 degC\n"
    "  input mode : Mode = off\n  input open : bool = false\n  input count : int = 1\n"
    "  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n"
    "  state level : m = 1 m\n"
    "  level' = (inflow + other) / area + (if open then 3 m/s else if mode is boost then 1 m/s else 0 m/s) * count\n"
    "  sensor seen { of level  range 0 m .. 100 m  every 2 ms  noise 1 mm }\n"
    "  state frost : s = 0 s\n  frost' = if warm < 0 degC then 1 else 0\n}\n"
    "fault stuck { on inflow  freeze  by hand }\n"
    "fault late { on seen  offset 10 cm  once level > 1.1 m }\n"
    "fault shut { on other  force 0 l/s  from 60 ms }\n"
    "scenario plain { hold 150 ms }\n"
    "scenario busy {\n  start level = 1.5 m\n"
    "  together {\n    track a { hold 31 ms\n ramp other to 3 l/s over 47 ms }\n"
    "    track b { hold 13 ms\n set mode = on\n hold 40 ms\n step count by 2 }\n  }\n"
    "  repeat 2 times {\n"
    "    either { hold 20 ms } or { set open = true\n hold 30 ms\n set open = false } or { hold 7 ms }\n  }\n"
    "  inject stuck\n  wait until level > 1.5001 m  within 1 s\n  hold 20 ms\n}\n"
    "scenario until_high { do busy\n end when level > 3 m\n hold 100 ms }\n";

/// Gives commands by chance, from a seed, after each image.
class Hand : public session::RunWatcher {
 public:
  Hand(const program::Program& program, std::uint64_t seed) : p_(program), draw_(seed) {
    for (const char* name : {"inflow", "other", "warm", "mode", "open", "count", "area"}) ids_.push_back(p_.find(name));
    set_.values = {{ids_[0], 0.0031}, {ids_[3], 2}};
  }
  void begins(bench::Run& run) override { inbox_ = &run.inbox(); }
  void image(const observe::Image&) override {
    while (chance(0.12)) inbox_->put(some());
  }

 private:
  bool chance(double share) { return std::uniform_real_distribution<>(0, 1)(draw_) < share; }
  int below(int n) { return std::uniform_int_distribution<>(0, n - 1)(draw_); }
  double value(std::size_t of) {
    const double u = std::uniform_real_distribution<>(0, 1)(draw_);
    switch (of) {
      case 2:
        return 263.15 + 20 * u;
      case 3:
        return below(3);
      case 4:
        return below(2);
      case 5:
        return below(5) - 2;
      case 6:
        return 0.4 + 1.7 * u;  // some are outside of its limits
      default:
        return (chance(0.5) ? std::round(80 * u) / 10 : 10 * u - 1) * 1e-3;
    }
  }
  Command some() {
    Command c;
    c.who = observe::Giver::client;
    static constexpr CommandKind kKinds[] = {
        CommandKind::set,   CommandKind::set,     CommandKind::set,     CommandKind::ramp, CommandKind::ramp,
        CommandKind::ramp,  CommandKind::release, CommandKind::release, CommandKind::play, CommandKind::inject,
        CommandKind::clear, CommandKind::arm,     CommandKind::disarm,  CommandKind::mark, CommandKind::load};
    c.kind = kKinds[below(15)];
    const auto of = static_cast<std::size_t>(below(7));
    c.target = ids_[of];
    c.value = value(of);
    c.over = std::chrono::microseconds(500 * (1 + below(100)));
    if (observe::about_fault(c.kind)) {
      c.index = below(3);
      c.target = program::kNone;
    }
    if (c.kind == CommandKind::play) {
      c.target = ids_[static_cast<std::size_t>(below(2))];
      c.index = 0;
    }
    if (c.kind == CommandKind::mark) c.text = "looked up, \"twice\"", c.target = program::kNone;
    if (c.kind == CommandKind::load) c.values = &set_, c.text = "some", c.target = program::kNone;
    if (!chance(0.004)) return c;
    Command end;
    end.who = observe::Giver::client;
    end.kind = CommandKind::end;
    return end;
  }

  const program::Program& p_;
  std::mt19937_64 draw_;
  std::vector<program::VarId> ids_;
  observe::ValueSet set_;
  bench::CommandInbox* inbox_ = nullptr;
};

session::RunRequest request_for(const std::shared_ptr<const program::Program>& program, const std::string& text,
                                const std::string& folder) {
  session::RunRequest request;
  auto bench = std::make_shared<session::Bench>();
  bench->program = program;
  bench->sources = {{"bench.dyne", text}};
  request.bench = bench;
  request.evidence.in_catalogue = false;
  request.evidence.folder = folder;
  return request;
}

/// A bench into which others are let.
check::Loaded load_live(const std::string& text) {
  check::Wish wish;
  wish.live = true;
  return check::load_bench(
      "", "bench.dyne", [&](const std::string&) -> Result<std::string> { return text; }, wish);
}

std::int32_t scenario_named(const program::Program& p, const std::string& name) {
  for (std::size_t i = 0; i < p.scenarios.size(); ++i) {
    if (p.scenarios[i].name == name) return static_cast<std::int32_t>(i);
  }
  return program::kNone;
}

/// A run into which the commands are given before it begins, and what becomes of it.
struct Told : session::RunWatcher {
  std::vector<Command> commands;
  void begins(bench::Run& run) override {
    for (Command& c : commands) {
      c.who = observe::Giver::client;
      REQUIRE(run.inbox().put(c));
    }
  }
};

}  // namespace

TEST_CASE("What is called like the run, and units that only a model knows, come back as they were") {
  const std::string text =
      "model Wheel {\n  unit Q = 1\n  param slope : Q/s = 1 Q/s\n"
      "  output state y : Q = 0 Q\n  y' = slope\n}\n"
      "bench Odd { step 1 ms\n  record every 1 ms\n  input run : m = 0 m\n  part wheel : Wheel(Q: bar)\n}\n";
  const check::Loaded loaded = load_live(text);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program != nullptr);
  const program::Program& p = *loaded.program;
  TestFolder folder;
  const std::string was = folder / "was";
  std::filesystem::create_directories(was);
  auto request = request_for(loaded.program, text, was);
  request.plan.longest = 20ms;
  Told told;
  Command ramp, set;
  ramp.kind = CommandKind::ramp;
  ramp.target = p.find("run");
  ramp.value = 3;
  ramp.over = 5ms;
  set.target = p.find("wheel.slope");
  set.value = 0.1 + 0.2;
  set.when = 7ms;
  told.commands = {ramp, set};
  REQUIRE(session::run_here(request, {&told}).whole);
  auto run = session::open_recording(was);
  REQUIRE(run);
  const auto made = session::scenario_of(*run, {"again", "was", false});
  REQUIRE(made);
  INFO(made->text);
  shows(made->text, "ramp run to 3 m over 5 ms");
  shows(made->text, "set wheel.slope = ");
  const auto with = session::open_recording(was, check::Rules{"again.dyne", made->text, false});
  REQUIRE(with);
  INFO(with->loaded.diagnostics.render(*with->loaded.sources, false));
  REQUIRE(with->loaded.program != nullptr);
  const auto& steps = with->loaded.program->scenarios.back().steps;
  const auto found = std::find_if(steps.begin(), steps.end(), [&](const program::ScenarioStep& s) {
    return s.target == with->loaded.program->find("wheel.slope");
  });
  REQUIRE(found != steps.end());
  engine::Evaluator value(*with->loaded.program, {found->value});
  value.evaluate(std::vector<double>(with->loaded.program->variables.size()).data());
  CHECK(value.value(0) == 0.1 + 0.2);
}

TEST_CASE("Values are those at the end, also where the scenario had the last word") {
  const std::string text =
      "bench Two { step 1 ms\n  record every 1 ms\n  input x : 1 = 0\n  input y : 1 = 0\n}\n"
      "scenario s {\n  hold 5 ms\n  set x = 2\n  hold 5 ms\n}\n";
  const check::Loaded loaded = load_live(text);
  REQUIRE(loaded.program != nullptr);
  TestFolder folder;
  const std::string was = folder / "was";
  std::filesystem::create_directories(was);
  auto request = request_for(loaded.program, text, was);
  request.plan.scenario = 0;
  Told told;
  for (const char* name : {"x", "y"}) {
    Command set;
    set.target = loaded.program->find(name);
    set.value = 0.1 + 0.2;
    told.commands.push_back(set);
  }
  REQUIRE(session::run_here(request, {&told}).whole);
  auto run = session::open_recording(was);
  REQUIRE(run);
  const auto made = session::values_of(*run, "v", "was");
  REQUIRE(made);
  shows(made->text, "  x = 2\n  y = 0.30000000000000004\n");
}

TEST_CASE("A track that is stopped is over where it is, and one that was over is told so") {
  const auto program = program_of(
      "bench Tracks { step 1 ms\n  record every 1 ms\n  input x : 1 = 0\n  input y : 1 = 0\n}\n"
      "scenario s {\n  together {\n    track main { hold 10 ms\n stop moves\n hold 10 ms\n stop moves }\n"
      "    track moves {\n together {\n track a { ramp x to 20 over 20 ms }\n track b { ramp y to 20 over 20 ms } }\n"
      " set x = 100\n }\n  }\n  step y by 1\n  hold 3 ms\n}\n");
  Seen seen(program, {"x", "y"});
  bench::RunPlan plan;
  plan.scenario = 0;
  REQUIRE(run_bench(seen, plan).ending == observe::Ending::completed);
  std::string texts;
  for (const observe::Event& e : seen.events) texts += observe::event_text(*program, e) + "\n";
  const auto &x = seen.values[0], &y = seen.values[1];
  REQUIRE(x.size() == 24);
  for (std::size_t i = 0; i < x.size(); ++i) {
    CHECK(x[i] == Approx(std::min(i, std::size_t{9})));  // at 10 ms it is stopped before it moves
    CHECK(y[i] == Approx(i < 20 ? static_cast<double>(std::min(i, std::size_t{9})) : 10));
  }
  shows(texts, "stop moves (");
  shows(texts, "stop moves, which was over (");
}

TEST_CASE("Of 200 random sessions in lockstep each becomes a scenario with the same recording") {
  const check::Loaded loaded = load_live(kYard);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program != nullptr);
  TestFolder folder;
  int alike = 0, doubtful = 0, idle = 0, moved = 0;
  for (std::uint64_t seed = 1; seed <= 200; ++seed) {
    const std::string was = folder / fmt::format("was{}", seed), is = folder / fmt::format("is{}", seed);
    for (const std::string& f : {was, is}) std::filesystem::create_directories(f);
    auto request = request_for(loaded.program, kYard, was);
    const std::int32_t scenario = static_cast<std::int32_t>(seed % 4) - 1;
    request.plan.scenario = scenario;
    request.plan.seed = seed;
    if (scenario == program::kNone) request.plan.longest = 120ms;
    request.plan.faults = seed % 3 == 0 ? std::vector<std::int32_t>{0} : std::vector<std::int32_t>{0, 1, 2};
    Hand hand(*loaded.program, seed);
    const session::RunOutcome first = session::run_here(request, {&hand});
    INFO("session " << seed << ": " << first.why());
    REQUIRE(first.whole);

    auto run = session::open_recording(was);
    REQUIRE(run);
    const auto made = session::scenario_of(*run, {"again", "was", seed % 2 == 0});
    if (!made) {
      INFO(made.failure().text());
      REQUIRE(made.failure().text().find("nothing was done by hand") != std::string::npos);
      ++idle;
      continue;
    }
    INFO(made->text);
    const auto with = session::open_recording(was, check::Rules{"again.dyne", made->text, false});
    REQUIRE(with);
    INFO(with->loaded.diagnostics.render(*with->loaded.sources, false));
    REQUIRE(with->loaded.program != nullptr);
    auto again = request_for(with->loaded.program, std::string(kYard) + made->text, is);
    again.plan = request.plan;
    again.plan.longest.reset();
    again.plan.scenario = scenario_named(*with->loaded.program, "again");
    const session::RunOutcome second = session::run_here(again);
    INFO(second.why());
    REQUIRE(second.whole);
    const auto is_now = record::Recording::open_run(is);
    REQUIRE(is_now);
    std::string unlike;
    for (const std::string& name : record::names_of_both(*run->recording, **is_now)) {
      const auto d = record::difference(*run->recording, **is_now, name, Time{}, {});
      if (d.verdict == record::SignalDifference::Verdict::equal) continue;
      unlike += fmt::format("{} from {} s, where it was {} and is {}; ", name, to_seconds(d.from.value_or(Time{})),
                            d.a_there, d.b_there);
    }
    if (unlike.empty() && !(run->recording->times() == (*is_now)->times())) unlike = "other instants";
    if (!made->doubts.empty()) {  // it says so
      ++doubtful;
      continue;
    }
    INFO(unlike);
    REQUIRE(unlike.empty());
    ++alike;
    moved += made->text.find("track ramp") != std::string::npos ? 1 : 0;
  }
  CHECK(alike > 120);
  CHECK(moved > 30);
  CHECK(idle < 20);
  CAPTURE(alike, doubtful, idle, moved);
  CHECK(alike + doubtful + idle == 200);
}
