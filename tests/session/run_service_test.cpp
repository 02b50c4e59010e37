// Runs asked for as a campaign or a server does: in a worker that does many, one after another, from the same
// beginning.

#include <algorithm>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <set>

#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "isodyne/record/playback.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/rejudge.h"
#include "isodyne/session/repeat.h"
#include "isodyne/session/run_service.h"
#include "isodyne/session/workers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using session::RunOutcome;
using session::RunRequest;

namespace {

const char* const kNoisy =
    "bench B {\n  step 1 ms  method rk4\n"
    "  input target : m = 1 m\n  param lag : s = 20 ms from 1 ms to 1 s\n  fixed param size : m = 2 m\n"
    "  output state x : m = 0 m\n  x' = (target - x) / lag\n  let twice : m = 2 * x\n"
    "  sensor level { of x  every 1 ms  noise 1 mm }\n"
    "}\nrequirement R-1 { always x <= 1 m }\n"
    "scenario rise {\n  hold 50 ms\n  set target = 0.5 m\n  hold 50 ms\n  set target = 2 m\n  hold 50 ms\n}\n";

RunRequest request_for(const std::string& text, const std::string& folder = {}) {
  const check::Loaded loaded = load_text(text);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program != nullptr);
  RunRequest r;
  r.bench = session::bench_of(loaded, folder);
  r.evidence.in_catalogue = false;
  r.plan.scenario = loaded.program->scenarios.empty() ? program::kNone : 0;
  if (loaded.program->scenarios.empty()) r.plan.longest = std::chrono::milliseconds(100);
  return r;
}

/// Every value of some quantities at every instant, as bits that can be told apart.
struct Prints : session::RunWatcher {
  explicit Prints(const program::Program& p, std::vector<std::string> names) {
    for (const std::string& n : names) ids.push_back(p.find(n));
  }
  void image(const observe::Image& image) override {
    for (const program::VarId id : ids) {
      std::string bytes(sizeof(double), '\0');
      std::memcpy(bytes.data(), &image.variables[id], sizeof(double));
      print = fnv1a(bytes, print);
    }
    ++images;
    last = image.variables[ids.front()];
  }
  std::vector<program::VarId> ids;
  std::uint64_t print = 0;
  std::size_t images = 0;
  double last = 0;
};

std::string printed(const RunRequest& request, std::uint64_t seed) {
  RunRequest own = request;
  own.plan.seed = seed;
  Prints prints(*own.bench->program, {"x", "level"});
  const RunOutcome outcome = session::run_here(own, {&prints});
  return fmt::format("{} {:016x} {}", static_cast<int>(outcome.ending), prints.print,
                     outcome.summary ? outcome.summary->counts_text() : "no verdicts");
}

}  // namespace

TEST_CASE("A thousand runs in two workers are those that each would be by itself") {
  const RunRequest request = request_for(kNoisy);
  const auto all =
      session::in_workers(1000, 2, [&](std::size_t i) { return printed(request, static_cast<std::uint64_t>(i)); });
  std::set<std::int64_t> processes;
  std::set<std::string> different;
  for (const session::Piece& p : all) {
    REQUIRE(p.done);
    processes.insert(p.process);
    different.insert(p.said);
  }
  CHECK(processes.size() == 2);     // they are used again and again
  CHECK(different.size() == 1000);  // each seed has a noise of its own
  for (const std::size_t i : {0u, 1u, 499u, 998u, 999u}) CHECK(all[i].said == printed(request, i));
}

