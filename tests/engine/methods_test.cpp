// Every method: its order, its stability, and what it computes of problems whose answers are known.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/running_plant.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

struct Known {
  double t, x;
};

/// x' = -x + sin(3t), x(0) = 1, by a method and a step; the largest error on the way to 2 s against the closed form
/// 1.3 e^-t + (sin 3t - 3 cos 3t) / 10.
double smooth_error(const std::string& method, int steps_per_second) {
  const auto program = program_of(fmt::format(
      "bench B {{ step {} us  method {}\n  output state x : 1 = 1\n  x' = (-x + sin(3 * time / 1 s)) / 1 s\n}}",
      1'000'000 / steps_per_second, method));
  Seen seen(program, {"x"});
  run_for(seen, 2);
  double worst = 0;
  for (std::size_t i = 0; i < seen.times.size(); ++i) {
    const double t = to_seconds(seen.times[i]);
    const double exact = 1.3 * std::exp(-t) + (std::sin(3 * t) - 3 * std::cos(3 * t)) / 10;
    worst = std::max(worst, std::abs(seen.values[0][i] - exact));
  }
  return worst;
}

/// One step of x' = z x from x = 1 with h = 1 s: the method's stability function at z.
double amplification(const std::string& method, double z) {
  const auto program = program_of(
      fmt::format("bench B {{ step 1 s  method {}\n  output state x : 1 = 1\n  x' = {} * x / 1 s\n}}", method, z));
  Seen seen(program, {"x"});
  run_for(seen, 1);
  return seen.values[0].back();
}

double final_value(const std::string& text, const std::string& name, double seconds) {
  Seen seen(program_of(text), {name});
  const bench::RunResult result = run_for(seen, seconds);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  return seen.last(name);
}

}  // namespace

TEST_CASE("Every method has its order on a smooth problem, with a time-dependent right-hand side") {
  for (const auto& [method, order] : {std::pair{"euler", 1.0}, {"heun", 2.0}, {"rk4", 4.0}, {"implicit", 3.0}}) {
    INFO(method);
    const double coarse = smooth_error(method, 40), middle = smooth_error(method, 80), fine = smooth_error(method, 160);
    CHECK(std::log2(coarse / middle) == Approx(order).margin(0.2));
    CHECK(std::log2(middle / fine) == Approx(order).margin(0.2));
  }
}

TEST_CASE("One step multiplies as the stability function of the method says") {
  for (const double z : {-0.3, -1.0, -2.0}) {
    CHECK(amplification("euler", z) == Approx(1 + z).margin(1e-14));
    CHECK(amplification("heun", z) == Approx(1 + z + z * z / 2).margin(1e-14));
    CHECK(amplification("rk4", z) == Approx(1 + z + z * z / 2 + z * z * z / 6 + z * z * z * z / 24).margin(1e-14));
    CHECK(amplification("exact", z) == Approx(std::exp(z)).margin(1e-15));
    // RODAS3: (1 - z/2)^4 below, and above what makes it e^z up to z^3 and 0 at infinity.
    CHECK(amplification("implicit", z) == Approx((1 - z + z * z * z / 6) / std::pow(1 - z / 2, 4)).margin(1e-12));
  }
}

TEST_CASE("The implicit method is L-stable: what is infinitely stiff is gone after one step") {
  for (const double z : {-10.0, -1e3, -1e6, -1e9}) CHECK(std::abs(amplification("implicit", z)) < 1);
  CHECK(std::abs(amplification("implicit", -1e6)) < 1e-5);
  CHECK(std::abs(amplification("implicit", -1e9)) < 1e-8);
}

TEST_CASE("The exact method steps a linear system with a ramp without an error, whatever the step") {
  // x'' + 0.4 x' + 4 x = t: particular solution t/4 - 0.025; the rest a damped oscillation.
  const std::string text =
      "bench B { step 500 ms  method exact\n  output state x : 1 = 0\n  state v : 1 = 0\n  x' = v / 1 s\n"
      "  v' = (time / 1 s - 0.4 * v - 4 * x) / 1 s\n}";
  const double t = 10, w = std::sqrt(4 - 0.04);
  const double c = 0.025, d = (-0.25 + 0.2 * c) / w;
  const double exact = t / 4 - 0.025 + std::exp(-0.2 * t) * (c * std::cos(w * t) + d * std::sin(w * t));
  CHECK(final_value(text, "x", t) == Approx(exact).epsilon(1e-12));
}

