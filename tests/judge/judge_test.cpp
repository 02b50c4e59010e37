#include <cmath>
#include <map>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/judge/judge.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A signal x(t) = t as a length, a truth value on from 1 s to 2 s, judged for some seconds.
judge::Verdict verdict(const std::string& formula, double seconds = 4,
                       observe::Ending ending = observe::Ending::completed) {
  const auto p = program_of(fmt::format(R"(
bench B {{ step 10 ms
  let x : cm = time * 1 m/s
  let on : bool = time > 0.995 s and time < 1.995 s
  let late : bool = time > 2.495 s
}}
fault f {{ on x  offset 0 m  from 1 s to 2 s }}
requirement R {{ {} }})",
                                        formula));
  Seen seen(p);
  bench::RunPlan plan;
  plan.faults = {0};
  plan.longest = time_from_seconds(seconds);
  run_bench(seen, plan);
  return seen.judge.verdicts(ending)[0];
}

}  // namespace

TEST_CASE("always is broken at the first instant that breaks it, with the worst margin in its unit") {
  const auto v = verdict("always x <= 300 cm");
  CHECK(v.answer == judge::Answer::broken);
  CHECK(*v.first_breach == Time{3'010'000'000});
  CHECK(*v.worst_margin == Approx(-1.0));
  CHECK(*v.worst_at == Time{4'000'000'000});
  REQUIRE(v.breaches.size() == 1);
  CHECK(v.breaches[0].end == Time{4'000'000'000});
}

TEST_CASE("always that holds tells how near it came") {
  const auto v = verdict("always x <= 5 m");
  CHECK(v.answer == judge::Answer::held);
  CHECK(*v.worst_margin == Approx(1.0));
  CHECK(v.tests == 1);
}

TEST_CASE("An implication is put to the test only where its condition holds") {
  const auto v = verdict("always (on implies x <= 3 m)");
  CHECK(v.answer == judge::Answer::held);
  CHECK(*v.worst_margin == Approx(3 - 1.99));
  CHECK(*v.worst_at == Time{1'990'000'000});
  CHECK(v.tests == 1);
  CHECK(verdict("always (x > 9 m implies on)").answer == judge::Answer::not_tested);
}

TEST_CASE("never is the opposite of always") {
  const auto v = verdict("never (on and x > 1.5 m)");
  CHECK(v.answer == judge::Answer::broken);
  CHECK(*v.first_breach == Time{1'510'000'000});
  CHECK(*v.worst_margin == Approx(-0.49));
  CHECK(verdict("never (on and x > 2 m)").answer == judge::Answer::held);
  CHECK(*verdict("never (on and x > 2 m)").worst_margin == Approx(2 - 1.99));
}

TEST_CASE("whenever … then within measures the time that was left") {
  const auto held = verdict("whenever on then within 2 s late");
  CHECK(held.answer == judge::Answer::held);
  CHECK(*held.worst_margin == Approx(0.5));  // from 1.00 s to 2.50 s took 1.5 of 2 s
  const auto broken = verdict("whenever on then within 1 s late");
  CHECK(broken.answer == judge::Answer::broken);
  CHECK(*broken.first_breach == Time{2'010'000'000});
  CHECK(*broken.worst_margin == Approx(-0.5));
}

TEST_CASE("A run that ends before the answer is due leaves the requirement undecided") {
  CHECK(verdict("whenever on then within 2 s late", 2).answer == judge::Answer::undecided);
  CHECK(verdict("whenever on then within 2 s late", 0.5).answer == judge::Answer::not_tested);
}

TEST_CASE("An interrupted run says so, unless a requirement was broken before") {
  CHECK(verdict("always x <= 5 m", 4, observe::Ending::interrupted).answer == judge::Answer::interrupted);
  CHECK(verdict("always x <= 1 m", 4, observe::Ending::interrupted).answer == judge::Answer::broken);
}

TEST_CASE("A fault becomes active once") {
  const auto v = verdict("whenever f becomes active then within 2 s late");
  CHECK(v.tests == 1);
  CHECK(*v.worst_margin == Approx(0.5));
}

TEST_CASE("Margins of and, or, not and within … of follow the quantitative semantics") {
  CHECK(*verdict("always (x <= 5 m and x >= -2 m)").worst_margin == Approx(1.0));
  CHECK(*verdict("always (x <= 1 m or x >= 0 m)").worst_margin == Approx(0.5));  // at x = 0.5 m both are 0.5 m
  CHECK(*verdict("always not x > 5 m").worst_margin == Approx(1.0));
  CHECK(*verdict("always x within 5 m of 1 m").worst_margin == Approx(2.0));
  CHECK(*verdict("always (x <= 5 m and time <= 9 s)").worst_margin == Approx(0.2));  // units mix: shares of the limits
  CHECK_FALSE(verdict("always (on or not on)").worst_margin);                        // nothing is compared
}

TEST_CASE("Separate breaches are listed separately") {
  const auto p = program_of(
      "bench B { step 10 ms\n let wave : 1 = sin(6.283185307 * time / 1 s) }\nrequirement R { always wave < 0.5 }");
  Seen seen(p);
  run_for(seen, 3);
  const auto v = seen.judge.verdicts(observe::Ending::completed)[0];
  REQUIRE(v.breaches.size() == 3);
  CHECK(to_seconds(v.breaches[1].begin) == Approx(1.085).margin(0.0101));
  CHECK(to_seconds(v.breaches[1].end) == Approx(1.415).margin(0.0101));
}

TEST_CASE("What was judged around the first breach and the worst instant is kept, row by row") {
  const auto p = program_of(
      "bench B {\n  step 1 ms\n  let x : m = (if time >= 3.5 s and time < 3.503 s then 9 m else 0 m) + time * 0.1 m/s\n"
      "  let calm : m = 1 m\n}\n"
      "requirement R-1 { always x < 5 m }\nrequirement R-2 { always calm < 2 m }\n");
  Seen seen(p, {"x"});
  bench::RunPlan plan;
  plan.longest = std::chrono::seconds(8);
  run_bench(seen, plan);
  seen.judge.verdicts(observe::Ending::completed);
  const observe::Witnessed w = seen.judge.witnessed();
  const auto column = std::find(w.columns.begin(), w.columns.end(), p->find("x")) - w.columns.begin();
  std::map<Time, double> kept;
  for (std::size_t i = 0; i < w.times.size(); ++i) {
    CHECK((i == 0 || w.times[i] > w.times[i - 1]));
    const double value = w.rows[i * w.columns.size() + static_cast<std::size_t>(column)];
    if (std::isfinite(value)) kept[w.times[i]] = value;
  }
  // 250 instants on both sides of the first breach at 3.5 s and of the worst at 3.502 s, each what the run had there.
  using std::chrono::milliseconds;
  REQUIRE(kept.size() == 503);
  CHECK(kept.begin()->first == Time(milliseconds(3250)));
  CHECK(kept.rbegin()->first == Time(milliseconds(3752)));
  std::size_t row = 0;
  for (const auto& [at, value] : kept) {
    while (seen.times[row] < at) ++row;
    REQUIRE(seen.times[row] == at);
    CHECK(value == seen.values[0][row]);
  }
}

namespace {

/// What was kept of a quantity, by its instants; and what the run had there.
struct KeptRows {
  std::map<Time, double> kept, all;
  std::vector<judge::Verdict> verdicts;
};

/// `flush_every`: images between two looks, as events of a run make them; 0: none.
KeptRows kept_of(const std::string& text, const std::string& name, Time length, int flush_every = 0) {
  const auto p = program_of(text);
  KeptRows k;
  const program::VarId id = p->find(name);
  struct Looking : observe::Observer {
    judge::Judge judge;
    KeptRows& rows;
    program::VarId id;
    int every, count = 0;
    Looking(std::shared_ptr<const program::Program> program, KeptRows& r, program::VarId i, int e)
        : judge(std::move(program)), rows(r), id(i), every(e) {}
    void image(const observe::Image& image) override {
      judge.image(image);
      rows.all[image.at] = image.variables[id];
      // Irregular: sometimes one image, sometimes several hundred.
      if (every > 0 && (++count % every == 0 || count % 7 == 0)) judge.flush();
    }
  } looking(p, k, id, flush_every);
  bench::RunPlan plan;
  plan.longest = length;
  bench::Run run(p, plan, {}, looking);
  const std::atomic<bool> go_on{false};
  run.execute(go_on);
  k.verdicts = looking.judge.verdicts(observe::Ending::completed);
  const observe::Witnessed w = looking.judge.witnessed();
  const auto column = static_cast<std::size_t>(std::find(w.columns.begin(), w.columns.end(), id) - w.columns.begin());
  for (std::size_t i = 0; i < w.times.size(); ++i) {
    const double value = w.rows[i * w.columns.size() + column];
    if (std::isfinite(value)) k.kept[w.times[i]] = value;
  }
  for (const auto& [at, value] : k.kept) CHECK(k.all.at(at) == value);
  return k;
}

Time ms(std::int64_t n) {
  return std::chrono::milliseconds(n);
}

}  // namespace

TEST_CASE("Around the first and the last instant of a run there is what there is") {
  const auto first = kept_of(
      "bench B {\n  step 1 ms\n  let x : m = if time < 1 ms then 9 m else 0 m\n}\nrequirement R { always x < 5 m }\n",
      "x", ms(2000));
  REQUIRE(!first.kept.empty());
  CHECK(first.kept.begin()->first == Time{});
  CHECK(first.kept.rbegin()->first == ms(250));
  const auto last = kept_of(
      "bench B {\n  step 1 ms\n  let x : m = if time > 1999.5 ms then 9 m else 0 m\n}\n"
      "requirement R { always x < 5 m }\n",
      "x", ms(2000));
  REQUIRE(!last.kept.empty());
  CHECK(last.kept.rbegin()->first == ms(2000));
  CHECK(last.kept.count(ms(1750)) == 1);
}

TEST_CASE("A worst instant that moves all the time is kept where it comes to rest") {
  // It gets worse at every instant up to 5 s, better afterwards.
  const auto k = kept_of(
      "bench B {\n  step 1 ms\n  let x : m = if time < 5 s then time * 1 m/s else 5 m - (time - 5 s) * 1 m/s\n}\n"
      "requirement R { always x < 9 m }\n",
      "x", ms(9000));
  CHECK(*k.verdicts[0].worst_at == ms(5000));
  CHECK(k.kept.begin()->first == ms(4750));
  CHECK(k.kept.rbegin()->first == ms(5250));
  CHECK(k.kept.size() == 501);
}

TEST_CASE("However often something happens that makes the judge look, what is kept is what was there") {
  const std::string text =
      "bench B {\n  step 1 ms\n  let x : m = 3 m * sin(2 rad/s * time) + (if time >= 4.321 s and time < 4.324 s then 9 "
      "m "
      "else 0 m)\n}\nrequirement R { always x < 5 m }\n";
  for (const int every : {0, 1, 2, 3, 50, 127, 128, 129, 255, 256, 257, 400}) {
    INFO(every);
    const auto k = kept_of(text, "x", ms(8000), every);
    REQUIRE(k.verdicts[0].first_breach == ms(4321));
    // Both sides of the breach, to the last instant.
    for (std::int64_t i = 4321 - 250; i <= 4321 + 250; ++i) CHECK(k.kept.count(ms(i)) == 1);
  }
}

TEST_CASE("What is found out too late to have rows has none, and nothing in its place") {
  // Ten seconds after the trigger it turns out that the answer never came: the trigger's own instant is long gone.
  const auto k = kept_of(
      "bench B {\n  step 1 ms\n  let x : m = time * 1 m/s\n  let on : bool = time > 1 s and time < 1.1 s\n}\n"
      "requirement R { always (on implies (within 10 s x > 99 m)) }\n",
      "x", ms(15000));
  REQUIRE(k.verdicts[0].answer == judge::Answer::broken);
  REQUIRE(k.verdicts[0].first_breach);
  CHECK(*k.verdicts[0].first_breach < ms(1100));
  CHECK(k.kept.count(*k.verdicts[0].first_breach) == 0);
}
