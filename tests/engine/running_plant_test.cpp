#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/running_plant.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// Largest error of a smooth problem at t = 2 s with the given step: x' = -x + sin(3t), closed form known.
double smooth_error(const char* step) {
  const auto program = program_of(fmt::format(R"(
model Smooth {{
  output state x : 1 = 1
  x' = (-x + sin(3 * time / 1 s)) / 1 s
}}
bench B {{ step {}  method rk4
  part smooth : Smooth
}})",
                                              step));
  Seen seen(program, {"smooth.x"});
  run_for(seen, 2);
  REQUIRE(to_seconds(seen.times.back()) == 2.0);
  // x = c e^-t + (sin 3t - 3 cos 3t) / 10 with c = 1.3 (variation of constants).
  const double exact = 1.3 * std::exp(-2.0) + (std::sin(6.0) - 3 * std::cos(6.0)) / 10;
  return std::abs(seen.last("smooth.x") - exact);
}

}  // namespace

TEST_CASE("RK4 has the observed order 4 on a smooth problem") {
  const double coarse = smooth_error("100 ms"), middle = smooth_error("50 ms"), fine = smooth_error("25 ms");
  CHECK(std::log2(coarse / middle) == Approx(4).margin(0.15));
  CHECK(std::log2(middle / fine) == Approx(4).margin(0.15));
}

TEST_CASE("A chamber fills in the time that the orifice equation gives in closed form") {
  // A dh/dt = -cd a sqrt(2 g h) for the head h; from h0 it takes T = 2 A sqrt(h0) / (cd a sqrt(2 g)) to
  // reach zero, and sqrt(h) falls linearly (Torricelli).
  const auto program = program_of(R"(
function outflow(head: m) -> m/s = sign(head) * sqrt(2 * 9.81 m/s^2 * abs(head))
model Chamber {
  param area : m^2 = 620 m^2
  input upper : m
  input fill : m^2
  output state level : m = 2 m
  level' = 0.62 * fill * outflow(upper - level) / area
}
bench B { step 10 ms
  part chamber : Chamber
  chamber.upper = 6 m
  chamber.fill = 2.4 m^2
})");
  Seen seen(program, {"chamber.level"});
  run_for(seen, 500);
  const double full = 2 * 620 * std::sqrt(4.0) / (0.62 * 2.4 * std::sqrt(2 * 9.81));
  for (const double share : {0.1, 0.5, 0.9}) {
    const auto i = static_cast<std::size_t>(std::lround(share * full / 0.01));
    const double t = 0.01 * static_cast<double>(i);
    const double head = 4.0 * (1 - t / full) * (1 - t / full);
    CHECK(seen.values[0][i] == Approx(6 - head).epsilon(1e-11));
  }
  std::size_t filled = 0;
  while (filled < seen.values[0].size() && seen.values[0][filled] < 6 - 1e-6) ++filled;
  CHECK(0.01 * static_cast<double>(filled) == Approx(full).epsilon(1e-3));
  CHECK(seen.last("chamber.level") == Approx(6).margin(1e-6));  // and stays there
}

TEST_CASE("A limited state stops at its bound and leaves it at once") {
  const auto program = program_of(R"(
model M {
  input push : m/s
  output state x : m = 0 m  limited 0 m .. 1 m
  output stopped : bool
  x' = push
  stopped = x at limit
}
bench B { step 10 ms
  part m : M
  m.push = if time < 3 s then 1 m/s else -1 m/s
})");
  Seen seen(program, {"m.x", "m.stopped"});
  run_for(seen, 3.5);
  CHECK(seen.values[0][200] == 1.0);
  CHECK(seen.values[1][200] == 1.0);
  CHECK(seen.values[1][50] == 0.0);
  CHECK(seen.values[1][300] == 0.0);                    // pushed inwards
  CHECK(seen.last("m.x") == Approx(0.5).margin(0.01));  // the push jumps within a step, so the step counts
}

TEST_CASE("A state machine takes one transition per instant, the first listed") {
  const auto program = program_of(R"(
model M {
  modes m from a {
    a -> b when true
    a -> c when true
    b -> c when true
    c -> d after 30 ms
  }
}
bench B { step 10 ms
  part x : M
})");
  Seen seen(program, {"x.m"});
  run_for(seen, 0.1);
  CHECK(std::vector<double>(seen.values[0].begin(), seen.values[0].begin() + 6) ==
        std::vector<double>{1, 2, 2, 2, 3, 3});
}

TEST_CASE("A state machine that reverses without end is a run error naming its conditions") {
  const auto program = program_of(R"(
model M { modes m from a {
  a -> b when true
  b -> a when true
} }
bench B { step 1 ms
  part x : M
})");
  Seen seen(program);
  const auto result = run_for(seen, 100);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation.find("`x.m` has changed its mode") != std::string::npos);
  CHECK(result.details.size() == 2);
}

