#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/lang/expression_parser.h"
#include "isodyne/lang/parser.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::lang;

namespace {

/// (op left right): the tree on one line.
std::string dump(const Expr& e) {
  switch (e.kind) {
    case ExprKind::number: {
      std::string text = fmt::format("{}", e.value);
      return e.word.empty() ? text : text + "_" + e.word;
    }
    case ExprKind::boolean:
    case ExprKind::name:
      return e.word;
    default:
      break;
  }
  std::string text = "(" + (e.kind == ExprKind::is_not ? std::string("is-not") : e.word);
  for (const ExprPtr& arg : e.args) text += " " + dump(*arg);
  return text + ")";
}

std::string tree(const std::string& text) {
  Sources sources;
  Diagnostics d;
  TokenStream tokens(sources, sources.add("x", text), d);
  ExpressionParser parser(tokens);
  try {
    const ExprPtr e = parser.expression();
    tokens.skip_newlines();
    const std::string rest = tokens.at_end() ? "" : " | " + tokens.peek().text;
    return d.has_errors() ? "error: " + d.list()[0].message : dump(*e) + rest;
  } catch (const Abandoned&) {
    return "error: " + d.list()[0].message;
  }
}

}  // namespace

TEST_CASE("Expressions parse into the trees the reference promises") {
  const std::pair<const char*, const char*> cases[] = {
      {"a + b * c", "(+ a (* b c))"},
      {"a - b - c", "(- (- a b) c)"},
      {"-x^2", "(- (^ x 2))"},
      {"2^-1", "(^ 2 (- 1))"},
      {"6 m / t", "(/ 6_m t)"},
      {"9.81 m/s^2 * h", "(* 9.81_m/s^2 h)"},
      {"1 / 3 s", "(/ 1 3_s)"},
      {"35 % + x", "(+ 35_% x)"},
      {"4.2 J/(kg*K)", "4.2_J/(kg*K)"},
      {"not a is b", "(not (is a b))"},
      {"a is not b", "(is-not a b)"},
      {"a and b implies c", "(implies (and a b) c)"},
      {"a implies b implies c", "(implies a (implies b c))"},
      {"x within 5 cm of y", "(within x 5_cm y)"},
      {"x within 5 min", "x | within"},
      {"a > 2 m and b", "(and (> a 2_m) b)"},
      {"if a then b else c + 1", "(if a b (+ c 1))"},
      {"angle at limit or stop", "(or (at limit angle) stop)"},
      {"f becomes active", "(becomes active f)"},
      {"max(a, b + 1, 2 s)", "(max a (+ b 1) 2_s)"},
      {"a.b.c", "a.b.c"},
      {"level_tx.true", "level_tx.true"},
      {"hold + step + over + end", "(+ (+ (+ hold step) over) end)"},
      {"(a\n + b)", "(+ a b)"},
      {"a +\n b", "(+ a b)"},
      {"a\n and b", "(and a b)"},
      {"1e3 m", "1000_m"},
      {"2 µm", "2_µm"},
  };
  for (const auto& [text, expected] : cases) {
    INFO(text);
    CHECK(tree(text) == expected);
  }
}

TEST_CASE("Two readings demand brackets, chains and stuck units are refused") {
  CHECK(tree("a and b or c").starts_with("error: `and` and `or` side by side"));
  CHECK(tree("a < b < c").starts_with("error: comparisons cannot be chained"));
  CHECK(tree("3 m-2").starts_with("error: an operator after a unit"));
  CHECK(tree("3m").starts_with("error: a number and its unit"));
  CHECK(tree("a = b").starts_with("error: found `=`"));
  CHECK(tree("1e999").starts_with("error: this number is beyond"));
}

TEST_CASE("A hundred thousand brackets are an error, not a stack overflow") {
  CHECK(tree(std::string(100'000, '(') + "a").starts_with("error: expressions nest at most"));
  CHECK(tree(std::string(100'000, '-') + "a").starts_with("error: expressions nest at most"));
  std::string nots, sum = "a";
  for (int i = 0; i < 100'000; ++i) {
    nots += "not ";
    sum += " + a";
  }
  CHECK(tree(nots + "a").starts_with("error: expressions nest at most"));
  CHECK(tree(sum).starts_with("error: an expression has at most"));
}

TEST_CASE("Intervals need no blanks around numbers") {
  Sources sources;
  Diagnostics d;
  Document document;
  parse(
      sources,
      sources.add(
          "x",
          "model A {\n state x : m = 0 m  limited 0 m .. 9 m\n state y : 1 = 0 limited 0..1\n x' = 0 m/s\n y' = 0\n}"),
      d, document);
  CHECK(d.render(sources, false).empty());
  REQUIRE(document.models.size() == 1);
  CHECK(document.models[0].variables[1].highest->value == 1);
}

TEST_CASE("Clause words are free as names") {
  Sources sources;
  Diagnostics d;
  Document document;
  parse(sources,
        sources.add("x",
                    "model A {\n input hold, step, over : 1 = 0\n}\nbench B {\n step 1 ms\n let record = 1\n part "
                    "every : A\n every.hold = record\n}"),
        d, document);
  // `input … = 0` for several names is refused, everything else reads.
  CHECK(d.errors() == 1);
  REQUIRE(document.benches.size() == 1);
  CHECK(document.benches[0].equations.size() == 1);
}

TEST_CASE("A broken statement costs only itself") {
  Sources sources;
  Diagnostics d;
  Document document;
  parse(sources,
        sources.add("x",
                    "model A {\n input : m\n output y : m\n y = = 2 m\n let z = 4\n}\nmodel B { let w = 1 }\nfoo "
                    "bar\nmodel C { let v = 2 }"),
        d, document);
  CHECK(d.errors() == 3);
  CHECK(document.models.size() == 3);
  CHECK(document.models[0].variables.size() == 2);
}

TEST_CASE("Descriptions above a declaration belong to it") {
  Sources sources;
  Diagnostics d;
  Document document;
  parse(sources,
        sources.add("x",
                    "## A basin.\n## Two lines.\nmodel A {\n  ## its area\n  param area : m^2 = 1 m^2  ## not this\n  "
                    "# nor this\n}"),
        d, document);
  REQUIRE(document.models.size() == 1);
  CHECK(document.models[0].doc == "A basin. Two lines.");
  CHECK(document.models[0].variables[0].doc == "its area");
}

TEST_CASE("Requirement names may have dashes and digits") {
  Sources sources;
  Diagnostics d;
  Document document;
  parse(sources, sources.add("x", "requirement L-03 { always a }\nrequirement 4.2-b { never b }"), d, document);
  CHECK(d.render(sources, false).empty());
  REQUIRE(document.requirements.size() == 2);
  CHECK(document.requirements[0].name.text == "L-03");
  CHECK(document.requirements[1].name.text == "4.2-b");
}