TEST_CASE("A linear oscillator keeps its phase over 1,000 periods as far as the order promises") {
  // Period 1 s, 200 steps each: the phase error of RK4 is (w h)^4 / 120 of the phase.
  const std::string text =
      "bench B { step 5 ms  method rk4\n  output state x : 1 = 1\n  state v : 1 = 0\n  x' = v / 1 s\n"
      "  v' = -39.47841760435743 * x / 1 s\n}";
  const double wh = 2 * M_PI * 0.005, phase = 2 * M_PI * 1000, lag = phase * std::pow(wh, 4) / 120;
  const double decay = std::exp(-1000 * 200 * std::pow(wh, 6) / 144);  // of the amplitude, in every step
  CHECK(final_value(text, "x", 1000) == Approx(decay * std::cos(lag)).epsilon(1e-6));
}

TEST_CASE("A pendulum has the period of the complete elliptic integral, and keeps its energy") {
  // From rest at 90 degrees: T = 4 sqrt(l/g) K(sin 45 deg), K = 1.854074677301372 (Abramowitz and Stegun, 17.3).
  const double length = 1, g = 9.81, period = 4 * std::sqrt(length / g) * 1.854074677301372;
  const auto step_us = static_cast<int>(std::lround(period * 1e6 / 4000));
  const double real_length = g * std::pow(step_us * 4000e-6 / 4 / 1.854074677301372, 2);
  const auto program = program_of(
      fmt::format("bench B {{ step {} us  method rk4\n  param l : 1 = {:.17g}\n  output state a : 1 = {:.17g}\n  "
                  "output state w : 1 = 0\n"
                  "  a' = w / 1 s\n  w' = -9.81 / l * sin(a) / 1 s\n  let e = 0.5 * w * w - 9.81 / l * cos(a)\n}}",
                  step_us, real_length, M_PI / 2));
  Seen seen(program, {"a", "w", "e"});
  run_for(seen, step_us * 4000e-6);
  CHECK(seen.values[0].back() == Approx(M_PI / 2).epsilon(1e-9));
  CHECK(seen.values[1].back() == Approx(0).margin(1e-8));
  for (const double e : seen.values[2]) REQUIRE(std::abs(e) < 1e-9);
}

TEST_CASE("RLC circuits answer a step as their three closed forms say") {
  // 1 V on R, L = 1 H, C = 1 F: damping R/2.
  for (const double r : {0.4, 2.0, 5.0}) {
    INFO("R = " << r);
    const double a = r / 2, t = 3;
    double expected = 0;
    if (a < 1) {
      const double w = std::sqrt(1 - a * a);
      expected = 1 - std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t));
    } else if (a == 1) {
      expected = 1 - std::exp(-t) * (1 + t);
    } else {
      const double s1 = -a + std::sqrt(a * a - 1), s2 = -a - std::sqrt(a * a - 1);
      expected = 1 + (s2 * std::exp(s1 * t) - s1 * std::exp(s2 * t)) / (s1 - s2);
    }
    for (const char* method : {"rk4", "implicit", "exact"}) {
      const std::string text = fmt::format(
          "bench B {{ step 10 ms  method {}\n  output state u : V = 0 V\n  state i : A = 0 A\n  u' = i / 1 F\n"
          "  i' = (1 V - {} ohm * i - u) / 1 H\n}}",
          method, r);
      CHECK(final_value(text, "u", t) == Approx(expected).epsilon(std::string(method) == "exact" ? 1e-12 : 2e-6));
    }
  }
}

