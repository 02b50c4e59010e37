// What the constructs of the language mean: values of small benches, computed by hand.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// Values of quantities at the first instant of a bench.
std::vector<double> first(const std::string& text, const std::vector<std::string>& names) {
  Seen seen(program_of(text), names);
  run_for(seen, 0);
  std::vector<double> values;
  for (const auto& signal : seen.values) values.push_back(signal.front());
  return values;
}

/// Whether a bench gets a message with this code.
bool gets(const std::string& text, const std::string& code) {
  const std::string said = diagnostics_of(text);
  INFO(said);
  return said.find("[" + code + "]") != std::string::npos;
}

std::string in_bench(const std::string& body) {
  return "bench B { step 1 ms\n" + body + "\n}\n";
}

}  // namespace

TEST_CASE("Arithmetic of vectors goes element by element, and a single value stands for all") {
  const auto v = first(in_bench(R"(
  let a : m[3] = [1 m, 2 m, 3 m]
  let b : m[3] = 2 * a + [10 cm, 20 cm, 30 cm]
  let c : 1[3] = a / b
  let low : m[3] = clamp(a, 1.5 m, 2.5 m)
  let larger : bool[3] = a > 1.5 m
  let chosen : m[3] = if larger then a else -a
  let same : m[3] = 4 m
  let total = sum(a)
  let middle = mean(a)
  let length = norm([3 m, 4 m])
  let product = dot(a, [1, 2, 3])
  let most = max(a)
  let least = min(a)
  let picked = pick(a, 2)
  let beyond = pick(a, 9)
  let some = any(larger)
  let every_one = all(larger)
)"),
                       {"b[2]", "c[1]", "low[1]", "low[3]", "larger[1]", "chosen[1]", "chosen[3]", "same[2]", "total",
                        "middle", "length", "product", "most", "least", "picked", "beyond", "some", "every_one"});
  const std::vector<double> wanted = {4.2, 1 / 2.1, 1.5, 2.5, 0, -1, 3, 4, 6, 2, 5, 14, 3, 1, 2, 3, 1, 0};
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    INFO("value " << i);
    CHECK(v[i] == Approx(wanted[i]));
  }
}

TEST_CASE("Functions may take and give vectors, and work element by element where they do not") {
  const auto v = first(R"(
function clarke(i: A[3]) -> A[2] = [(2 * i[1] - i[2] - i[3]) / 3, (i[2] - i[3]) / sqrt(3)]
function twice(x: A) -> A = 2 * x
function largest(x: A[2]) -> A = max(x)
)" + in_bench(R"(
  let ab : A[2] = clarke([10 A, -5 A, -5 A])
  let d : A[2] = twice(ab)
  let m = largest(d)
)"),
                       {"ab[1]", "ab[2]", "d[1]", "m"});
  CHECK(v[0] == Approx(10));
  CHECK(v[1] == Approx(0).margin(1e-12));
  CHECK(v[2] == Approx(20));
  CHECK(v[3] == Approx(20));
}

TEST_CASE("Sizes, loops and variants follow from fixed parameters, in parts too") {
  const auto v = first(R"(
model Ladder {
  fixed param rungs : int = 2
  fixed param heavy : bool = false
  param spacing : m = 30 cm
  output height : m[rungs]
  output weight : kg
  for i in 1 .. rungs { height[i] = i * spacing }
  if heavy { weight = rungs * 3 kg } else if rungs > 3 { weight = rungs * 2 kg } else { weight = rungs * 1 kg }
}
)" + in_bench(R"(
  part a : Ladder
  part b : Ladder(rungs = 5)
  part c : Ladder(rungs = 2 * 2 - 1, heavy = true, spacing = 1 m)
)"),
                       {"a.height[2]", "a.weight", "b.height[5]", "b.weight", "c.height[3]", "c.weight"});
  CHECK(v == std::vector<double>{0.6, 2, 1.5, 10, 3, 9});
}

TEST_CASE("Arrays of parts: index in arguments, one element, all of them") {
  const std::string wagon = R"(
model Wagon {
  param mass : kg = 20 t
  input pull : N = 0 N
  output force : N
  force = pull + mass * 1 m/s^2
}
)";
  const auto v = first(wagon + in_bench(R"(
  fixed param n : int = 4
  part wagon[n] : Wagon(mass = index * 1 t)
  for i in 2 .. n { wagon[i].pull = wagon[i - 1].force }
  let masses : kg[n] = wagon[*].mass
  let total = sum(wagon[*].mass)
  let last = wagon[n].force
)"),
                       {"wagon[3].mass", "masses[4]", "total", "last"});
  CHECK(v == std::vector<double>{3000, 4000, 10000, 10000});
  CHECK(gets(wagon + in_bench("part wagon[3] : Wagon\n let x = wagon.mass"), "wrong-kind"));
  CHECK(gets(wagon + in_bench("part wagon[3] : Wagon\n let x = wagon[4].mass"), "out-of-limits"));
  CHECK(gets(wagon + in_bench("part wagon[0] : Wagon"), "out-of-limits"));
  CHECK(gets(wagon + in_bench("part wagon : Wagon\n let x = wagon[1].mass"), "wrong-kind"));
}

