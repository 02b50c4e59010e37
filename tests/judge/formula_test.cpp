// Formulas over time: against an evaluator that follows the definitions word by word, and against closed forms.

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/judge/formula.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using Kind = program::FormulaNode::Kind;

namespace {

constexpr double kFar = std::numeric_limits<double>::infinity();

/// Instants and two quantities at them.
struct Trace {
  std::vector<Time> at;
  std::vector<std::vector<double>> images;
};

/// Quadratic and worse: at every instant every operator looks at all that it speaks of.
class Naive {
 public:
  Naive(const program::Requirement& r, const Trace& trace, const std::vector<std::vector<double>>& expressions)
      : r_(r), trace_(trace), expressions_(expressions), known_(r.nodes.size() * trace.at.size()) {}

  judge::Value at(std::int32_t place, std::size_t i) const {
    auto& known = known_[static_cast<std::size_t>(place) * trace_.at.size() + i];
    if (!known) known = of(place, i);
    return *known;
  }

 private:
  judge::Value of(std::int32_t place, std::size_t i) const {
    const program::FormulaNode& n = r_.nodes[static_cast<std::size_t>(place)];
    const std::vector<double>& now = expressions_[i];
    const auto e = static_cast<std::size_t>(2 * place);
    switch (n.kind) {
      case Kind::truth:
        return exactly(n.margin != program::kNone ? now[e + 1] : now[e] != 0 ? kFar : -kFar, now[e] != 0);
      case Kind::rises:
      case Kind::falls:
      case Kind::changes:
        return edge(n, i == 0 ? 0 : now[e] - expressions_[i - 1][e]);
      case Kind::lnot: {
        const judge::Value a = at(n.a, i);
        return {-a.high, -a.low, !a.possible, !a.certain};
      }
      case Kind::land:
        return least(at(n.a, i), at(n.b, i));
      case Kind::lor:
        return greatest(at(n.a, i), at(n.b, i));
      case Kind::within:
        return ahead(
            n, i, [&](std::size_t j) { return at(n.a, j); }, true);
      case Kind::stays:
        return ahead(
            n, i, [&](std::size_t j) { return at(n.a, j); }, false);
      case Kind::until:
        return until(n, i);
      case Kind::held:
      case Kind::last:
        return behind(n, i);
      case Kind::since:
        return since(n, i);
    }
    return {};
  }

  static judge::Value exactly(double d, bool holds) { return {d, d, holds, holds}; }
  static judge::Value least(const judge::Value& a, const judge::Value& b) {
    return {std::min(a.low, b.low), std::min(a.high, b.high), a.certain && b.certain, a.possible && b.possible};
  }
  static judge::Value greatest(const judge::Value& a, const judge::Value& b) {
    return {std::max(a.low, b.low), std::max(a.high, b.high), a.certain || b.certain, a.possible || b.possible};
  }
  static judge::Value edge(const program::FormulaNode& n, double more) {
    const bool holds = n.kind == Kind::rises ? more > 0 : n.kind == Kind::falls ? more < 0 : more != 0;
    const double d = n.kind == Kind::rises ? more : n.kind == Kind::falls ? -more : std::abs(more);
    return exactly(n.number ? d : holds ? kFar : -kFar, holds);
  }
  /// Whether the trace goes on to the end of a window.
  bool whole(const program::FormulaNode& n, std::size_t i) const { return trace_.at.back() >= trace_.at[i] + n.time; }
  bool inside(const program::FormulaNode& n, std::size_t i, std::size_t j) const {
    return j < trace_.at.size() && trace_.at[j] <= trace_.at[i] + n.time;
  }
  template <typename Operand>
  judge::Value ahead(const program::FormulaNode& n, std::size_t i, Operand operand, bool any) const {
    judge::Value v = operand(i);
    for (std::size_t j = i + 1; inside(n, i, j); ++j) v = any ? greatest(v, operand(j)) : least(v, operand(j));
    const judge::Value unknown{-kFar, kFar, false, true};
    if (whole(n, i)) return v;
    return any ? greatest(v, unknown) : least(v, unknown);
  }
  judge::Value until(const program::FormulaNode& n, std::size_t i) const {
    judge::Value best = exactly(-kFar, false);
    for (std::size_t j = i; inside(n, i, j); ++j) {
      judge::Value v = at(n.b, j);
      for (std::size_t k = i; k < j; ++k) v = least(v, at(n.a, k));
      best = greatest(best, v);
    }
    if (whole(n, i)) return best;
    judge::Value ahead{-kFar, kFar, false, true};
    for (std::size_t k = i; k < trace_.at.size(); ++k) ahead = least(ahead, at(n.a, k));
    return greatest(best, ahead);
  }
  judge::Value behind(const program::FormulaNode& n, std::size_t i) const {
    const bool all = n.kind == Kind::held;
    if (all && trace_.at[i] - trace_.at[0] < n.time) return exactly(-kFar, false);
    judge::Value v = at(n.a, i);
    for (std::size_t j = i; j-- > 0 && trace_.at[j] >= trace_.at[i] - n.time;)
      v = all ? least(v, at(n.a, j)) : greatest(v, at(n.a, j));
    return v;
  }
  judge::Value since(const program::FormulaNode& n, std::size_t i) const {
    judge::Value best = exactly(-kFar, false);
    for (std::size_t j = 0; j <= i; ++j) {
      judge::Value v = at(n.b, j);
      for (std::size_t k = j + 1; k <= i; ++k) v = least(v, at(n.a, k));
      best = greatest(best, v);
    }
    return best;
  }

