// What quick parts do between two instants of the bench: seen by recordings, requirements, measures, conditions and
// sensors at the parts' own instants. Compared with closed forms, and with the same bench stepped so often throughout.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/networks/solvers.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/rejudge.h"
#include "isodyne/session/run_folder.h"
#include "isodyne/session/run_service.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

/// A lag of 100 us with a ripple on it, stepped every 1 us, and a bench around it.
std::string quick_bench(const std::string& step, const std::string& records, const std::string& more,
                        const std::string& part = "step 1 us  method rk4") {
  return fmt::format(
      "model Fast {{\n  input u : 1 = 1\n  param lag : s = 100 us\n  output state x : 1 = 0\n  x' = (u - x) / lag\n"
      "  output ripple : 1\n  ripple = x + 0.1 * sin(2 * pi * time * 37 kHz)\n}}\n"
      "bench B {{ step {}  method rk4\n  part fast : Fast {}\n  input cmd : 1 = 1\n  fast.u = cmd\n"
      "  output state slow : 1 = 0\n  slow' = (cmd - slow) / 10 ms\n{}}}\n{}\n"
      "scenario s {{\n  hold 1 ms\n  set cmd = 0.5\n  hold 1 ms\n}}\n",
      step, part, records, more);
}

const char* const kAsked =
    "condition high = fast.ripple > 1.05\n"
    "requirement R-1 { always fast.ripple <= 1.08 }\n"
    "requirement R-2 { always slow <= 0.1 }\n"
    "requirement R-3 { whenever high then within 20 us fast.ripple <= 1.0 }\n"
    "requirement R-4 { whenever high rises then fast.ripple <= 1.07 }\n"
    "requirement R-5 { eventually fast.ripple > 1.099 }\n"
    "measure top { of fast.ripple  most }\n"
    "measure ups { of high  count }\n"
    "requirement R-6 { always top <= 1.05 }\n";

/// The closed form: 1 up to 1 ms, then 0.5.
double x_at(double t) {
  constexpr double lag = 100e-6, turn = 1e-3;
  if (t <= turn) return 1 - std::exp(-t / lag);
  return 0.5 + (0.5 - std::exp(-turn / lag)) * std::exp(-(t - turn) / lag);
}

struct QuickRun {
  TestFolder folder;
  session::RunOutcome outcome;
  std::unique_ptr<record::Recording> recording;

  explicit QuickRun(const std::string& text, const std::function<void(bench::RunPlan&)>& change = {}) {
    const check::Loaded loaded = load_text(text);
    INFO(loaded.diagnostics.render(*loaded.sources, false));
    REQUIRE(loaded.program != nullptr);
    session::RunRequest request;
    request.bench = session::bench_of(loaded, "");
    request.plan.scenario = 0;
    if (change) change(request.plan);
    request.evidence.in_catalogue = false;
    request.evidence.folder = *session::make_run_folder(folder / "run", "");
    outcome = session::run_here(request);
    INFO(outcome.why());
    REQUIRE(outcome.summary);
    auto opened = record::Recording::open_run(request.evidence.folder);
    REQUIRE(opened);
    recording = std::move(*opened);
  }
  std::vector<double> values(const std::string& name) const { return *recording->signal(name); }
  const session::SummaryRow& row(const std::string& name) const {
    for (const session::SummaryRow& r : outcome.summary->rows) {
      if (r.name == name) return r;
    }
    FAIL(name);
    return outcome.summary->rows.front();
  }
};

const char* const kEach = "  record fast.*, high every 1 us\n";

void same_verdicts(const std::vector<session::SummaryRow>& a, const std::vector<session::SummaryRow>& b) {
  REQUIRE(a.size() == b.size());
  for (std::size_t i = 0; i < a.size(); ++i) {
    INFO(a[i].name);
    CHECK(a[i].answer == b[i].answer);
    CHECK(a[i].tests == b[i].tests);
    CHECK(a[i].first_breach_s == b[i].first_breach_s);
    CHECK(a[i].worst_margin == b[i].worst_margin);
    CHECK(a[i].worst_at_s == b[i].worst_at_s);
    CHECK(a[i].breaches_s == b[i].breaches_s);
  }
}

void same_to_the_bit(const QuickRun& a, const QuickRun& b, const std::vector<std::string>& names) {
  for (const std::string& name : names) {
    INFO(name);
    CHECK(a.recording->times_of(name) == b.recording->times_of(name));
    CHECK(a.values(name) == b.values(name));
  }
}

}  // namespace