TEST_CASE("Overrides reach parts inside parts, and the outermost wins") {
  const std::string models = R"(
model Inner { param a : 1 = 1
  param b : 1[2] = 5
  output state x : 1 = 2
  x' = 0 1/s }
model Middle { part one : Inner(a = 10)
  part row[3] : Inner(a = 100 * index) }
)";
  const auto v = first(models + in_bench(R"(
  part m : Middle with one.a = 11, row[2].a = 7, row[*].b = [1, 2], one.x = 9
  part plain : Middle
)"),
                       {"m.one.a", "m.row[1].a", "m.row[2].a", "m.row[3].b[2]", "m.one.x", "plain.one.a",
                        "plain.row[3].a", "plain.one.b[1]"});
  CHECK(v == std::vector<double>{11, 100, 7, 2, 9, 10, 300, 5});
  CHECK(gets(models + in_bench("part m : Middle with two.a = 3"), "unknown-name"));
  CHECK(gets(models + in_bench("part m : Middle with one.c = 3"), "unknown-name"));
  CHECK(gets(models + in_bench("part m : Middle with row[4].a = 3"), "out-of-limits"));
}

TEST_CASE("A model's own unit takes that of each part, in messages and listings too") {
  const std::string lag = R"(
model Lag { unit Q = 1
  param gain : 1/s = 1 1/s
  param start : Q = 0 Q
  input u : Q
  output state y : Q = start
  output rate : Q/s
  rate = gain * (u - y)
  y' = rate }
)";
  const auto program = program_of(lag + in_bench(R"(
  part p : Lag(Q: bar, start = 2 bar)
  p.u = 3 bar
  part t : Lag(Q: degC, start = 20 degC)
  t.u = 25 degC
)"));
  CHECK(program->variable(program->find("p.y")).unit.text == "bar");
  CHECK(program->variable(program->find("p.rate")).unit.text == "bar/s");
  CHECK(program->variable(program->find("t.rate")).unit.text == "K/s");
  Seen seen(program, {"p.rate", "t.rate"});
  run_for(seen, 0);
  CHECK(seen.last("p.rate") == Approx(1e5));
  CHECK(seen.last("t.rate") == Approx(5));
  CHECK(gets(lag + in_bench("part p : Lag(Q: bar)\n p.u = 3 m"), "unit-mismatch"));
  CHECK(gets(lag + in_bench("part p : Lag(P: bar)\n p.u = 3"), "unknown-name"));
  CHECK(gets("model M { unit m = 1 }\n" + in_bench(""), "duplicate"));
}

TEST_CASE("Absolute temperatures: what is allowed, and what it gives") {
  const auto v = first(in_bench(R"(
  let a : degC = 20 degC
  let frost : degC = -20 degC
  let b = a + 5 K
  let difference = b - a
  let hot : bool = b > 24 degC
  let near : bool = b within 0.1 K of 25 degC
  let above_zero = kelvin(a)
  let back : degC = from_kelvin(300 K)
  let warmest = max(a, b, 18 degC)
  let f = 68 degF
)"),
                       {"b", "difference", "hot", "near", "above_zero", "back", "warmest", "f", "frost"});
  const std::vector<double> wanted = {298.15, 5, 1, 1, 293.15, 300, 298.15, 293.15, 253.15};
  for (std::size_t i = 0; i < wanted.size(); ++i) CHECK(v[i] == Approx(wanted[i]));
  for (const char* wrong : {"let x = 2 * 20 degC", "let x = 20 degC + 20 degC", "let x = 5 K - 20 degC",
                            "let x : degC = 5 K", "let x : K = 20 degC", "let x = -(20 degC)", "let x = 20 degC > 5 K",
                            "let x = sqrt(20 degC)", "let x = kelvin(5 K)", "let x : degC = 0"}) {
    INFO(wrong);
    CHECK(gets(in_bench(wrong), "unit-mismatch"));
  }
}

TEST_CASE("Angles mix with nothing, and vanish beside other units") {
  const auto v = first(in_bench(R"(
  let speed : rad/s = 10 rad/s
  let power : W = 5 Nm * speed
  let rim : m/s = speed * 30 cm
  let acceleration : rad/s^2 = 5 Nm / 2 kg*m^2
  let turns : Hz = speed / (2 * pi * 1 rad)
  let stiff : Nm = 100 Nm/rad * 2 deg
)"),
                       {"power", "rim", "acceleration", "turns", "stiff"});
  CHECK(v[0] == 50);
  CHECK(v[1] == Approx(3));
  CHECK(v[2] == 2.5);
  CHECK(v[3] == Approx(10 / (2 * std::acos(-1.0))));
  CHECK(v[4] == Approx(200 * std::acos(-1.0) / 180));
  for (const char* wrong :
       {"let x : rad/s = 50 Hz", "let x = 3 rad + 1", "let x : deg = 3", "let x : bool = 3 Hz > 2 rad/s"}) {
    INFO(wrong);
    CHECK(gets(in_bench(wrong), "unit-mismatch"));
  }
}

TEST_CASE("Private names stay inside their model, and can be used there") {
  const std::string model =
      "model M { private let hidden = 3\n output open : 1\n private part p : N\n open = hidden + p.v }\nmodel N { "
      "output v : 1\n v = 4 }\n";
  CHECK(first(model + in_bench("part m : M"), {"m.open"}) == std::vector<double>{7});
  CHECK(gets(model + in_bench("part m : M\n let x = m.hidden"), "private-name"));
  CHECK(gets(model + in_bench("part m : M\n let x = m.p.v"), "private-name"));
  CHECK(gets(model + in_bench("part m : M") + "requirement R { always m.hidden > 1 }", "private-name"));
}

TEST_CASE("Whole numbers stay whole through sums and products") {
  const auto program = program_of(
      in_bench("fixed param n : int = 2 + 3 * 4\n let v : m[n] = 1 m\n let k : int = n + 1\n let w : 1[2 * 3] = 0"));
  CHECK(program->find("v[14]") != program::kNone);
  CHECK(program->find("v[15]") == program::kNone);
  CHECK(program->find("w[6]") != program::kNone);
  CHECK(gets(in_bench("let k : int = 2.5"), "type-mismatch"));
}

TEST_CASE("Messages for misuse say which construct was meant") {
  CHECK(gets(in_bench("let v : m[0] = 1 m"), "out-of-limits"));
  CHECK(gets(in_bench("let v : m[2.5] = 1 m"), "type-mismatch"));
  CHECK(gets(in_bench("param n : int = 3\n let v : m[n] = 1 m"), "not-constant"));
  CHECK(gets(in_bench("let v : m[2] = [1 m, 2 s]"), "unit-mismatch"));
  CHECK(gets(in_bench("let v : m[2] = [1 m, [2 m, 3 m]]"), "type-mismatch"));
  CHECK(gets(in_bench("let s = sum(3 m)"), "type-mismatch"));
  CHECK(gets(in_bench("let s = any([1, 2])"), "type-mismatch"));
  CHECK(gets(in_bench("let s = dot([1, 2], [1, 2, 3])"), "type-mismatch"));
  CHECK(gets(in_bench("let d = delay(1 m)"), "wrong-arguments"));
  CHECK(gets(in_bench("input t : s = 1 s\n let d = delay(time, t)"), "not-constant"));
  CHECK(gets(in_bench("let d = delay(time, 3 m)"), "unit-mismatch"));
  CHECK(gets("function f(x: 1) -> 1 = delay(x, 1 s)\n" + in_bench("let y = f(1)"), "wrong-kind"));
  CHECK(gets("function sum(x: 1) -> 1 = x\n" + in_bench(""), "duplicate"));
  CHECK(gets("table f(x: m) -> s = [1 m: 1 s, 2 m: 2 s] linear\nfunction f(x: 1) -> 1 = x\n" + in_bench(""),
             "duplicate"));
  CHECK(gets("table f(x: m) -> s = [1 m: 1 s, 2 m: 2 s] linear\n" + in_bench("let y = f(3 s)"), "unit-mismatch"));
  CHECK(gets(in_bench("solve x : 1 from 2 = 3"), "wrong-kind"));
  CHECK(gets(in_bench("solve x : bool from 2 = 3"), "wrong-kind"));
  CHECK(gets(in_bench("if time > 3 s { let a = 1 }"), "not-constant"));
  CHECK(gets(in_bench("memory n : int = 0\n every 10 ms offset 10 ms { n := 1 }"), "bad-period"));
  CHECK(gets(in_bench("memory n : int = 0\n every 10 ms { if n { n := 1 } }"), "type-mismatch"));
  CHECK(gets(in_bench("memory n : int = 0\n n = 3"), "wrong-kind"));
}

TEST_CASE("A fault cannot act inside an implicit equation, and says so") {
  const std::string text = in_bench("let y = 2 * x\n solve x : 1 from y + x = 6") + "fault f { on y offset 1 }";
  CHECK(gets(text, "wrong-kind"));
  CHECK(diagnostics_of(text).find("part of the equation that gives `x`") != std::string::npos);
}
