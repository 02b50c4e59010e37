// The seam of ports, with a kind of our own in a few lines: a controller that answers with twice what it reads.

#include <catch2/catch.hpp>

#include "isodyne/record/recording.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/run_service.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

struct Twice : ports::ControllerPort {
  Status open(Time) override { return Done{}; }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override {
    if (now > Time{500'000'000}) return Failure{"controller `c`", "", "has had enough"};
    writes[0] = 2 * reads[0];
    return Done{};
  }
  void close() override {}
};

}  // namespace

TEST_CASE("A port of a kind that nobody knew is asked, recorded, judged and lost as any other") {
  const check::Loaded loaded = load_text(
      "bench B {\n  step 10 ms\n  let x : m = time * 1 m/s\n  sensor s { of x  every 10 ms }\n  actuator u : m\n"
      "  controller c { every 10 ms  reads s  writes u  setting code = library \"none\" }\n  record every 10 ms\n}\n"
      "requirement R-1 { always abs(u - 2 * x) <= 30 mm }\nscenario s { hold 1 s }\n");
  REQUIRE(loaded.program != nullptr);
  const TestFolder folder;
  session::RunRequest request;
  request.bench = session::bench_of(loaded, "");
  request.plan.scenario = 0;
  request.ports = [](const program::Controller&, const program::Setting&) { return std::make_unique<Twice>(); };
  request.evidence.in_catalogue = false;
  request.evidence.folder = *session::make_run_folder(folder / "r", "");
  const session::RunOutcome outcome = session::run(request);
  CHECK(outcome.ending == observe::Ending::controller_failed);
  CHECK(has(outcome.why(), "has had enough"));
  REQUIRE(outcome.summary);
  const auto recording = record::Recording::open_run(folder / "r");
  REQUIRE(recording);
  const auto u = *(*recording)->signal("u"), x = *(*recording)->signal("x");
  REQUIRE(u.size() > 40);
  for (std::size_t i = 1; i < 40; ++i) CHECK(u[i] == 2 * x[i - 1]);  // an answer is valid one period later
}