TEST_CASE("What a quick part does is recorded at its own instants, as its equations say") {
  const QuickRun run(quick_bench("50 us", kEach, kAsked));
  const auto x = run.values("fast.x"), ripple = run.values("fast.ripple"), high = run.values("high");
  const auto& times = run.recording->times_of("fast.x");
  REQUIRE(times.size() == 2001);
  for (std::size_t i = 0; i < times.size(); ++i) {
    CHECK(times[i] == static_cast<std::int64_t>(i) * 1000);
    const double t = static_cast<double>(i) * 1e-6;
    CHECK(x[i] == Approx(x_at(t)).margin(1e-9));
    CHECK(ripple[i] == Approx(x_at(t) + 0.1 * std::sin(2 * M_PI * t * 37e3)).margin(1e-9));
    CHECK(high[i] == (ripple[i] > 1.05 ? 1 : 0));
  }
  CHECK(run.recording->times_of("slow").size() == 2);  // the rest every 100 ms, and at the end
}

TEST_CASE("Requirements and measures about quick parts are those of the same bench stepped so often throughout") {
  const QuickRun quick(quick_bench("50 us", "", kAsked)), throughout(quick_bench("1 us", "", kAsked));
  auto rows = quick.outcome.summary->rows, others = throughout.outcome.summary->rows;
  // What is about the bench itself is asked at its instants, and stepped in steps of another length.
  CHECK(quick.row("R-2").answer == judge::Answer::broken);
  std::erase_if(rows, [](const auto& r) { return r.name == "R-2"; });
  std::erase_if(others, [](const auto& r) { return r.name == "R-2"; });
  same_verdicts(rows, others);
  CHECK(quick.row("R-1").answer == judge::Answer::broken);
  CHECK(quick.row("R-3").answer == judge::Answer::held);
  CHECK(quick.row("R-5").answer == judge::Answer::held);

  // And by hand, from every row.
  const QuickRun seen(quick_bench("50 us", kEach, kAsked));
  same_verdicts(seen.outcome.summary->rows, quick.outcome.summary->rows);
  const auto ripple = seen.values("fast.ripple"), high = seen.values("high");
  std::int64_t rises = 0;
  double worst = INFINITY;
  for (std::size_t i = 0; i < high.size(); ++i) {
    if (high[i] == 0 || (i > 0 && high[i - 1] != 0)) continue;
    ++rises;
    worst = std::min(worst, 1.07 - ripple[i]);
  }
  CHECK(rises > 20);
  CHECK(seen.row("R-4").tests == rises);
  CHECK(seen.row("R-4").worst_margin == worst);
  CHECK(seen.row("R-6").worst_margin == 1.05 - *std::max_element(ripple.begin(), ripple.end()));
  CHECK(*quick.row("R-1").first_breach_s ==
        static_cast<double>(std::find_if(ripple.begin(), ripple.end(), [](double r) { return r > 1.08; }) -
                            ripple.begin()) /
            1e6);
}

