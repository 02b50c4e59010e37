// What jumps: events, nested machines, delays, implicit equations; against closed forms.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/program/derivative.h"
#include "isodyne/program/tables.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("A bouncing ball bounces where the closed form says") {
  // From 1 m: falls for sqrt(2 h / g), then each flight takes 0.8 of the one before. Events are found at the
  // first instant after the crossing, so the error is about one step a bounce.
  const auto program = program_of(R"(
model Ball {
  output state h : m = 1 m
  state v : m/s = 0 m/s
  output memory bounces : int = 0
  output memory last : s = 0 s
  h' = v
  v' = -9.81 m/s^2
  when h <= 0 m and v < 0 {
    v := -0.8 * v
    h := 0 m
    bounces := bounces + 1
    last := time
  }
}
bench B { step 100 us
  part ball : Ball
})");
  Seen seen(program, {"ball.bounces", "ball.last", "ball.h"});
  run_for(seen, 2.3);
  const double fall = std::sqrt(2 / 9.81);
  CHECK(seen.last("ball.bounces") == 4);
  CHECK(seen.last("ball.last") == Approx(fall * (1 + 2 * (0.8 + 0.64 + 0.512))).margin(0.002));
  CHECK(*std::min_element(seen.values[2].begin(), seen.values[2].end()) >= 0);
}

TEST_CASE("`when` fires once when its condition becomes true, in the order of the text") {
  const auto program = program_of(R"(
model M {
  output memory trace : int = 0
  output memory once : int = 0
  when time >= 10 ms {
    trace := 10 * trace + 1
    once := once + 1
  }
  when time >= 10 ms { trace := 10 * trace + 2 }
  when trace > 10 { trace := 10 * trace + 3 }
}
bench B { step 10 ms
  part m : M
})");
  Seen seen(program, {"m.trace", "m.once"});
  run_for(seen, 0.1);
  CHECK(seen.values[0][0] == 0);
  CHECK(seen.values[0][1] == 123);  // the third sees what the first two did, in the same instant
  CHECK(seen.last("m.trace") == 123);
  CHECK(seen.last("m.once") == 1);
}

TEST_CASE("Events that set each other off without end stop the run and are named") {
  const auto program = program_of(R"(
model M {
  memory a : bool = false
  when a { a := false }
  when not a { a := true }
}
bench B { step 10 ms
  part m : M
})");
  Seen seen(program);
  const auto result = run_for(seen, 1);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation == "at 0 s these `when` blocks set each other off without end");
  REQUIRE(result.details.size() == 2);  // the whole way round
  CHECK(result.details[0] == "bench.dyne:4:3: when a");
  CHECK(result.details[1] == "bench.dyne:5:3: when not a");
}

TEST_CASE("Blocks branch and repeat") {
  const auto program = program_of(R"(
model M {
  memory ring : int[4] = [1, 2, 3, 4]
  output memory total : int = 0
  output memory kind : int = 0
  every 10 ms {
    total := 0
    for i in 1 .. 4 { total := total + i * ring[i] }
    if total > 25 {
      ring[1] := 0
      kind := if ring[1] is 0 then 7 else 8     # sees the line above
    } else if total > 20 {
      kind := 2
    } else {
      kind := 3
    }
    for i in 1 .. 3 { ring[i] := ring[i + 1] }
    ring[4] := 0
  }
}
bench B { step 10 ms
  part m : M
})");
  Seen seen(program, {"m.total", "m.kind", "m.ring[1]"});
  run_for(seen, 0.03);
  CHECK(seen.values[0][0] == 30);  // 1 + 4 + 9 + 16
  CHECK(seen.values[1][0] == 7);
  CHECK(seen.values[2][0] == 2);
  CHECK(seen.values[0][1] == 20);  // 2 + 6 + 12
  CHECK(seen.values[1][1] == 3);
}