TEST_CASE("A worker that breaks, or stands, costs the piece that it had in hand") {
  const auto all = session::in_workers(20, 2, [](std::size_t i) -> std::string {
    if (i == 3) std::abort();
    if (i == 7) std::exit(0);
    if (i == 11) kill(getpid(), SIGKILL);
    return std::string(i == 5 ? 200'000 : 3, 'x') + std::to_string(i);  // more than fits into one message
  });
  for (std::size_t i = 0; i < all.size(); ++i) {
    INFO(i << ": " << all[i].said.substr(0, 100));
    const bool broken = i == 3 || i == 7 || i == 11;
    CHECK(all[i].done == !broken);
    if (!broken) CHECK(all[i].said == std::string(i == 5 ? 200'000 : 3, 'x') + std::to_string(i));
  }
  CHECK(has(all[3].said, kSanitized ? "" : "SIGABRT"));
  CHECK(has(all[7].said, "it called exit()"));
  CHECK(has(all[11].said, "killed from outside"));
}

TEST_CASE("A library that does not leave its process does not meet the next run") {
  const TestFolder folder;
  const std::string text =
      "bench B {\n  step 10 ms  method rk4\n  output state x : 1 = 0\n  x' = 0 1/s\n"
      "  sensor s { of x  every 10 ms }\n  actuator u : 1\n"
      "  controller c { every 10 ms  reads s  writes u  setting code = library \"counter\" }\n}\n";
  folder.write("b.dyne", text);
  // What it counts is the library's, not the controller's: a second run in the same process goes on with it.
  folder.write(
      "counter.c",
      "#include \"c.h\"\nstatic int runs;\nconst isodyne_controller_info isodyne_info = C_INFO;\nint isodyne_init(void "
      "**self, int64_t p) "
      "{ (void)self; (void)p; ++runs; return 0; }\n"
      "int isodyne_step(void *self, int64_t t, const c_reads *r, c_writes *w) "
      "{ (void)self; (void)t; (void)r; w->u = runs; return 0; }\nvoid isodyne_close(void *self) { (void)self; }\n");
  REQUIRE(run_isodyne("export header b.dyne c --out c.h", folder.path()).status == 0);
  for (const bool stays : {false, true}) {
    const Output made = shell(fmt::format("{} -shared -fPIC {} -I{}/include -o counter.so counter.c",
                                          ISODYNE_C_COMPILER, stays ? "-Wl,-z,nodelete" : "", kSource),
                              folder.path());
    INFO(made.err);
    REQUIRE(made.status == 0);
    const RunRequest request = request_for(text, folder.path() + "/");
    const auto all = session::in_workers(6, 1, [&](std::size_t) {
      Prints prints(*request.bench->program, {"u"});
      const RunOutcome outcome = session::run_here(request, {&prints});
      return fmt::format("{} {}", outcome.completed(), prints.last);
    });
    std::set<std::int64_t> processes;
    for (const session::Piece& p : all) {
      CHECK(p.said == "true 1");
      processes.insert(p.process);
    }
    CHECK(processes.size() == (stays ? 6u : 1u));
  }
}

TEST_CASE("One run at a time in a process: a second one is refused, and the next one is not") {
  const RunRequest request = request_for(kNoisy);
  struct Second : session::RunWatcher {
    explicit Second(const RunRequest& r) : request(r) {}
    void image(const observe::Image&) override {
      if (!refused) refused = session::run_here(request);
    }
    const RunRequest& request;
    std::optional<RunOutcome> refused;
  } second(request);
  CHECK(session::run_here(request, {&second}).completed());
  REQUIRE(second.refused);
  CHECK_FALSE(second.refused->summary);
  CHECK(has(second.refused->why(), "one at a time"));
  CHECK(session::run_here(request).completed());
}

TEST_CASE("A run begins with the values that were asked for, says so, and is repeated with them") {
  const TestFolder folder;
  RunRequest request = request_for(kNoisy);
  const program::Program& p = *request.bench->program;
  const auto trouble = [&](const char* name, double value) {
    bench::RunPlan plan = request.plan;
    plan.overrides = {{p.find(name), value}};
    const auto t = bench::trouble_with(p, plan);
    return t ? t->text() : std::string();
  };
  CHECK(has(trouble("twice", 1), "it is computed by the bench"));
  CHECK(has(trouble("size", 1), "it is fixed"));
  CHECK(has(trouble("lag", 2), "the parameter has limits"));
  CHECK(has(trouble("x", NAN), "no finite number"));
  CHECK(trouble("lag", 0.05).empty());

  request.plan.overrides = {{p.find("x"), 0.75}, {p.find("lag"), 0.05}};
  request.evidence.folder = *session::make_run_folder(folder / "a", "");
  const RunOutcome outcome = session::run(request);
  REQUIRE(outcome.completed());
  CHECK(outcome.summary->title() == "rise, x=0.75 m, lag=0.05 s");
  CHECK(has(to_junit(*outcome.summary), "rise, x=0.75 m, lag=0.05 s"));
  CHECK(has(outcome.summary->command, "--with \"x=0.75 m\""));
  CHECK(has(outcome.summary->command, "--with \"lag=0.05 s\""));
  auto again = session::open_recording(folder / "a");
  REQUIRE(again);
  CHECK(again->recording->signal("x")->front() == 0.75);
  // The text of the run in mind: rising from 0.75 m towards 1 m with 50 ms, at 50 ms.
  const auto x = *again->recording->signal("x");
  CHECK(x.back() < 2);
  auto repeated = session::request_of(*again, folder / "a", "");
  REQUIRE(repeated);
  repeated->evidence.folder = *session::make_run_folder(folder / "b", "");
  REQUIRE(session::run(*repeated).recorded);
  const auto is = record::Recording::open_run(folder / "b");
  REQUIRE(is);
  CHECK(session::compared(*again, **is, "").identical());
  // And without them it would be another run.
  repeated->plan.overrides.clear();
  repeated->evidence.folder = *session::make_run_folder(folder / "c", "");
  REQUIRE(session::run(*repeated).recorded);
  CHECK_FALSE(session::compared(*again, **record::Recording::open_run(folder / "c"), "").identical());
}

TEST_CASE("Parameters that nobody recorded are judged again as they were: begun with, set by hand, and moved") {
  const TestFolder folder;
  RunRequest request = request_for(kNoisy);
  const program::VarId lag = request.bench->program->find("lag");
  const check::Rules rules{"r",
                           "requirement N-1 { always lag > 30 ms }\nrequirement N-2 { always lag < 80 ms }\n"
                           "requirement N-3 { eventually lag > 80 ms }\n",
                           true};
  const auto judged = [&](const std::string& name, const std::function<void(bench::RunPlan&)>& change) {
    RunRequest own = request;
    change(own.plan);
    own.evidence.folder = *session::make_run_folder(folder / name, "");
    REQUIRE(session::run(own).completed());
    return session::open_recording(folder / name, rules);
  };
  const auto answers = [](const Result<session::OpenRecording>& opened) {
    REQUIRE(opened);
    REQUIRE(opened->loaded.program != nullptr);
    std::string all;
    for (const judge::Verdict& v : session::judged_again(*opened, observe::Ending::completed).verdicts)
      all += std::string(judge::answer_word(v.answer)) + " ";
    return all;
  };
  CHECK(answers(judged("text", [](bench::RunPlan&) {})) == "broken held broken ");
  CHECK(answers(judged("begun", [&](bench::RunPlan& p) { p.overrides = {{lag, 0.05}}; })) == "held held broken ");
  const auto at = [&](observe::CommandKind kind, double value) {
    observe::Command c;
    c.when = std::chrono::milliseconds(70);
    c.kind = kind;
    c.target = lag;
    c.value = value;
    c.over = std::chrono::milliseconds(20);
    return c;
  };
  CHECK(answers(judged("set", [&](bench::RunPlan& p) {
          p.overrides = {{lag, 0.05}};
          p.commands = {at(observe::CommandKind::set, 0.09)};
        })) == "held broken held ");
  // How it moved no event tells instant by instant: nothing is said of it.
  const auto moved = judged("moved", [&](bench::RunPlan& p) { p.commands = {at(observe::CommandKind::ramp, 0.09)}; });
  REQUIRE(moved);
  record::Playback playback(moved->loaded.program, *moved->recording, record::judged_variables(*moved->loaded.program));
  CHECK(playback.missing() == std::vector<program::VarId>{moved->loaded.program->find("lag")});
}

TEST_CASE("An outcome is the same on the other side of its process, and a malformed one is refused") {
  RunRequest request = request_for(kNoisy);
  const RunOutcome here = session::run_here(request), there = session::run(request);
  REQUIRE(here.summary);
  REQUIRE(there.summary);
  session::Summary same = *there.summary;
  same.started = here.summary->started;
  same.wall_seconds = here.summary->wall_seconds;
  CHECK(to_json(same) == to_json(*here.summary));
  CHECK(there.ending == here.ending);
  for (const char* text : {"", "{}", "[]", "{\"ending\":99}", "{\"ending\":0,\"recorded\":1}"})
    CHECK_FALSE(session::read_outcome(text));
}