  const program::Requirement& r_;
  const Trace& trace_;
  const std::vector<std::vector<double>>& expressions_;
  mutable std::vector<std::optional<judge::Value>> known_;
};

/// A bench whose requirements are there for their expressions.
const std::shared_ptr<const program::Program>& atoms() {
  static const auto program = program_of(R"(
bench B { step 10 ms
  input x : m = 0 m
  input y : m = 0 m
  input on : bool = false
}
requirement A-1 { always x > 0.2 m }
requirement A-2 { always x <= 0.7 m }
requirement A-3 { always y < x }
requirement A-4 { always on }
requirement A-5 { always (y > 0.5 m or x > 0.5 m) }
requirement A-6 { always (not on and x >= y) }
)");
  return program;
}

/// A formula at random, of at most so many levels and of the first kinds.
std::int32_t grow(RandomStream& random, program::Requirement& r, int levels, int kinds = 9) {
  const auto pick = [&](int below) { return static_cast<int>(random.uniform() * below); };
  const auto& p = *atoms();
  program::FormulaNode n;
  if (levels == 0 || random.uniform() < 0.15) {
    const auto& atom = p.requirements[static_cast<std::size_t>(pick(6))];
    n.value = atom.check;
    n.margin = atom.margin;
    if (pick(5) == 0) {
      n.kind = static_cast<Kind>(static_cast<int>(Kind::rises) + pick(3));
      n.margin = program::kNone;
    }
  } else {
    constexpr Kind kKinds[] = {Kind::lnot, Kind::land, Kind::lor,   Kind::within, Kind::stays,
                               Kind::held, Kind::last, Kind::until, Kind::since};
    n.kind = kKinds[pick(kinds)];
    n.a = grow(random, r, levels - 1, kinds);
    if (n.kind == Kind::land || n.kind == Kind::lor || n.kind == Kind::until || n.kind == Kind::since)
      n.b = grow(random, r, levels - 1, kinds);
    n.time = Time(pick(12) * 7);
  }
  r.nodes.push_back(n);
  return static_cast<std::int32_t>(r.nodes.size() - 1);
}

void add(Trace& trace, Time at, double x, double y, double on) {
  const auto& p = *atoms();
  std::vector<double> image(p.variables.size());
  image[static_cast<std::size_t>(p.find("x"))] = x;
  image[static_cast<std::size_t>(p.find("y"))] = y;
  image[static_cast<std::size_t>(p.find("on"))] = on;
  trace.at.push_back(at);
  trace.images.push_back(std::move(image));
}
/// Coarse, so that equal values and values on a limit occur.
double coarse(RandomStream& random) {
  return std::floor(random.uniform() * 10) / 10;
}

Trace trace_of(RandomStream& random) {
  Trace trace;
  const auto n = static_cast<std::size_t>(1 + random.uniform() * 40);
  Time at{};
  // A third at equal distances throughout, a third up to some instant, a third never.
  const Time step(1 + static_cast<std::int64_t>(random.uniform() * 4));
  const double kind = random.uniform();
  const auto steady = static_cast<std::size_t>(kind < 1.0 / 3 ? 1000.0 : kind < 2.0 / 3 ? random.uniform() * 40 : 0.0);
  for (std::size_t i = 0; i < n; ++i) {
    const double x = coarse(random), y = coarse(random);
    add(trace, at, x, y, random.uniform() < 0.5 ? 1 : 0);
    at += i < steady ? step : Time(1 + static_cast<std::int64_t>(random.uniform() * 12));
  }
  return trace;
}

/// Stretches in which hardly anything happens, with others between them.
Trace calm_trace_of(RandomStream& random) {
  Trace trace;
  Time at{};
  const bool steady = random.uniform() < 0.5;
  for (int stretch = 0; stretch < 6; ++stretch) {
    const bool calm = random.uniform() < 0.7;
    const double x = coarse(random), y = coarse(random), on = random.uniform() < 0.5 ? 1 : 0;
    for (auto n = static_cast<int>(random.uniform() * (calm ? 120 : 12)); n >= 0; --n) {
      const bool same = calm && random.uniform() < 0.99;
      add(trace, at, same ? x : coarse(random), y, on);
      at += Time(steady ? 3 : 1 + static_cast<std::int64_t>(random.uniform() * 6));
    }
  }
  return trace;
}

bool near(double a, double b) {
  return a == b || std::abs(a - b) <= 1e-12;
}

std::string text(const judge::Value& v) {
  return fmt::format("{} .. {}, {} .. {}", v.low, v.high, v.certain, v.possible);
}

/// What was said of an instant, or only that it holds and by how much at least.
struct Said {
  Time at{};
  std::optional<judge::Value> check;
  double least = 0;
};

/// What differs first between the two evaluators; empty: nothing. `passed_over`: counts instants that were.
std::string compared(const program::Requirement& r, const Trace& trace, judge::Formula::Look look,
                     std::size_t& passed_over) {
  std::vector<program::NodeId> roots;
  judge::Formula::collect(r, roots);
  engine::Evaluator evaluator(*atoms(), roots);
  engine::BlockEvaluator block(*atoms(), {roots});
  std::vector<double> read;
  judge::Formula formula(r, 0, 0, look);
  std::vector<std::vector<double>> expressions;
  std::vector<Said> got;
  double worst = kFar;
  const auto drain = [&] {
    while (const auto held = look == judge::Formula::Look::at_all ? std::nullopt : formula.held()) {
      if (held->count == 0) return;
      if (held->least == kFar) passed_over += held->count;
      worst = std::min(worst, held->least);
      for (std::size_t i = 0; i < held->count; ++i) got.push_back({trace.at[got.size()], std::nullopt, worst});
    }
    Time at{};
    for (judge::Value trigger, check; formula.next(at, trigger, check);) {
      got.push_back({at, check, 0});
      if (std::isfinite(check.low)) worst = std::min(worst, check.low);
    }
  };
  // Blocks of all lengths, so that what is in_flight at their borders is looked at too.
  for (std::size_t i = 0, rows = 0, length = 1; i < trace.at.size(); ++i) {
    evaluator.evaluate(trace.images[i].data());
    auto& row = expressions.emplace_back();
    for (std::size_t e = 0; e < roots.size(); ++e) row.push_back(evaluator.value(e));
    read.resize((rows + 1) * block.row_size());
    block.gather(trace.images[i].data(), read.data() + rows++ * block.row_size());
    if (rows < length && i + 1 < trace.at.size()) continue;
    block.load(read.data(), rows);
    block.compute(0);
    block.outline(0);
    for (std::size_t e = 0; e < roots.size(); ++e) {
      const program::Interval& range = block.range(e);
      for (std::size_t k = 0; k < rows; ++k) {
        if (std::bit_cast<std::uint64_t>(block.column(e)[k]) !=
            std::bit_cast<std::uint64_t>(expressions[i + 1 - rows + k][e]))
          return "a block gives other values than its images";
        if (!range.unknown() && !(block.column(e)[k] >= range.low && block.column(e)[k] <= range.high))
          return "a value outside of its interval";
      }
    }
    formula.block(&trace.at[i + 1 - rows], rows, block, worst);
    drain();
    rows = 0;
    length = 1 + (length * 7 + 3) % 64;
  }
  formula.finish(block);
  drain();
  const Naive naive(r, trace, expressions);
  for (std::size_t i = 0; i < trace.at.size(); ++i) {
    if (i >= got.size() || got[i].at != trace.at[i]) return "not every instant was judged once, in order";
    const judge::Value expected = naive.at(r.check_root, i);
    if (!got[i].check) {
      if (expected.certain && expected.low >= got[i].least) continue;
      return fmt::format("at {}: {} instead of at least {}", trace.at[i].count(), text(expected), got[i].least);
    }
    const judge::Value& said = *got[i].check;
    const bool same = near(expected.low, said.low) && near(expected.high, said.high) &&
                      expected.certain == said.certain && expected.possible == said.possible;
    if (!same) return fmt::format("at {}: {} instead of {}", trace.at[i].count(), text(said), text(expected));
  }
  return {};
}

/// A ramp x(t) = t, judged for some seconds.
judge::Verdict verdict(const std::string& formula, double seconds = 4,
                       observe::Ending ending = observe::Ending::completed) {
  Seen seen(program_of(fmt::format(R"(
bench B {{ step 10 ms
  let x : cm = time * 1 m/s
  let mass : kg = time * 1 kg/s
  let on : bool = time > 0.995 s and time < 1.995 s
  let late : bool = time > 2.495 s
}}
requirement R {{ {} }})",
                                   formula)));
  bench::RunPlan plan;
  plan.longest = time_from_seconds(seconds);
  run_bench(seen, plan);
  return seen.judge.verdicts(ending)[0];
}