TEST_CASE("Quick rows are the same on the interpreter, on two cores, in parts, paced, and judged again") {
  const std::string text = quick_bench("50 us", kEach, kAsked);
  const QuickRun own(text);
  const std::vector<std::string> names{"fast.x", "fast.ripple", "high", "slow"};
  SECTION("interpreter") {
    const QuickRun other(text, [](bench::RunPlan& p) { p.native.reset(); });
    same_to_the_bit(own, other, names);
    same_verdicts(own.outcome.summary->rows, other.outcome.summary->rows);
  }
  SECTION("native code from the first instant on") {
    const QuickRun other(text, [](bench::RunPlan& p) {
      p.native = engine::NativeSettings::usual();
      p.wait_for_native = true;
    });
    same_to_the_bit(own, other, names);
    same_verdicts(own.outcome.summary->rows, other.outcome.summary->rows);
  }
  SECTION("a core of its own, on one thread and on two") {
    const std::string apart = quick_bench("50 us", kEach, kAsked, "step 1 us  method rk4  on core 1");
    for (const int cores : {1, 2}) {
      const QuickRun other(apart, [&](bench::RunPlan& p) { p.cores = cores; });
      same_to_the_bit(own, other, names);
      same_verdicts(own.outcome.summary->rows, other.outcome.summary->rows);
    }
  }
  SECTION("paced, through the queue") {
    const QuickRun other(text, [](bench::RunPlan& p) { p.pace = bench::PacePlan{0.01, -1}; });
    REQUIRE(other.outcome.summary->timing);
    CHECK(other.outcome.summary->timing->whole());
    same_to_the_bit(own, other, names);
    same_verdicts(own.outcome.summary->rows, other.outcome.summary->rows);
  }
  SECTION("judged again from its recording") {
    const auto opened = session::open_recording(own.folder / "run");
    REQUIRE(opened);
    const auto right = session::judged_again(*opened, observe::Ending::completed);
    CHECK(right.remarks.empty());
    REQUIRE(right.verdicts.size() == own.outcome.summary->rows.size());
    for (std::size_t i = 0; i < right.verdicts.size(); ++i) {
      const session::SummaryRow& r = own.outcome.summary->rows[i];
      INFO(r.name);
      CHECK(right.verdicts[i].answer == r.answer);
      CHECK(right.verdicts[i].tests == r.tests);
      CHECK(right.verdicts[i].worst_margin == r.worst_margin);
    }
  }
  SECTION("the reference has rows there too") {
    const QuickRun other(text, [](bench::RunPlan& p) { p.reference = true; });
    const auto x = other.values("fast.x");
    REQUIRE(x.size() == 2001);
    for (std::size_t i = 0; i < x.size(); ++i) CHECK(x[i] == Approx(x_at(static_cast<double>(i) * 1e-6)).margin(1e-9));
  }
}

TEST_CASE("A recording that shows the bench's instants alone is no evidence about a quick part") {
  const QuickRun thin(
      quick_bench("50 us", "  record every 50 us\n", "requirement R-1 { always fast.ripple <= 1.2 }\n"));
  CHECK(thin.row("R-1").answer == judge::Answer::held);
  auto opened = session::open_recording(thin.folder / "run",
                                        check::Rules{"r", "requirement N-1 { always fast.ripple <= 1.2 }", true});
  REQUIRE(opened);
  REQUIRE(opened->loaded.program != nullptr);
  const auto right = session::judged_again(*opened, observe::Ending::completed);
  CHECK(right.verdicts[0].answer == judge::Answer::undecided);
  REQUIRE(right.remarks.size() == 1);
  CHECK(has(right.remarks[0], "an image every 50 µs, where the run was judged every 1 µs"));
  CHECK(has(right.remarks[0], "record … every 1 µs"));
}

TEST_CASE("What was judged between two instants is in the recording around the worst one") {
  const QuickRun run(
      quick_bench("50 us", "  record every 100 us\n", "requirement R-1 { always fast.ripple <= 1.08 }\n"));
  const double worst = *run.row("R-1").worst_margin, at = *run.row("R-1").worst_at_s;
  bool found = false;
  for (const auto& [ns, value] : run.recording->judged_rows("fast.ripple"))
    found = found || (static_cast<double>(ns) / 1e9 == at && 1.08 - value == worst);
  CHECK(found);
}

TEST_CASE("A condition that comes true between two instants makes a recording keep what is around it") {
  // The ripple is above 1.099 for a microsecond or two at a time, and never at an instant of the bench.
  const QuickRun run(quick_bench("50 us",
                                 "  record fast.ripple every 1 us when peak rises with 3 us before and 2 us after\n",
                                 "condition peak = fast.ripple > 1.099\n"));
  const QuickRun each(quick_bench("50 us", kEach, "condition high = fast.ripple > 1.099\n"));
  const auto all = each.values("fast.ripple");
  std::vector<std::int64_t> wanted;
  for (std::int64_t i = 1; i < 2001; ++i) {
    const auto at = [&](std::int64_t k) { return all[static_cast<std::size_t>(k)]; };
    if (!(at(i) > 1.099) || at(i - 1) > 1.099) continue;
    CHECK(i % 50 != 0);
    for (std::int64_t k = i - 3; k <= i + 2; ++k) {
      if (wanted.empty() || k * 1000 > wanted.back()) wanted.push_back(k * 1000);
    }
  }
  REQUIRE(!wanted.empty());
  const auto& times = run.recording->times_of("fast.ripple");
  std::vector<std::int64_t> kept;
  for (std::size_t i = 0; i < times.size(); ++i) kept.push_back(times[i]);
  CHECK(kept == wanted);
}

