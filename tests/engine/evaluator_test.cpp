// The same random expressions through two evaluators: byte code on registers, and folding node by node.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/engine/code.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr std::uint64_t kSeed = 77;

std::size_t below(RandomStream& random, std::size_t n) {
  return static_cast<std::size_t>(random.next() % n);
}

std::string truth(RandomStream& random, int depth);

/// A random plain number out of the inputs a, b, c.
std::string number(RandomStream& random, int depth) {
  if (depth == 0 || below(random, 6) == 0) {
    switch (below(random, 4)) {
      case 0:
        return fmt::format("{:.3f}", random.uniform() * 10);
      default:
        return std::string(1, static_cast<char>('a' + below(random, 3)));
    }
  }
  const auto sub = [&] { return number(random, depth - 1); };
  switch (below(random, 9)) {
    case 0:
      return "(" + sub() + " + " + sub() + ")";
    case 1:
      return "(" + sub() + " - " + sub() + ")";
    case 2:
      return "(" + sub() + " * " + sub() + ")";
    case 3:
      return "(" + sub() + " / " + sub() + ")";
    case 4:
      return "(if " + truth(random, depth - 1) + " then " + sub() + " else " + sub() + ")";
    case 5:
      return "max(" + sub() + ", " + sub() + ")";
    case 6:
      return "sqrt(abs(" + sub() + "))";
    case 7:
      return "(-" + sub() + ")";
    default:
      return "twice(" + sub() + ")";  // its argument is a node used twice
  }
}

std::string truth(RandomStream& random, int depth) {
  if (depth <= 1) return "(" + number(random, 0) + " < " + number(random, 0) + ")";
  switch (below(random, 4)) {
    case 0:
      return "(" + truth(random, depth - 1) + " and " + truth(random, depth - 1) + ")";
    case 1:
      return "(not " + truth(random, depth - 1) + ")";
    case 2:
      return "(" + truth(random, depth - 1) + " implies " + truth(random, depth - 1) + ")";
    default:
      return "(" + number(random, depth - 1) + " >= " + number(random, depth - 1) + ")";
  }
}

bool same(double x, double y) {
  return x == y || (std::isnan(x) && std::isnan(y));
}

}  // namespace

TEST_CASE("Byte code and folding agree to the bit on 500 random expressions") {
  RandomStream random(kSeed, "expressions");
  std::string text =
      "function twice(x: 1) -> 1 = x + x * x\nbench B { step 1 ms\n input a : 1 = 0\n input b : 1 = 0\n input c : 1 = "
      "0\n";
  constexpr int kExpressions = 500;
  for (int i = 0; i < kExpressions; ++i) text += fmt::format(" let y{} : 1 = {}\n", i, number(random, 5));
  const auto program = program_of(text + "}\n");
  std::vector<program::NodeId> roots;
  for (const program::Assignment& e : program->equations) roots.push_back(e.value);
  engine::Evaluator evaluator(*program, roots);
  std::vector<double> variables(program->variables.size(), 0.0);
  for (int round = 0; round < 20; ++round) {
    for (const char* name : {"a", "b", "c"})
      variables[static_cast<std::size_t>(program->find(name))] = 4 * random.normal();
    evaluator.evaluate(variables.data());
    for (std::size_t i = 0; i < roots.size(); ++i) {
      const auto folded = program::fold(*program, roots[i], [&](program::VarId id) {
        return std::optional(variables[static_cast<std::size_t>(id)]);
      });
      REQUIRE(folded);
      INFO("seed " << kSeed << ", expression " << i << ", round " << round);
      if (!same(*folded, evaluator.value(i))) REQUIRE(*folded == evaluator.value(i));
    }
  }
}

TEST_CASE("Constants fold as they would run") {
  const auto program = program_of("bench B { step 1 ms\n let x : m = 2 * 3 m - sqrt(16 m^2) / 2\n }");
  const auto value = program::fold(*program, program->equations[0].value, [](program::VarId) { return std::nullopt; });
  CHECK(value == 4.0);
}
