// Controllers that tell each other something over a network that is slow, shared and cut.

#include <cmath>
#include <set>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/ports/make_port.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

std::string bench_with(const std::string& clauses) {
  return fmt::format(R"(
model Teller {{
  output memory n : int = 0
  every 10 ms {{ n := n + 1 }}
}}
model Listener {{
  input teller_n : int
  output memory heard : int = 0
  every 20 ms {{ heard := teller_n }}
}}
bench B {{ step 1 ms
  input storm : bool = false
  messages radio {{
    {}
  }}
  controller teller   {{ every 10 ms  reads storm  writes n : int  setting it = part Teller }}
  controller listener {{ every 20 ms  reads teller.n over radio  writes heard : int  setting it = part Listener }}
}}
scenario storms {{
  hold 100 ms
  set storm = true
  hold 100 ms
  set storm = false
  hold 200 ms
}}
)",
                     clauses);
}

struct Heard {
  std::vector<double> n, arrived, heard;
  bench::RunResult result;
};

Heard listen(const std::string& clauses, Time span, std::uint64_t seed = 1, bool scenario = false) {
  Seen seen(program_of(bench_with(clauses)), {"teller.n", "listener.teller_n", "listener.heard"});
  bench::RunPlan plan;
  plan.longest = span;
  plan.seed = seed;
  if (scenario) plan.scenario = 0;
  const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting& s) {
    return ports::make_port(*seen.program, c, s, {});
  };
  bench::Run run(seen.program, plan, make_port, seen);
  const std::atomic<bool> stop{false};
  Heard h;
  h.result = run.execute(stop);
  CHECK(h.result.explanation.empty());
  h.n = seen.values[0];
  h.arrived = seen.values[1];
  h.heard = seen.values[2];
  return h;
}

}  // namespace

TEST_CASE("A message takes its latency, to the millisecond, and is read at the next exchange") {
  const Heard h = listen("latency 7 ms", 400ms);
  REQUIRE(h.n.size() == 401);
  for (std::size_t t = 17; t < h.n.size(); ++t) {
    INFO("at " << t << " ms");
    CHECK(h.arrived[t] == h.n[t - 7]);
  }
  // Read each 20 ms, and valid 20 ms later.
  for (std::size_t t = 60; t < h.n.size(); t += 20) CHECK(h.heard[t] == h.arrived[t - 20]);
  CHECK(h.result.messages_lost == 0);
}

TEST_CASE("Jitter stays within its bounds, exchanges messages, and comes from the seed") {
  const Heard a = listen("latency 5 ms\n    jitter 40 ms", 4s), again = listen("latency 5 ms\n    jitter 40 ms", 4s);
  CHECK(a.arrived == again.arrived);
  CHECK(listen("latency 5 ms\n    jitter 40 ms", 4s, 2).arrived != a.arrived);
  int backwards = 0, shortest = 1000, longest = 0;
  for (std::size_t t = 1; t < a.arrived.size(); ++t) {
    if (a.arrived[t] == a.arrived[t - 1]) continue;
    if (a.arrived[t] < a.arrived[t - 1]) ++backwards;
    const int sent_at = static_cast<int>(10 * a.arrived[t]);  // the n-th answer is valid after n periods
    shortest = std::min(shortest, static_cast<int>(t) - sent_at);
    longest = std::max(longest, static_cast<int>(t) - sent_at);
  }
  CHECK(backwards > 20);
  CHECK((shortest >= 5 && shortest <= 7));
  CHECK((longest >= 40 && longest <= 46));
}

TEST_CASE("The share of lost messages is the one that is asked for") {
  const Heard h = listen("loss 20 %", 60s);
  const double sent = static_cast<double>(h.result.messages_sent), lost = static_cast<double>(h.result.messages_lost);
  CHECK(sent == Approx(6000).margin(2));
  // Binomial: three standard deviations.
  CHECK(std::abs(lost / sent - 0.2) < 3 * std::sqrt(0.2 * 0.8 / sent));
  CHECK(std::set<double>(h.arrived.begin(), h.arrived.end()).size() == Approx(sent - lost + 1).margin(1));
  REQUIRE(h.result.remarks.size() == 1);
  CHECK_THAT(h.result.remarks[0], Catch::Contains("never arrived"));
}

TEST_CASE("While it is cut nothing that is sent arrives, and what is on its way does") {
  const Heard h = listen("latency 15 ms\n    cut when storm", 400ms, 1, true);
  // From 100 to 200 ms nothing is sent; the last one before is on its way until 115 ms.
  for (std::size_t t = 120; t < 210; ++t) CHECK(h.arrived[t] == h.arrived[119]);
  CHECK(h.arrived[104] < h.arrived[119]);
  CHECK(h.arrived[119] == 9);
  CHECK(h.arrived[240] > 19);
  CHECK(h.result.messages_lost == 10);
}