TEST_CASE("A sensor of a quick part samples between two instants of the bench, with its faults and its noise") {
  const std::string sensors =
      "  sensor seen { of fast.ripple  every 10 us }\n  sensor noisy { of fast.x  every 5 us  noise 0.01 }\n"
      "  sensor narrow { of fast.ripple  range 0 .. 1  every 10 us }\n"
      "  record fast.*, seen, noisy, narrow every 1 us\n";
  const std::string more = "fault high { on seen  offset 0.25  from 1.5 ms }\n";
  const auto change = [](bench::RunPlan& p) { p.faults = {0}; };
  const QuickRun run(quick_bench("50 us", sensors, more), change);
  const auto ripple = run.values("fast.ripple"), seen = run.values("seen"), noisy = run.values("noisy"),
             narrow = run.values("narrow"), x = run.values("fast.x");
  double sum = 0, squares = 0;
  for (std::size_t i = 0; i < ripple.size(); ++i) {
    const std::size_t sampled = i / 10 * 10;
    CHECK(seen[i] == ripple[sampled] + (sampled >= 1500 ? 0.25 : 0));
    CHECK(narrow[i] == std::clamp(ripple[sampled], 0.0, 1.0));
    if (i % 5 != 0) CHECK(noisy[i] == noisy[i - 1]);
    const double off = noisy[i / 5 * 5] - x[i / 5 * 5];
    sum += off;
    squares += off * off;
  }
  const double count = static_cast<double>(ripple.size());
  CHECK(std::abs(sum / count) < 0.002);
  CHECK(std::sqrt(squares / count) == Approx(0.01).epsilon(0.15));
  // Where it left its range is told with the instant.
  const auto events = run.recording->events();
  const auto left = std::find_if(events.begin(), events.end(), [](const auto& e) { return e.subject == "narrow"; });
  REQUIRE(left != events.end());
  std::size_t first = 0;
  while (narrow[first] == ripple[first / 10 * 10]) ++first;
  CHECK(left->at.count() == static_cast<std::int64_t>(first) * 1000);
  const QuickRun other(quick_bench("50 us", sensors, more), [&](bench::RunPlan& p) {
    change(p);
    p.native = engine::NativeSettings::usual();
    p.wait_for_native = true;
  });
  same_to_the_bit(run, other, {"seen", "noisy", "narrow"});
}

TEST_CASE("What triggers a fault, ends a wait or breaks an expectation may come and go between two instants") {
  // A peak of a microsecond or two, never at an instant of the bench: 1.099 is passed some times from 0.5 ms on.
  const std::string text =
      quick_bench("50 us", "  input marked : bool = false\n  record fast.ripple every 1 us\n",
                  "condition peak = fast.ripple > 1.099\nfault hit { on cmd  force 0.25  once peak }\n"
                  "scenario waits {\n  wait until peak within 2 ms\n  set marked = true\n  hold 200 us\n}\n"
                  "scenario hopes {\n  expect fast.ripple < 1.099 for 1 ms\n  hold 100 us\n}\n");
  const QuickRun seen(quick_bench("50 us", kEach, "condition high = peak\ncondition peak = fast.ripple > 1.099\n"));
  const auto ripple = seen.values("fast.ripple");
  std::int64_t first = 0;
  while (!(ripple[static_cast<std::size_t>(first)] > 1.099)) ++first;
  REQUIRE(first % 50 != 0);
  // It is heeded by what the instant of the bench behind it decides, which is done at the next one.
  const std::int64_t done = (first / 50 + 2) * 50'000;
  const auto scenario = [](int index) { return [index](bench::RunPlan& p) { p.scenario = index; }; };
  const QuickRun waits(text, scenario(0));
  CHECK(waits.outcome.ending == observe::Ending::completed);
  std::optional<Time> set;
  for (const auto& e : waits.recording->events()) {
    if (e.subject == "marked") set = e.at;
  }
  REQUIRE(set);
  CHECK(set->count() == done);
  const QuickRun hit(text, [](bench::RunPlan& p) {
    p.scenario = 2;
    p.faults = {0};
  });
  std::optional<Time> on;
  for (const auto& e : hit.recording->events()) {
    if (e.kind == observe::event_word(observe::EventKind::fault_on)) on = e.at;
  }
  REQUIRE(on);
  CHECK(on->count() == done);
  // And what ends a fault is heeded as late.
  const QuickRun ends(
      quick_bench("50 us", "",
                  "condition peak = fast.ripple > 1.099\nfault on { on cmd  times 1  from 100 us  until peak }\n"),
      [](bench::RunPlan& p) { p.faults = {0}; });
  std::optional<Time> off;
  for (const auto& e : ends.recording->events()) {
    if (e.kind == observe::event_word(observe::EventKind::fault_off)) off = e.at;
  }
  REQUIRE(off);
  CHECK(off->count() == done);
  const QuickRun hopes(text, scenario(1));
  REQUIRE(hopes.outcome.summary->rows.size() == 1);
  CHECK(hopes.outcome.summary->rows[0].answer == judge::Answer::broken);
  CHECK(*hopes.outcome.summary->rows[0].first_breach_s == Approx(static_cast<double>(first) * 1e-6));
  CHECK(*hopes.outcome.summary->rows[0].worst_margin == 1.099 - ripple[static_cast<std::size_t>(first)]);
}