TEST_CASE("A thermal chain of two bodies cools along its two exponentials") {
  // C1 T1' = -(T1 - T2)/R12, C2 T2' = (T1 - T2)/R12 - T2/R2, temperatures above the surroundings, T1 = 80 K at first:
  // T1 = 80 (A e^(s1 t) + (1 - A) e^(s2 t)), s the roots of s^2 + (a + b + c) s + a c with a = 1/(C1 R12),
  // b = 1/(C2 R12), c = 1/(C2 R2), and A from T1'(0) = -a T1(0).
  const double a = 1 / (900 * 0.2), b = 1 / (300 * 0.2), c = 1 / (300 * 0.5), t = 120;
  const double half = (a + b + c) / 2, root = std::sqrt(half * half - a * c), s1 = -half + root, s2 = -half - root;
  const double share = (-a - s2) / (s1 - s2);
  const double expected = 80 * (share * std::exp(s1 * t) + (1 - share) * std::exp(s2 * t));
  for (const auto& [method, step, close] : {std::tuple{"rk4", "100 ms", 1e-10}, std::tuple{"heun", "100 ms", 1e-6},
                                            std::tuple{"implicit", "1 s", 1e-5}, std::tuple{"exact", "120 s", 1e-12}}) {
    INFO(method);
    const std::string text = fmt::format(
        "bench B {{ step {}  method {}\n  output state first : K = 80 K\n  state second : K = 0 K\n"
        "  let flow = (first - second) / 0.2 K/W\n  first' = -flow / 900 J/K\n"
        "  second' = (flow - second / 0.5 K/W) / 300 J/K\n}}",
        step, method);
    CHECK(final_value(text, "first", t) == Approx(expected).epsilon(close));
  }
}

TEST_CASE("An undamped swing loses energy only as fast as the order of its method allows") {
  // RK4 on x'' = -w^2 x: the amplitude is multiplied by 1 - (w h)^6/144 + ... in every step; halving the step makes
  // the loss over a given time 32 times smaller (order 5 of the energy). Heun gains: (w h)^4/8, 8 times smaller.
  const auto loss = [](const char* method, int step_ms) {
    const auto program = program_of(
        fmt::format("bench B {{ step {} ms  method {}\n  output state x : 1 = 1\n  state v : 1 = 0\n  x' = v / 1 s\n"
                    "  v' = -x / 1 s\n  let e = 0.5 * (x * x + v * v)\n}}",
                    step_ms, method));
    Seen seen(program, {"e"});
    run_for(seen, 100);
    return std::abs(seen.values[0].back() - 0.5);
  };
  CHECK(std::log2(loss("rk4", 100) / loss("rk4", 50)) == Approx(5).margin(0.1));
  CHECK(std::log2(loss("heun", 20) / loss("heun", 10)) == Approx(3).margin(0.1));
}

TEST_CASE("A tank drains as Torricelli says") {
  // sqrt(h) falls linearly: sqrt(h) = sqrt(h0) - a/A sqrt(g/2) t.
  const std::string text =
      "bench B { step 100 ms  method rk4\n  output state h : m = 2 m  limited 0 m .. 3 m\n"
      "  h' = -0.01 * sqrt(2 * 9.81 m/s^2 * h)\n}";
  const double root = std::sqrt(2.0) - 0.01 * std::sqrt(9.81 / 2) * 30;
  CHECK(final_value(text, "h", 30) == Approx(root * root).epsilon(1e-9));
}

namespace {
/// Robertson's kinetics, in units of 1.
std::string robertson(const char* step, const char* method) {
  return fmt::format(
      "bench B {{ step {}  method {}\n  output state a : 1 = 1\n  output state b : 1 = 0\n  output state c : 1 = 0\n"
      "  let slow = 0.04 * a\n  let quick = 10000 * b * c\n  let pair = 30000000 * b * b\n"
      "  a' = (quick - slow) / 1 s\n  b' = (slow - quick - pair) / 1 s\n  c' = pair / 1 s\n}}",
      step, method);
}
}  // namespace