TEST_CASE("Sampled parts may have an offset") {
  const auto program = program_of(R"(
model M { output memory n : int = 0
  every 50 ms offset 20 ms { n := n + 1 }
}
bench B { step 10 ms
  part m : M
})");
  Seen seen(program, {"m.n"});
  run_for(seen, 0.2);
  CHECK(seen.values[0][1] == 0);
  CHECK(seen.values[0][2] == 1);
  CHECK(seen.values[0][6] == 1);
  CHECK(seen.values[0][7] == 2);
}

TEST_CASE("A machine inside a mode starts with it, ends with it, and acts in order") {
  const auto program = program_of(R"(
model M {
  output memory trace : int = 0
  modes outer from idle {
    idle -> busy after 20 ms
    busy -> idle after 50 ms
    idle { entry { trace := 10 * trace + 1 } }
    busy {
      entry { trace := 10 * trace + 2 }
      exit  { trace := 10 * trace + 3 }
      modes inner from slow {
        slow -> fast after 30 ms
        slow { exit { trace := 10 * trace + 4 } }
        fast {
          entry { trace := 10 * trace + 5 }
          exit  { trace := 10 * trace + 6 }
        }
      }
    }
  }
}
bench B { step 10 ms
  part m : M
  let asleep : bool = m.inner is inactive
})");
  Seen seen(program, {"m.trace", "asleep", "m.inner"});
  run_for(seen, 0.08);
  CHECK(seen.values[0][0] == 1);
  CHECK(seen.values[1][0] == 1);
  CHECK(seen.values[0][2] == 12);
  CHECK(seen.values[1][2] == 0);
  CHECK(seen.values[0][5] == 1245);
  CHECK(seen.values[0][7] == 1245631);  // the inner machine leaves before the outer one
  CHECK(seen.values[1][7] == 1);
}

TEST_CASE("A delay gives the past, interpolated, and breaks a loop") {
  const auto program = program_of(R"(
model M {
  input lag : s
  output state x : 1 = 1
  output past, moving, echo : 1
  output was : bool
  x' = -delay(x, 1 s) / 1 s
  past = delay(time / 1 s, 25 ms)
  moving = delay(time / 1 s, lag, 1 s)
  was = delay(time >= 100 ms, 35 ms)
  echo = 1 + 0.5 * delay(echo, 10 ms)
}
bench B { step 10 ms
  part m : M
  m.lag = 100 ms + 0.1 * time
})");
  Seen seen(program, {"m.x", "m.past", "m.moving", "m.was", "m.echo"});
  run_for(seen, 2);
  // x' = -x(t-1) with x = 1 before: 1 - t on [0, 1], then 1 - t + (t-1)^2 / 2 on [1, 2] (method of steps).
  CHECK(seen.values[0][50] == Approx(0.5).epsilon(1e-9));
  CHECK(seen.values[0][150] == Approx(1 - 1.5 + 0.125).epsilon(1e-6));
  CHECK(seen.values[1][2] == 0);
  CHECK(seen.values[1][10] == Approx(0.075).epsilon(1e-9));
  CHECK(seen.values[2][100] == Approx(0.8).epsilon(1e-9));
  CHECK(seen.values[3][13] == 0);
  CHECK(seen.values[3][14] == 1);
  CHECK(seen.last("m.echo") == Approx(2));
}

TEST_CASE("An implicit equation is solved through the equations that stand between") {
  // Two orifices in series: the pressure between them follows from equal flows. p = (p1 a^2 + p2 b^2) / (a^2 + b^2).
  const auto program = program_of(R"(
bench B { step 10 ms
  param a : 1 = 3
  param b : 1 = 2
  input supply : bar = 10 bar
  let in = a * sqrt(max(supply - middle, 1e-9 bar) / 1 bar)
  let out = b * sqrt(max(middle, 1e-9 bar) / 1 bar)
  solve middle : bar from in = out  start 1 bar  between 0 bar .. supply
  solve root : 1 from root + exp(root) = 4
})");
  Seen seen(program, {"middle", "root", "in", "out"});
  run_for(seen, 0.02);
  CHECK(seen.last("middle") == Approx(10e5 * 9 / 13).epsilon(1e-9));
  CHECK(seen.last("in") == Approx(seen.last("out")).epsilon(1e-9));
  // Lambert's W: x = 4 - W(e^4), W(e^4) = 2.9262710624.
  CHECK(seen.last("root") == Approx(4 - 2.92627106244).epsilon(1e-10));
}