TEST_CASE("faults --try and a breakpoint see what comes and goes between two instants") {
  const TestFolder folder;
  folder.write("b.dyne",
               quick_bench("50 us", "  record fast.ripple every 1 us\n",
                           "condition peak = fast.ripple > 1.099\nfault hit { on cmd  force 0.25  once peak }\n"));
  const auto run = [&](const std::string& words) {
    const Output o = run_isodyne(words, folder.path());
    INFO(o.out << o.err);
    CHECK(o.status == 0);
    return o;
  };
  const QuickRun seen(quick_bench("50 us", kEach, "condition high = peak\ncondition peak = fast.ripple > 1.099\n"));
  const auto ripple = seen.values("fast.ripple");
  std::int64_t first = 0;
  while (!(ripple[static_cast<std::size_t>(first)] > 1.099)) ++first;
  shows(run("faults b.dyne --try").out, fmt::format("s at {} µs", first));
  run("run b.dyne s --break \"fast.ripple > 1.099\" --break-dump d.json --no-report --out r");
  const std::string dump = slurp(folder / "d.json");
  shows(dump, fmt::format("(it came true at {})", format_instant(Time{first * 1000})));
  shows(dump, fmt::format("{{\"time_ns\":{},", (first / 50 + 1) * 50'000));
  // A quantity that nobody else looks at, in a bench that records nothing of it.
  folder.write("b.dyne", quick_bench("50 us", "", ""));
  run("run b.dyne s --break \"fast.ripple > 1.099\" --break-dump e.json --no-report --out r2");
  shows(slurp(folder / "e.json"), "(it came true at ");
}

TEST_CASE("No verdict and no sample rests on what is no number between two instants of the bench") {
  // 0 / 0 when 7 us have been counted, and a number again from there on.
  const std::string model =
      "model Fast {\n  memory k : int = 0\n  every 1 us { k := k + 1 }\n  output q : 1\n  q = 0 / (k - 7)\n"
      "  output fine : 1\n  fine = 1 / (k + 1)\n}\n";
  const auto run = [&](const std::string& inside, const std::string& more) {
    return QuickRun(model + "bench B { step 50 us\n  part fast : Fast step 1 us\n" + inside + "}\n" + more +
                    "scenario s { hold 1 ms }\n");
  };
  struct Case {
    const char *inside, *more, *reader;
  };
  for (const Case& c :
       {Case{"", "requirement R-1 { always not (fast.q > 5) }\n", "requirement `R-1`"},
        Case{"", "requirement R-1 { always fast.fine > 0 implies not (fast.q > 5) }\n", "requirement `R-1`"},
        Case{"", "measure top { of fast.q  most }\n", "measure `top`"},
        Case{"  sensor s1 { of fast.q  every 5 us }\n", "", "sensor `s1`"}}) {
    INFO(c.inside << c.more);
    const QuickRun bad = run(c.inside, c.more);
    CHECK(bad.outcome.ending == observe::Ending::diverged);
    CHECK(has(bad.outcome.why(), c.reader));
    for (const session::SummaryRow& r : bad.outcome.summary->rows) CHECK(r.answer != judge::Answer::held);
  }
  const QuickRun good = run("", "requirement R-1 { always fast.fine > 0 }\n");
  CHECK(good.outcome.ending == observe::Ending::completed);
  CHECK(good.row("R-1").answer == judge::Answer::held);
}

TEST_CASE("A plant that breaks down between two instants leaves the rows up to there") {
  const std::string text =
      "model Fast { output state x : 1 = 1\n x' = x^2 / 1 ms }\n"
      "bench B { step 500 us  method rk4\n  part fast : Fast step 1 us  method rk4\n  record fast.x every 1 us\n}\n"
      "requirement R-1 { always fast.x <= 100 }\nscenario s { hold 5 ms }\n";
  for (const bool paced : {false, true}) {
    const QuickRun run(text, [&](bench::RunPlan& p) {
      if (paced) p.pace = bench::PacePlan{0.1, -1};
    });
    CHECK(run.outcome.ending == observe::Ending::diverged);
    const auto x = run.values("fast.x");
    REQUIRE(x.size() > 990);
    CHECK(x[990] == Approx(1 / (1 - 0.990)).epsilon(1e-3));  // 1 / (1 - t / 1 ms)
    CHECK(run.row("R-1").answer == judge::Answer::broken);
    CHECK(*run.row("R-1").first_breach_s == Approx(0.991e-3).margin(2e-6));
  }
}

TEST_CASE("What is read of a circuit between two instants of the bench is what is read at them") {
  // Few outputs are read as rows of their own, many are added up from what the equations give.
  const std::vector<std::string> outputs{"d.i", "d.p",       "d.conducts", "core.i",     "core.flux", "ring.mid.v",
                                         "l.p", "turn.i[2]", "feed.p",     "ring.top.i", "c.i",       "sw.i"};
  const auto run_with = [&](const char* step) {
    return QuickRun(
        std::string("use library \"circuits.dyne\"\n"
                    "model Ring {\n  terminal top, earth : electric\n  node mid : electric\n"
                    "  part l : Inductor(inductance = 0.1 mH, resistance = 1 ohm) between top, mid\n"
                    "  part c : Capacitor(capacitance = 1 uF, resistance = 10 mohm) between mid, earth\n}\n"
                    "bench B { step ") +
            step + "\n  record " + fmt::format("{}", fmt::join(outputs, ", ")) +
            " every 1 us\n  node top, mid, low, far : electric\n"
            "  part feed : VoltageSource between top, ground  step 1 us\n"
            "  feed.voltage = 100 V * sin(2 * pi * 1 rad * 10 kHz * time)\n"
            "  part l : Inductor(inductance = 0.05 mH, resistance = 0.1 ohm) between top, mid  step 1 us\n"
            "  part d : Diode(resistance = 20 mohm, drop = 0.8 V) between mid, ground  step 1 us\n"
            "  part sw : Switch between mid, low  step 1 us\n  sw.close = true\n"
            "  part core : KneeCore(inductance = 5 mH, saturated = 0.1 mH, knee = 0.4 mWb, loss_resistance = 1 kohm) "
            "between low, ground  step 1 us\n"
            "  part turn : Ideal(turns = [2, 1]) between [mid, far], [ground, ground]  step 1 us\n"
            "  part load : Resistor(resistance = 20 ohm) between far, ground  step 1 us\n"
            "  part c : Capacitor(capacitance = 0.2 uF, resistance = 1 ohm) between low, ground  step 1 us\n"
            "  part ring : Ring between mid, ground  step 1 us\n}\nscenario s { hold 2 ms }\n",
        [](bench::RunPlan& p) { p.networks = networks::solvers(); });
  };
  const QuickRun quick = run_with("50 us"), throughout = run_with("1 us");
  for (const std::string& name : outputs) {
    INFO(name);
    const std::vector<double> a = quick.values(name), b = throughout.values(name);
    REQUIRE(a.size() == 2001);
    REQUIRE(b.size() == a.size());
    double largest = 0;
    for (const double v : b) largest = std::max(largest, std::abs(v));
    CHECK(largest > 1e-6);  // it moves at all
    for (std::size_t k = 0; k < a.size(); ++k) REQUIRE(a[k] == Approx(b[k]).epsilon(1e-9).margin(1e-10 * largest));
  }
}

namespace {
/// A leg with its modulator, a choke, and a source that moves; `inside` lies beside it in the bench, `hull` in its
/// model.
std::string switching(const std::string& recorded, const std::string& inside, const std::string& hull = "",
                      const std::string& more = "scenario s { hold 5 ms }\n") {
  return "use library \"circuits.dyne\"\nmodel Hull {\n  terminal earth : electric\n  input upper, lower : gate\n"
         "  output flow : A\n  node plus, mid, far : electric\n"
         "  part s : VoltageSource between plus, earth\n  s.voltage = 100 V\n"
         "  part leg : Leg between plus = plus, minus = earth, out = mid\n"
         "  part choke : Inductor(inductance = 1 mH, resistance = 1 ohm) between mid, far\n"
         "  part grid : VoltageSource between far, earth\n"
         "  grid.voltage = 40 V + 30 V * sin(2 * pi * 1 rad * 400 Hz * time)\n"
         "  leg.upper = upper\n  leg.lower = lower\n  flow = choke.i\n" +
         hull +
         "}\nmodel Listener {\n  input i : A\n  output state sum : A*s = 0 A*s\n  sum' = i\n}\n"
         "model Falling { output state x : 1 = 1\n x' = x^2 / 3.1234 ms }\n"
         "model Clock { output state angle : 1 = 0\n  angle' = 1000 / 1 s }\n"
         "bench B { step 50 us  method rk4\n  record " +
         recorded +
         "\n  part pwm : Modulator(frequency = 17 kHz, dead_time = 1 us)\n  pwm.reference = 0.2\n"
         "  part hull : Hull at ground  step 1 us\n  hull.upper = pwm.upper\n  hull.lower = pwm.lower\n" +
         inside + "}\n" + more;
}
QuickRun switching_run(const std::string& text) {
  return QuickRun(text, [](bench::RunPlan& p) { p.networks = networks::solvers(); });
}
const char* const kListens = "  part ear : Listener step 1 us  method rk4\n  ear.i = hull.choke.i\n";
}  // namespace

TEST_CASE("What a circuit notes down on its way is, to the bit, what it shows where somebody listens at each step") {
  const std::string recorded = "hull.choke.i, hull.mid.v, hull.flow, hull.leg.high.i every 1 us";
  const std::string judged =
      "requirement R-1 { always abs(hull.choke.i) <= 30 A }\nrequirement R-2 { always hull.flow > 10 A or time < 200 "
      "us }\n"
      "measure top { of hull.choke.i  most }\nrequirement R-3 { always top <= 1 A }\n"
      "condition low = hull.mid.v < 1 V\nmeasure lows { of low  count }\nrequirement R-4 { always lows < 5 }\n"
      "scenario s { hold 5 ms }\n";
  const QuickRun noted = switching_run(switching(recorded, "", "", judged)),
                 asked = switching_run(switching(recorded, kListens, "", judged));
  REQUIRE(noted.values("hull.choke.i").size() == 5001);
  same_to_the_bit(noted, asked, {"hull.choke.i", "hull.mid.v", "hull.flow", "hull.leg.high.i"});
  CHECK(noted.values("hull.flow") == noted.values("hull.choke.i"));
  same_verdicts(noted.outcome.summary->rows, asked.outcome.summary->rows);
  CHECK(noted.row("R-3").answer == judge::Answer::broken);
}

TEST_CASE("Where something else stops halfway, what a circuit noted down goes as far as the others") {
  const std::string recorded = "hull.choke.i, hull.mid.v, falling.x every 1 us",
                    falls = "  part falling : Falling step 1 us  method rk4\n";
  const QuickRun noted = switching_run(switching(recorded, falls)),
                 asked = switching_run(switching(recorded, falls + kListens)),
                 whole = switching_run(switching("hull.choke.i, hull.mid.v every 1 us", ""));
  for (const QuickRun* run : {&noted, &asked}) {
    CHECK(run->outcome.ending == observe::Ending::diverged);
    CHECK(run->values("falling.x").size() == run->values("hull.choke.i").size());
  }
  const std::vector<double> i = noted.values("hull.choke.i"), all = whole.values("hull.choke.i");
  REQUIRE(i.size() > 3100);
  CHECK(i.size() % 50 > 1);  // not an instant of the bench
  CHECK(i == std::vector<double>(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(i.size())));
  same_to_the_bit(noted, asked, {"hull.choke.i", "hull.mid.v", "falling.x"});
}

TEST_CASE("A circuit that cannot go on leaves what it noted down up to there, and no more") {
  // Beyond 62.5 us its source has no value.
  const auto source = [](std::string text) {
    const std::string was = "40 V + 30 V * sin(2 * pi * 1 rad * 400 Hz * time)";
    return text.replace(text.find(was), was.size(), "5 V * sqrt((62.5 us - time) / 1 us)");
  };
  const std::string recorded = "hull.choke.i, hull.mid.v, clock.angle every 1 us",
                    clock = "  part clock : Clock step 1 us  method rk4\n";
  const QuickRun noted = switching_run(source(switching(recorded, clock))),
                 asked = switching_run(source(switching(recorded, clock + kListens)));
  for (const QuickRun* run : {&noted, &asked}) {
    CHECK(run->outcome.ending == observe::Ending::diverged);
    INFO(run->outcome.why());
    CHECK(has(run->outcome.why(), "at 0.000062 s"));
    CHECK(has(run->outcome.why(), "it gives no number for"));
    CHECK(run->values("hull.choke.i").size() == 63);
    CHECK(run->recording->times().back() <= 62'000);
  }
  same_to_the_bit(noted, asked, {"hull.choke.i", "hull.mid.v", "clock.angle"});
}

TEST_CASE("What a circuit notes down is held until its next step where others are seen more often") {
  const std::string
      clock = "  part clock : Clock step 1 us  method rk4\n",
      ear = "  part ear : Listener step 5 us  method rk4\n  ear.i = hull.choke.i\n",
      judged =
          "measure both { of hull.choke.i * (clock.angle + 1)  most }\nrequirement R-1 { always both <= 1 A }\n"
          "requirement R-2 { always hull.choke.i * sin(clock.angle * 3 rad) <= 2 A }\nscenario s { hold 5 ms }\n";
  const auto run = [&](const std::string& inside) {
    std::string text = switching("hull.choke.i every 5 us\n  record clock.angle every 1 us", inside, "", judged);
    return switching_run(text.replace(text.find("step 1 us\n  hull.upper"), 9, "step 5 us"));
  };
  const QuickRun noted = run(clock), asked = run(clock + ear);
  REQUIRE(noted.values("hull.choke.i").size() == 1001);
  REQUIRE(noted.values("clock.angle").size() == 5001);
  same_to_the_bit(noted, asked, {"hull.choke.i", "clock.angle"});
  same_verdicts(noted.outcome.summary->rows, asked.outcome.summary->rows);
  CHECK(noted.row("R-2").answer == judge::Answer::broken);
}

TEST_CASE("Circuits on two cores note down what they would on one, and what somebody hears at each step") {
  const auto run = [](const std::string& ears, std::int32_t cores) {
    return QuickRun(
        "use library \"circuits.dyne\"\nmodel Ring {\n  terminal earth : electric\n  node top, mid : electric\n"
        "  part s : VoltageSource between top, earth\n  s.voltage = 10 V * sin(2 * pi * 1 rad * 3 kHz * time)\n"
        "  part l : Inductor(inductance = 0.1 mH, resistance = 1 ohm) between top, mid\n"
        "  part d : Diode between mid, earth\n"
        "  part c : Capacitor(capacitance = 1 uF, resistance = 10 mohm) between mid, earth\n}\n"
        "model Ear {\n  input i : A\n  output state sum : A*s = 0 A*s\n  sum' = i\n}\n"
        "bench B { step 50 us  method rk4\n  record one.l.i, one.mid.v every 1 us\n"
        "  record two.l.i, two.mid.v every 2 us\n  part one : Ring at ground  step 1 us\n"
        "  part two : Ring at ground  step 2 us on core 1\n" +
            ears +
            "}\nrequirement R-1 { always one.l.i * two.l.i < 1 A^2 }\n"
            "measure apart { of one.l.i - two.l.i  most }\nrequirement R-2 { always apart < 0.001 A }\n"
            "scenario s { hold 20 ms }\n",
        [&](bench::RunPlan& p) {
          p.networks = networks::solvers();
          p.cores = cores;
        });
  };
  const std::string ears =
      "  part near : Ear step 1 us  method rk4\n  near.i = one.l.i\n"
      "  part far : Ear step 2 us  method rk4 on core 1\n  far.i = two.l.i\n";
  const QuickRun one = run("", 1), two = run("", 2), asked = run(ears, 2);
  const std::vector<std::string> names{"one.l.i", "one.mid.v", "two.l.i", "two.mid.v"};
  REQUIRE(one.values("one.l.i").size() == 20'001);
  same_to_the_bit(one, two, names);
  same_to_the_bit(one, asked, names);
  same_verdicts(one.outcome.summary->rows, two.outcome.summary->rows);
  same_verdicts(one.outcome.summary->rows, asked.outcome.summary->rows);
  CHECK(one.row("R-2").answer == judge::Answer::broken);
}