TEST_CASE("Robertson's kinetics by the implicit method and by the reference, against the published values") {
  // t = 40 s: Hairer, Wanner, "Solving Ordinary Differential Equations II", and CVODE's example cvRoberts_dns.
  const double a = 7.158e-01, b = 9.185e-06, c = 2.842e-01;
  for (const bool reference : {false, true}) {
    INFO((reference ? "reference" : "implicit"));
    Seen seen(program_of(robertson("1 ms", "implicit")), {"a", "b", "c"});
    bench::RunPlan plan;
    plan.longest = Time(40'000'000'000);
    plan.reference = reference;
    REQUIRE(run_bench(seen, plan).ending == observe::Ending::completed);
    CHECK(seen.last("a") == Approx(a).epsilon(2e-4));
    CHECK(seen.last("b") == Approx(b).epsilon(2e-4));
    CHECK(seen.last("c") == Approx(c).epsilon(2e-4));
    CHECK(seen.last("a") + seen.last("b") + seen.last("c") == Approx(1).epsilon(1e-9));
  }
  Seen explicit_one(program_of(robertson("10 ms", "rk4")), {"a"});
  CHECK(run_for(explicit_one, 40).ending == observe::Ending::diverged);
}

TEST_CASE("Van der Pol's oscillator at mu = 1000: the implicit method follows the reference over the slow part") {
  const auto text = [](const char* method) {
    return fmt::format(
        "bench B {{ step 20 ms  method {}\n  output state x : 1 = 2\n  output state v : 1 = 0\n  x' = v / 1 s\n"
        "  v' = (1000 * (1 - x * x) * v - x) / 1 s\n}}",
        method);
  };
  const auto program = program_of(text("implicit"));
  double x[2];
  for (const bool reference : {false, true}) {
    Seen seen(program, {"x"});
    bench::RunPlan plan;
    plan.longest = Time(600'000'000'000);
    plan.reference = reference;
    REQUIRE(run_bench(seen, plan).ending == observe::Ending::completed);
    x[reference ? 1 : 0] = seen.last("x");
  }
  CHECK(x[0] == Approx(x[1]).epsilon(1e-6));
  // On the slow branch v = x / (mu (1 - x^2)): ln x - x^2/2 = t/mu + ln 2 - 2, to an order of 1/mu^2.
  CHECK(std::log(x[1]) - x[1] * x[1] / 2 == Approx(0.6 + std::log(2.0) - 2).epsilon(1e-4));
}

TEST_CASE("The reference finds the bounces of a ball where they are") {
  // Dropped from 1 m, half of the speed kept: t1 = sqrt(2/g), then each flight takes half the time of the one before.
  const auto program = program_of(
      "bench B { step 100 ms\n  output state y : 1 = 1\n  output state v : 1 = 0\n  output memory bounces : 1 = 0\n"
      "  memory at : 1 = 0\n  y' = v / 1 s\n  v' = -9.81 / 1 s\n"
      "  when y < 0 and v < 0 { v := -0.5 * v  \n  bounces := bounces + 1\n  at := time / 1 s }\n}");
  Seen seen(program, {"bounces", "at"});
  bench::RunPlan plan;
  plan.longest = Time(1'200'000'000);
  plan.reference = true;
  const bench::RunResult result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  const double first = std::sqrt(2 / 9.81);
  REQUIRE(seen.last("bounces") == 3);
  CHECK(seen.last("at") == Approx(first * (1 + 1 + 0.5)).epsilon(1e-7));
  for (std::size_t i = 1; i < seen.values[0].size(); ++i) {
    if (seen.values[0][i] == 1 && seen.values[0][i - 1] == 0) CHECK(seen.values[1][i] == Approx(first).epsilon(1e-8));
  }
}

TEST_CASE("A reference that cannot go on names the state that runs away, and stays at the last good instant") {
  // x = 1 / (1 - t): infinite at 1 s.
  const auto program = program_of(
      "bench B { step 10 ms\n  output state calm : 1 = 1\n  output state x : 1 = 1\n  calm' = -calm / 1 s\n"
      "  x' = x * x / 1 s\n}");
  Seen seen(program, {"calm", "x"});
  bench::RunPlan plan;
  plan.longest = Time(5'000'000'000);
  plan.reference = true;
  const bench::RunResult result = run_bench(seen, plan);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation.find("`x`") != std::string::npos);
  CHECK(result.ended_at == Time(990'000'000));
  CHECK(seen.last("x") == Approx(100).epsilon(1e-5));  // an early error grows with x^2, ten-thousandfold by now
  CHECK(seen.last("calm") == Approx(std::exp(-0.99)).epsilon(1e-8));
}

TEST_CASE("Parts with steps of their own: held values, sub-steps, and delays at the border as stated") {
  // A quick first-order part beside the bench: its input is held for a step of the bench, so its answer is that of a
  // zero-order hold, exactly: y[k+1] = e^-a y[k] + (1 - e^-a) u[k] with a = 1 ms / 2 ms.
  const auto program = program_of(R"(
model Source { output state u : 1 = 1
  u' = -u / 10 ms
}
model Lag { input u : 1
  output state y : 1 = 0
  y' = (u - y) / 2 ms
}
bench B { step 1 ms  method rk4
  part source : Source
  part lag : Lag  step 10 us
  lag.u = source.u
})");
  Seen seen(program, {"source.u", "lag.y"});
  run_for(seen, 0.02);
  double y = 0;
  for (std::size_t k = 0; k + 1 < seen.times.size(); ++k) {
    y = std::exp(-0.5) * y + (1 - std::exp(-0.5)) * seen.values[0][k];
    REQUIRE(seen.values[1][k + 1] == Approx(y).epsilon(1e-9));
  }
}

TEST_CASE("A part slower than the bench moves at its own instants only") {
  const auto program = program_of(R"(
model Slow { output state x : 1 = 0
  output twice : 1
  x' = 1 / 1 s
  twice = 2 * x
}
bench B { step 1 ms
  part slow : Slow  step 5 ms
})");
  Seen seen(program, {"slow.x", "slow.twice"});
  run_for(seen, 0.02);
  for (std::size_t k = 0; k < seen.times.size(); ++k) {
    const double own = std::floor(static_cast<double>(k) / 5) * 0.005;
    REQUIRE(seen.values[0][k] == Approx(own).margin(1e-15));
    REQUIRE(seen.values[1][k] == Approx(2 * own).margin(1e-15));
  }
}

TEST_CASE("State machines and sampled parts of a quick part run at its own step") {
  const auto program = program_of(R"(
model Quick { output state x : 1 = 0
  output memory ticks : 1 = 0
  modes way from up { up -> down when x >= 0.00995
    down -> up when x <= 0 }
  x' = (if way is up then 1 else -1) / 1 s * 10
  every 200 us { ticks := ticks + 1 }
}
bench B { step 10 ms
  part quick : Quick  step 100 us
})");
  Seen seen(program, {"quick.ticks"});
  run_for(seen, 0.02);
  CHECK(seen.values[0] == std::vector<double>{1, 51, 101});
  int changes = 0;
  for (const observe::Event& e : seen.events) {
    if (e.kind != observe::EventKind::mode) continue;
    CHECK(e.at.count() % 100'000 == 0);
    ++changes;
  }
  CHECK(changes >= 18);  // 1 ms up, 1 ms down, over 20 ms
}

TEST_CASE("What a group cannot do is said where it is written") {
  const char* head = "model M { output state x : 1 = 1\n  x' = -x * x / 1 s\n}\n";
  CHECK(diagnostics_of(std::string(head) + "bench B { step 1 ms\n  part m : M  method exact\n}").find("not") !=
        std::string::npos);
  CHECK(diagnostics_of(std::string(head) + "bench B { step 1 ms\n  part m : M  method exact\n}")
            .find("linear in the states") != std::string::npos);
  CHECK(diagnostics_of(std::string(head) + "bench B { step 1 ms\n  part m : M  step 300 us\n}").find("whole ratio") !=
        std::string::npos);
  CHECK(diagnostics_of(std::string(head) + "bench B { step 1 ms\n  part m : M  step 0 s\n}").find("at least 1 ns") !=
        std::string::npos);
}

TEST_CASE("An implicit step that meets a slope without a value says which") {
  Seen seen(program_of("bench B { step 10 ms  method implicit\n  output state h : m = 0 m\n"
                       "  h' = 0.1 m/s - 0.01 * sqrt(9.81 m/s^2 * h)\n}"),
            {"h"});
  bench::RunPlan plan;
  plan.longest = time_from_seconds(1);
  const bench::RunResult result = run_bench(seen, plan);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation.find("how `h'` depends on `h` is not a finite number there (bench.dyne:3:3)") !=
        std::string::npos);
}
