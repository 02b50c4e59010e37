// The adaptive reference against closed forms, where it is hard: on limits, and over long spans.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/session/advice.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {
std::unique_ptr<Seen> referred(const std::string& text, const std::vector<std::string>& names, double seconds) {
  auto kept = std::make_unique<Seen>(program_of(text), names);
  Seen& seen = *kept;
  bench::RunPlan plan;
  plan.reference = true;
  plan.longest = time_from_seconds(seconds);
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  return kept;
}
}  // namespace

TEST_CASE("A state stands on its limit as long as it is pushed outwards, and then leaves it") {
  // x = 1 - t + 0.2 t^2 until it is 0; x' = -1 + 0.4 t turns inwards at 2.5 s: 0.2 (t - 2.5)^2 from there on.
  for (const char* method : {"rk4", "implicit"}) {
    const auto kept =
        referred(fmt::format("bench B {{\n  step 10 ms  method {}\n  output state x : m = 1 m  limited 0 m .. 9 m\n"
                             "  x' = -1 m/s + 0.4 m/s^2 * time\n}}\n",
                             method),
                 {"x"}, 4.5);
    const Seen& seen = *kept;
    CHECK(seen.last("x") == Approx(0.8).epsilon(1e-8));
    CHECK(seen.values[0][200] == 0);
    CHECK(seen.values[0][100] == Approx(0.2).epsilon(1e-8));
  }
}

TEST_CASE(
    "A state that begins on its limit leaves it when it is drawn away, from rest, from outside and again and again") {
  // Pushed at first; drawn away by an input that jumps; and by a sine: the half waves upwards count, from 0 each time.
  const auto kept = referred(
      "bench B {\n  step 10 ms\n  let u : m/s = if time < 0.995 s then -1 m/s else 0.5 m/s\n"
      "  output state a : m = 0 m  limited 0 m .. 9 m\n  a' = u\n"
      "  output state b : m = 0 m  limited 0 m .. 9 m\n  b' = 1 m/s * sin(2 rad/s * pi * time)\n"
      "  output state c : m = 0 m  limited 0 m .. 0.1 m\n  c' = 1 m/s * cos(2 rad/s * pi * time)\n"
      "  output state d : m = 0 m  limited 0 m .. 9 m\n  d' = -d / 1 s\n}\n",
      {"a", "b", "c", "d"}, 3);
  const Seen& seen = *kept;
  CHECK(seen.last("a") == Approx(0.5 * 2.005).margin(0.004));  // the jump lies between two instants
  CHECK(seen.values[1][50] == Approx(1 / M_PI).epsilon(1e-6));
  CHECK(seen.values[1][100] == Approx(0).margin(1e-6));
  CHECK(seen.values[1][250] == Approx(1 / M_PI).epsilon(1e-6));
  // c: up to 0.1, held there, from a quarter on down for half a period: 0.1 - (1 - cos)… to 0, and so on.
  CHECK(seen.values[2][25] == Approx(0.1).epsilon(1e-8));
  CHECK(seen.values[2][75] == 0);
  CHECK(seen.values[2][125] == Approx(0.1).epsilon(1e-8));
  CHECK(seen.last("d") == 0);
}

TEST_CASE("Over a long span the reference is nearer to the truth than rk4 at a millisecond") {
  // 300 s of an oscillator with 1 Hz: its phase is where errors add up.
  const char* text =
      "bench B {\n  step 1 ms  method rk4\n  output state x : 1 = 1\n  output state v : 1/s = 0 1/s\n"
      "  x' = v\n  v' = -39.478417604357432 1/s^2 * x\n}\n";
  const double seconds = 300.125, exact = std::cos(2 * M_PI * seconds);
  Seen fixed(program_of(text), {"x"});
  run_for(fixed, seconds);
  const auto kept = referred(text, {"x"}, seconds);
  const Seen& seen = *kept;
  const double of_rk4 = std::abs(fixed.last("x") - exact), of_reference = std::abs(seen.last("x") - exact);
  INFO("rk4 " << of_rk4 << ", reference " << of_reference);
  CHECK(of_reference < of_rk4);
}

TEST_CASE("advise looks at every instant, and between those of a longer step") {
  // A pulse of 5 ms every 100 ms into a lag of 2 ms: at every hundredth instant there is nothing to be seen.
  const auto program = program_of(
      "bench B {\n  step 1 ms  method rk4\n  let phase : s = time - 100 ms * floor(time / 100 ms + 1e-6)\n"
      "  let u : 1 = if phase > 19.5 ms and phase < 24.5 ms then 1 else 0\n  output state x : 1 = 0\n  x' = (u - x) / "
      "2 ms\n}\n");
  session::AdviceWish wish;
  auto own = std::make_shared<session::Bench>();
  own->program = program;
  own->sources = {{"b.dyne", ""}};
  wish.request.bench = own;
  wish.request.evidence.judged = false;
  wish.request.plan.longest = time_from_seconds(0.5);
  wish.signals = {program->find("x")};
  wish.tolerance = 1e-2;
  const session::Advice advice = session::advise(wish);
  REQUIRE(advice.trouble.empty());
  for (const session::Trial& t : advice.trials) {
    if (!t.trouble.empty() || t.step < std::chrono::milliseconds(5)) continue;
    INFO(program::method_word(t.method) << " at " << format_span(t.step));
    CHECK_FALSE(t.good);
    CHECK(t.worst > 0.05);
  }
}
