#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("Text order does not matter: equations are sorted") {
  const auto p = program_of("bench B { step 1 ms\n let a = b + 1\n let b = c * 2\n let c = 5 }");
  Seen seen(p, {"a"});
  run_for(seen, 0);
  CHECK(seen.last("a") == 11);
}

TEST_CASE("An algebraic loop is printed as a cycle") {
  const std::string text =
      diagnostics_of("bench B { step 1 ms\n let a : m = b + 1 m\n let b : m = 2 * c\n let c : m = a }");
  CHECK(text.find("[algebraic-loop]") != std::string::npos);
  CHECK(text.find("a needs b needs c needs a") != std::string::npos);
}

TEST_CASE("A chain of many equations is sorted without deep recursion") {
  std::string text = "bench B { step 1 ms\n";
  for (int i = 0; i < 20'000; ++i) text += fmt::format(" let x{} : m = x{} + 1 m\n", i, i + 1);
  text += " let x20000 : m = 0 m\n}\n";
  Seen seen(program_of(text), {"x0"});
  run_for(seen, 0);
  CHECK(seen.last("x0") == 20'000);
}

TEST_CASE("All mistakes of a pass are found at once") {
  const auto loaded = load_text(R"(
model M { input u : m
  output state x : m = 0 s
  x' = u }
bench B { step 1 ms
  part m : M
  part n : N
  let a = chambr
  let b = 1 m + 1 s
  let c = sqrt(2 m)
})");
  CHECK(loaded.diagnostics.errors() == 7);
}

TEST_CASE("Inputs have one driver or a default") {
  const std::string model = "model M { input u : m = 3 m\n output y : m\n y = u }\n";
  Seen seen(program_of(model + "bench B { step 1 ms\n part m : M }"), {"m.y"});
  run_for(seen, 0);
  CHECK(seen.last("m.y") == 3);
  CHECK(diagnostics_of(model + "bench B { step 1 ms\n part m : M\n m.u = 1 m\n m.u = 2 m }").find("[driven-twice]") !=
        std::string::npos);
}

TEST_CASE("Parts of parts flatten with their paths") {
  const auto p = program_of(R"(
model Inner { param k : 1 = 2
  input u : 1
  output y : 1
  y = k * u }
model Outer { param gain : 1 = 3
  input u : 1
  output y : 1
  part a : Inner(k = gain)
  part b : Inner
  a.u = u
  b.u = a.y
  y = b.y }
bench B { step 1 ms
  part outer : Outer(gain = 5)
  outer.u = 7
})");
  Seen seen(p, {"outer.y", "outer.a.k"});
  run_for(seen, 0);
  CHECK(seen.last("outer.y") == 70);
  CHECK(seen.last("outer.a.k") == 5);
}

TEST_CASE("A file used twice, and files that use each other, are read once") {
  int reads = 0;
  const auto loaded = check::load_bench("", "a.dyne", [&](const std::string& name) -> Result<std::string> {
    ++reads;
    if (name == "a.dyne") return std::string("use \"b.dyne\", \"sub/c.dyne\"\nbench B { step 1 ms\n part m : M }");
    if (name == "b.dyne") return std::string("use \"a.dyne\"\nmodel M { let x = 1 }");
    if (name == "sub/c.dyne") return std::string("use \"../b.dyne\"");
    return Failure{"cannot read", name, "no such file"};
  });
  CHECK(loaded.program != nullptr);
  CHECK(reads == 3);
}

TEST_CASE("Parts that contain each other many times over end in a message") {
  std::string text = "model M0 { let x = 1 }\n";
  for (int i = 1; i <= 40; ++i) text += fmt::format("model M{} {{ part a : M{}\n part b : M{} }}\n", i, i - 1, i - 1);
  const std::string said = diagnostics_of(text + "bench B { step 1 ms\n part m : M40 }");
  CHECK(said.find("[too-large]") != std::string::npos);
}

TEST_CASE("Functions that double each other end in a message") {
  std::string text = "function f0(x: 1) -> 1 = x + x\n";
  for (int i = 1; i <= 40; ++i) text += fmt::format("function f{}(x: 1) -> 1 = f{}(f{}(x))\n", i, i - 1, i - 1);
  const std::string said = diagnostics_of(text + "bench B { step 1 ms\n let y = f40(1) }");
  CHECK(said.find("[too-large]") != std::string::npos);
}

TEST_CASE("What functions of functions share is met once, wherever such an expression stands") {
  // 40 deep: along every path it would be 10^12 steps, and a check without end.
  const std::string functions =
      "function twice(x: V) -> V = (x + x) / 2\nfunction bent(x: V) -> V = if x > 0 V then x / 2 + 1 V else -x\n"
      "function held(x: V) -> V = clamp(x, min(x, 1 V), 5 V)\n";
  for (const std::string name : {"twice", "bent", "held"}) {
    CAPTURE(name);
    const auto of = [&](std::string x) {
      for (int k = 0; k < 40; ++k) x.insert(0, name + "(").append(")");
      return x;
    };
    const auto bench = [&](const std::string& inside, const std::string& behind = "") {
      return functions + "bench B { step 1 ms  method rk4\n  output state x : V = 1 V\n  x' = 1 V/s\n" + inside +
             "}\n" + behind;
    };
    CHECK(diagnostics_of(bench("", "requirement R { always " + of("x") + " < 1000 V }\n")).empty());
    CHECK(diagnostics_of(bench("  sensor k { of " + of("x") + "  every 10 ms }\n")).find("error") == std::string::npos);
    CHECK(diagnostics_of(bench("  state z : V = 0 V\n  z' = " + of("z") + " / 1 s\n")).find("error") ==
          std::string::npos);
    const std::string quick = functions +
                              "model M {\n  output state x : V = 1 V\n  x' = 1 V/s\n  output y : V\n  y = " + of("x") +
                              "\n  output state t : V = 0 V\n  when y > 2 V { t := 0 V }\n  t' = 1 V/s\n}\n";
    CHECK(diagnostics_of(quick + "bench B { step 1 ms  method rk4\n  part m : M step 10 us  method rk4\n}\n"
                                 "requirement R { always m.y < 1000 V }\n")
              .empty());
    const std::string source = "use library \"circuits.dyne\"\n" + functions +
                               "model Feed {\n  terminal top, earth : electric\n  output state angle : rad = 0 rad\n"
                               "  angle' = 314 rad/s\n  part s : VoltageSource between top, earth\n  s.voltage = " +
                               of("1 V * sin(angle)") +
                               "\n  part l : Inductor(inductance = 1 mH) between top, earth\n}\n"
                               "bench B { step 50 us  method rk4\n  node top : electric\n"
                               "  part feed : Feed between top, ground  step 1 us\n}\n";
    Seen seen(program_of(source), {"feed.s.voltage"});
    CHECK(run_for(seen, 1e-3).ending == observe::Ending::completed);
  }
}

TEST_CASE("Indices, counters and sizes beyond any use end in a message") {
  CHECK(diagnostics_of("bench B { step 1 ms\n let i : A[3] = 1 A\n let a = i[2e119]\n}").find("[type-mismatch]") !=
        std::string::npos);
  CHECK(diagnostics_of("bench B { step 1 ms\n for i in 1e12 .. 1e12 { when time > 1 s { } }\n}").find("beyond") !=
        std::string::npos);
  CHECK(diagnostics_of("bench B { step 1 ns\n let a = delay(time, 20 s)\n}").find("[too-large]") != std::string::npos);
  CHECK(diagnostics_of("bench B { step 1 s\n let a = delay(time, 20 ms)\n}").find("[bad-period]") != std::string::npos);
  std::string chain = "bench B { step 1 ms\n every 1 ms { ";
  for (int i = 0; i < 100'000; ++i) chain += "if true { } else ";
  CHECK(diagnostics_of(chain).find("[too-deep]") != std::string::npos);
  CHECK(diagnostics_of("bench B { step 1 ms\n let a = " + std::string(100'000, '(') + "1").find("[too-deep]") !=
        std::string::npos);
  CHECK(diagnostics_of("bench B { step 1 ms\n let a = " + std::string(100'000, '[') + "1").find("[too-deep]") !=
        std::string::npos);
}