TEST_CASE("Sampled parts run at their period, top to bottom, and hold between") {
  const auto program = program_of(R"(
model Alarm {
  input level : m
  output alarm : bool
  memory above : int = 0
  every 100 ms {
    above := if level > 6.8 m then above + 1 else 0
    alarm := above >= 5
  }
}
bench B { step 10 ms
  part a : Alarm
  a.level = if time >= 1 s then 7 m else 6 m
})");
  Seen seen(program, {"a.alarm", "a.above"});
  run_for(seen, 2);
  CHECK(seen.values[1][99] == 0);
  CHECK(seen.values[1][100] == 1);
  CHECK(seen.values[1][109] == 1);
  CHECK(seen.values[1][110] == 2);
  CHECK(seen.values[0][139] == 0);
  CHECK(seen.values[0][140] == 1);
}

TEST_CASE("Sampled parts that feed each other run in the order of their data, whatever the text") {
  const auto program = program_of(R"(
model Second {
  input x : 1
  output y : 1
  every 100 ms { y := x + 1 } }
model First { output y : 1
  memory n : 1 = 0
  every 100 ms {
    n := n + 10
    y := n
  } }
bench B { step 10 ms
  part b : Second
  part a : First
  b.x = 2 * a.y
})");
  Seen seen(program, {"a.y", "b.y"});
  run_for(seen, 0.2);
  CHECK(seen.values[0][0] == 10);
  CHECK(seen.values[1][0] == 21);
  CHECK(seen.values[1][9] == 21);
  CHECK(seen.values[1][10] == 41);
}

TEST_CASE("A diverging state stops the run with name, time, equation and the last good value") {
  const auto program = program_of(R"(
model M { output state x : 1 = 1
  x' = x * x * x / 1 s
}
bench B { step 10 ms
  part m : M
})");
  Seen seen(program);
  const auto result = run_for(seen, 100);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(result.explanation.find("`m.x` is no longer a finite number at 0.") != std::string::npos);
  CHECK(result.details.at(0).find("bench.dyne:3:3") != std::string::npos);
}

TEST_CASE("Parameters may depend on parameters, and parts override them") {
  const auto program = program_of(R"(
model Tank {
  param width : m = 2 m
  param area : m^2 = width * width
  output state level : m = area / 1 m
  level' = 0 m/s
}
bench B { step 10 ms
  part a : Tank
  part b : Tank(width = 3 m)
  part c : Tank(width = 3 m, area = 1 m^2)
})");
  Seen seen(program, {"a.level", "b.level", "c.level"});
  run_for(seen, 0);
  CHECK(seen.last("a.level") == 4);
  CHECK(seen.last("b.level") == 9);
  CHECK(seen.last("c.level") == 1);
}

TEST_CASE("Functions compute what they say") {
  const auto program = program_of(R"(
function square(x: m) -> m^2 = x^2
function hypotenuse(a: m, b: m) -> m = sqrt(square(a) + square(b))
bench B { step 10 ms
  let h = hypotenuse(3 m, 4 m)
  let c = clamp(-5 m, -1 m, 1 m)
  let m = max(1, 7, 3)
  let r = mod(-1 s, 3 s)
  let a = atan2(1 m, 1 m)
  let s = sin(30 deg)
  let w = if 3 m within 10 cm of 3.05 m then 1 else 2
})");
  Seen seen(program, {"h", "c", "m", "r", "a", "s", "w"});
  run_for(seen, 0);
  CHECK(seen.last("h") == 5);
  CHECK(seen.last("c") == -1);
  CHECK(seen.last("m") == 7);
  CHECK(seen.last("r") == 2);
  CHECK(seen.last("a") == Approx(std::acos(-1) / 4));
  CHECK(seen.last("s") == Approx(0.5));
  CHECK(seen.last("w") == 1);
}

TEST_CASE("A copied state goes on exactly as the original") {
  const auto program = program_of(R"(
model M { output state x : 1 = 1
  output state v : 1/s = 0 1/s
  x' = v
  v' = -x / 1 s^2 - 0.1 * v / 1 s
}
bench B { step 10 ms
  part m : M
})");
  engine::RunningPlant plant(program);
  auto state = plant.start({});
  const auto advance = [&](engine::PlantState& s, int steps) {
    for (int i = 0; i < steps; ++i) {
      plant.settle(s);
      REQUIRE(plant.step(s).kind == engine::PlantTrouble::Kind::none);
    }
  };
  advance(state, 100);
  engine::PlantState copy = state;
  advance(state, 57);
  advance(copy, 57);
  CHECK(state.values == copy.values);
  CHECK(state.now == copy.now);
}