using judge::Answer;

}  // namespace

TEST_CASE("Twenty thousand formulas at random are judged as their definitions say") {
  RandomStream random(20261124, "formulas");
  for (int k = 0; k < 20'000; ++k) {
    program::Requirement r;
    r.check_root = grow(random, r, 1 + static_cast<int>(random.uniform() * 4));
    std::size_t none = 0;
    const std::string found = compared(r, trace_of(random), judge::Formula::Look::at_all, none);
    INFO("formula " << k);
    REQUIRE(found == "");
  }
}

TEST_CASE("Instants that are passed over hold, and are not worse than what was") {
  RandomStream random(20261129, "calm");
  std::size_t passed_over = 0, all = 0;
  for (int k = 0; k < 4'000; ++k) {
    program::Requirement r;
    r.check_root = grow(random, r, 1 + static_cast<int>(random.uniform() * 4), 7);
    const Trace trace = calm_trace_of(random);
    const std::string found = compared(r, trace, judge::Formula::Look::where_it_matters, passed_over);
    INFO("formula " << k);
    REQUIRE(found == "");
    all += trace.at.size();
  }
  INFO(passed_over << " of " << all);
  CHECK(passed_over > all / 10);
}

TEST_CASE("eventually is broken at the end where it never came, and its margin is the best there was") {
  auto v = verdict("eventually x > 300 cm");
  CHECK(v.answer == Answer::held);
  CHECK(*v.worst_margin == Approx(1.0));
  CHECK(*v.worst_at == Time{4'000'000'000});
  v = verdict("eventually x > 500 cm");
  CHECK(v.answer == Answer::broken);
  CHECK(*v.first_breach == Time{4'000'000'000});
  CHECK(*v.worst_margin == Approx(-1.0));
  CHECK(verdict("eventually x > 500 cm", 4, observe::Ending::diverged).answer == Answer::undecided);
  CHECK(verdict("eventually x > 500 cm", 4, observe::Ending::cut_short).answer == Answer::undecided);
  CHECK(verdict("eventually x > 300 cm", 4, observe::Ending::cut_short).answer == Answer::held);
  CHECK(verdict("on until late", 2, observe::Ending::cut_short).answer == Answer::broken);
  CHECK(verdict("not late until late", 2, observe::Ending::cut_short).answer == Answer::undecided);
  CHECK(verdict("always x <= 500 cm", 4, observe::Ending::cut_short).answer == Answer::held);
  CHECK(verdict("eventually x > 500 cm", 4, observe::Ending::interrupted).answer == Answer::interrupted);
  CHECK(verdict("eventually late stays for 1 s").answer == Answer::held);
  CHECK(verdict("eventually late stays for 2 s").answer == Answer::undecided);
  CHECK(verdict("eventually on stays for 2 s").answer == Answer::broken);
}

TEST_CASE("A until B") {
  CHECK(verdict("x < 150 cm until on").answer == Answer::held);
  CHECK(*verdict("x < 150 cm until on").worst_margin == Approx(0.51));  // at 0.99 s, before it comes at 1 s
  const auto v = verdict("x < 50 cm until on");
  CHECK(v.answer == Answer::broken);
  CHECK(*v.first_breach == Time{500'000'000});
  CHECK(verdict("x < 9 m until x > 8 m").answer == Answer::broken);  // it never came
  CHECK(verdict("x < 150 cm until on within 2 s").answer == Answer::held);
  CHECK(verdict("x < 150 cm until on within 900 ms").answer == Answer::broken);
  CHECK(verdict("x < 9 m until x > 8 m within 10 s").answer == Answer::undecided);
}

TEST_CASE("Whenever and what must follow, over time") {
  CHECK(verdict("whenever on rises then within 1 s on falls").answer == Answer::held);
  CHECK(verdict("whenever on rises then on stays for 990 ms").answer == Answer::held);
  const auto v = verdict("whenever on rises then on stays for 1 s");
  CHECK(v.answer == Answer::broken);
  CHECK(*v.first_breach == Time{1'000'000'000});  // the instant that was promised something
  CHECK(v.tests == 1);
  CHECK(verdict("whenever late rises then late stays for 2 s").answer == Answer::undecided);
  CHECK(verdict("whenever x > 9 m for at least 1 s then on").answer == Answer::not_tested);
  // On from 1.00 to 1.99 s: at 1.50 s and later it has been on for half a second.
  const auto held = verdict("whenever on for at least 500 ms then x >= 150 cm");
  CHECK(held.answer == Answer::held);
  CHECK(*held.worst_margin == Approx(0).margin(1e-12));
  CHECK(verdict("always (late implies on in the last 3 s)").answer == Answer::held);
  CHECK(verdict("always (late implies on in the last 1 s)").answer == Answer::broken);
  CHECK(verdict("always (late implies (not on) since on)").answer == Answer::held);
  CHECK(verdict("never (on falls and x < 1 m)").answer == Answer::held);
  CHECK(verdict("always (x rises or time < 5 ms)").answer == Answer::held);
}

TEST_CASE("Where units mix, the margin is a share of the limits") {
  // 3 m and 5 kg: at 4 s the mass is 1 kg from 5 kg, a fifth; the length 1 m beyond 3 m, a third.
  const auto v = verdict("always (x < 300 cm or mass < 5 kg)");
  CHECK(v.answer == Answer::held);
  CHECK(*v.worst_margin == Approx(0.2));
  const auto timed = verdict("always (x < 300 cm or mass < 5 kg stays for 10 ms)");
  CHECK(*timed.worst_margin == Approx(0.2));
  CHECK(timed.answer == Answer::undecided);
  CHECK(program_of("bench B { step 1 ms\n  input x : m = 1 m\n}\nrequirement R { always (x < 2 m and time < 9 s) }\n")
            ->requirements[0]
            .margin_unit.text == "of the limit");
}

TEST_CASE("A formula that is broken off gives one message, and what follows is read as ever") {
  const std::string said = diagnostics_of(
      "bench B { step 1 ms\n  input on : bool = true\n}\n"
      "requirement R-1 { always on stays for }\n"
      "scenario s { wait until on within 3 s }\n"
      "condition c = on\n");
  CHECK_THAT(said, Catch::Contains("expected a value") && !Catch::Contains("states no formula") &&
                       !Catch::Contains("bench.dyne:5"));
}

TEST_CASE("What is wrong with a formula over time is said") {
  const auto said = [](const std::string& formula) {
    return diagnostics_of(
        fmt::format("bench B {{ step 1 ms\n  input on : bool = true\n  input x : m = 1 m\n}}\n"
                    "requirement R {{ {} }}\n",
                    formula));
  };
  CHECK_THAT(said("always (on until x > 1 m)"), Catch::Contains("this `until` needs a time"));
  CHECK_THAT(said("on stays for 2 s"), Catch::Contains("this does not say when it must hold"));
  CHECK_THAT(said("always (if on stays for 2 s then on else on)"), Catch::Contains("can only be joined by logic"));
  CHECK_THAT(said("always (on stays for 2 m)"), Catch::Contains("s"));
  CHECK_THAT(said("whenever (on and x rises) rises then on"), Catch::Contains("nothing over time"));
  CHECK_THAT(said("always (x stays for 2 s)"), Catch::Contains("bool"));
  CHECK_THAT(diagnostics_of("bench B { step 1 ms\n  let on : bool = time rises\n}\n"), Catch::Contains("error"));
}