TEST_CASE("An implicit equation without a solution stops the run with its name and the last value tried") {
  const auto program = program_of(R"(
bench B { step 10 ms
  solve x : m from x * x = 0.5 m^2 - time * 1 m^2/s  start 1 m
})");
  Seen seen(program);
  const auto result = run_for(seen, 2);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation.find("the equation for `x` has no solution that could be found at 0.5") == 0);
  CHECK(result.details.at(0).find("bench.dyne:3:3: solve x") == 0);
  CHECK(result.details.at(1).find("the last value tried was") == 0);
}

TEST_CASE("Derivatives of expressions agree with differences of them") {
  const auto program = program_of(R"(
table curve(x: 1) -> 1 = [0: 0, 1: 2, 2: 2.5, 4: 3] cubic outside extended
table field(x: 1, y: 1) -> 1 = [0: [0: 1, 4: 2], 4: [0: 3, 4: 8]] linear outside extended
bench B { step 10 ms
  input x : 1 = 0.7
  let f1 = sin(x) * exp(x / 3) + log(x + 2) - x^3 / (1 + x^2)
  let f2 = sqrt(x) - cos(x)^2 + tan(x / 2) + (atan(2 * x) + asin(x / 3) + acos(x / 4)) / 1 rad
  let f3 = if x > 0.5 then abs(x - 2) * max(x, 0.1) else min(x, 3)
  let f4 = x^x + atan2(x, 2 - x) / 1 rad + clamp(2 * x, 0, 5) + curve(x) + field(x, 2 * x)
})");
  auto copy = *program;
  const program::VarId x = copy.find("x");
  std::vector<program::NodeId> roots;
  std::vector<std::string> names{"f1", "f2", "f3", "f4"};
  for (const std::string& name : names) {
    for (const auto& e : program->equations) {
      if (e.target != copy.find(name)) continue;
      roots.push_back(e.value);
      program::Node one;
      one.value = 1;
      copy.nodes.push_back(one);
      roots.push_back(
          program::derivative_of(copy, e.value, {{x, static_cast<program::NodeId>(copy.nodes.size() - 1)}}));
    }
  }
  REQUIRE(roots.size() == 8);
  engine::Evaluator evaluator(copy, roots);
  std::vector<double> variables(copy.variables.size());
  const auto value = [&](std::size_t i, double at) {
    variables[static_cast<std::size_t>(x)] = at;
    evaluator.evaluate(variables.data());
    return evaluator.value(i);
  };
  for (std::size_t f = 0; f < 4; ++f) {
    INFO(names[f]);
    const double h = 1e-6;
    const double difference = (value(2 * f, 0.7 + h) - value(2 * f, 0.7 - h)) / (2 * h);
    CHECK(value(2 * f + 1, 0.7) == Approx(difference).epsilon(1e-7));
  }
}

TEST_CASE("Random values depend on user, seed and instant, and on nothing else") {
  CHECK(random_normal(1, 2, 0.003) == random_normal(1, 2, 0.003));
  CHECK(random_normal(1, 2, 0.003) != random_normal(1, 2, 0.004));
  CHECK(random_normal(1, 2, 0.003) != random_normal(1, 3, 0.003));
  CHECK(random_normal(1, 2, 0.003) != random_normal(2, 2, 0.003));
  CHECK(random_uniform(5, 6, 3 * 0.001) == random_uniform(5, 6, 0.003));  // rounding of seconds does not matter
  double mean = 0;
  for (int i = 0; i < 10'000; ++i) mean += random_uniform(3, 4, 1e-9 * i) / 10'000;
  CHECK(mean == Approx(0.5).margin(0.015));
}
