// Measures against closed forms, and what requirements make of them; bands around a reference; expectation pairs.

#include <cmath>
#include <map>
#include <numbers>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// Runs a bench of these quantities and gives what was measured.
struct MeasuredRun {
  std::shared_ptr<const program::Program> program;
  std::vector<judge::Measured> all;
  std::vector<judge::Verdict> verdicts;

  MeasuredRun(const std::string& quantities, const std::string& rest, double seconds, const char* step = "1 ms",
              const NamedTexts& files = {}) {
    program = program_of(fmt::format("bench B {{ step {}\n{}\n}}\n{}\n", step, quantities, rest), files);
    struct Collect : observe::Observer {
      judge::Judge judge;
      std::vector<judge::Measured>& all;
      Collect(std::shared_ptr<const program::Program> p, std::vector<judge::Measured>& to)
          : judge(std::move(p)), all(to) {}
      void image(const observe::Image& i) override {
        judge.image(i);
        all.insert(all.end(), judge.measured().begin(), judge.measured().end());
      }
    } collect(program, all);
    bench::RunPlan plan;
    plan.longest = time_from_seconds(seconds);
    for (std::size_t f = 0; f < program->faults.size(); ++f) plan.faults.push_back(static_cast<std::int32_t>(f));
    const std::atomic<bool> stop{false};
    bench::Run run(program, plan, {}, collect);
    run.execute(stop);
    verdicts = collect.judge.verdicts(observe::Ending::completed);
    all.insert(all.end(), collect.judge.measured().begin(), collect.judge.measured().end());
  }
  /// All values of a measure.
  std::vector<double> of(const std::string& name) const {
    std::vector<double> values;
    for (const judge::Measured& m : all) {
      if (program->measures[static_cast<std::size_t>(m.measure)].name == name) values.push_back(m.value);
    }
    return values;
  }
  double one(const std::string& name) const {
    INFO(name);
    REQUIRE(of(name).size() == 1);
    return of(name)[0];
  }
  judge::Verdict verdict(const std::string& name) const {
    for (const judge::Verdict& v : verdicts) {
      if (program->requirements[static_cast<std::size_t>(v.requirement)].name == name) return v;
    }
    FAIL("no " + name);
    return {};
  }
};

}  // namespace

TEST_CASE("Mean, RMS, extremes, ripple and deviation of a sine over whole periods") {
  const MeasuredRun r("let u : V = 3 V + 2 V * sin(2 rad/s * pi * 5 * time)",
                      "measure a { of u  mean  over 1 s .. 3 s }\nmeasure b { of u  rms  over 1 s .. 3 s }\n"
                      "measure c { of u  ripple  over 1 s .. 3 s }\nmeasure d { of u  deviation  over 1 s .. 3 s }\n"
                      "measure e { of u  least }\nmeasure f { of u  most }",
                      4);
  CHECK(r.one("a") == Approx(3).epsilon(1e-6));
  // Straight lines between instants have a little less in them than the sine: a sixth of (2 pi 5 Hz 1 ms)^2 of its
  // square.
  const double share = std::pow(2 * std::numbers::pi * 5e-3, 2) / 6;
  CHECK(r.one("b") == Approx(std::sqrt(9 + 2 * (1 - share))).epsilon(1e-7));
  CHECK(r.one("c") == Approx(4).epsilon(1e-4));
  CHECK(r.one("d") == Approx(std::sqrt(2 * (1 - share))).epsilon(1e-7));
  CHECK(r.one("e") == Approx(1).epsilon(1e-4));
  CHECK(r.one("f") == Approx(5).epsilon(1e-4));
}

TEST_CASE("Integrals of a ramp, its error criteria, and the energy of a power") {
  // e(t) = 1 - t over 0 .. 2: integral 0, |e| 1, e^2 2/3, t |e| 1
  const MeasuredRun r("let e : m = 1 m - 1 m/s * time\nlet p : kW = 2 kW",
                      "measure a { of e  integral  over 0 s .. 2 s }\nmeasure b { of e  iae  over 0 s .. 2 s }\n"
                      "measure c { of e  ise  over 0 s .. 2 s }\nmeasure d { of e  itae  over 0 s .. 2 s }\n"
                      "measure w { of p  energy  over 1 s .. 2.5 s }",
                      3);
  CHECK(r.one("a") == Approx(0).margin(1e-9));
  CHECK(r.one("b") == Approx(1).epsilon(1e-6));
  CHECK(r.one("c") == Approx(2.0 / 3).epsilon(1e-6));
  CHECK(r.one("d") == Approx(1).epsilon(1e-6));
  CHECK(r.one("w") == Approx(3000));
  CHECK(r.program->format(r.program->measures[4].value, r.one("w")) == "3000 J");
}

TEST_CASE("Step response of a second-order system: rise, dead and settling time, over- and undershoot") {
  // x'' + 2 zeta w x' + w^2 x = w^2 from t = 1 s: overshoot exp(-pi zeta / sqrt(1 - zeta^2)), peak at pi / w_d
  const double zeta = 0.3, w = 2;
  const MeasuredRun r(
      "let goal : m = if time >= 0.9995 s then 1 m else 0 m\nstate x : m = 0 m\nstate v : m/s = 0 m/s\n"
      "x' = v\nv' = 4 1/s^2 * (goal - x) - 1.2 1/s * v",
      "condition given = goal > 0.5 m\n"
      "measure rise { of x  rise_time to 1 m  after given for 15 s }\n"
      "measure half { of x  rise_time to 1 m between 0 % and 50 %  after given for 15 s }\n"
      "measure dead { of x  dead_time to 1 m within 5 cm  after given for 15 s }\n"
      "measure settle { of x  settling_time to 1 m within 2 cm  after given for 15 s }\n"
      "measure over { of x  overshoot to 1 m  after given for 15 s }\n"
      "measure under { of x  undershoot to 1 m  after given for 15 s }\n"
      "measure steady { of x  steady_error to 1 m  after given for 15 s }\n"
      "requirement Q { always over <= 40 % }\nrequirement P { always over <= 30 % }\nrequirement N { always settle <= "
      "2 s and over < 90 % }",
      17);
  // the closed form, searched for its crossings
  const double wd = w * std::sqrt(1 - zeta * zeta);
  const auto x = [&](double t) {
    return 1 - std::exp(-zeta * w * t) * (std::cos(wd * t) + zeta * w / wd * std::sin(wd * t));
  };
  const auto first = [&](auto reached) {
    double t = 0;
    while (!reached(x(t))) t += 1e-5;
    return t;
  };
  double last_out = 0;
  for (double t = 0; t < 15; t += 1e-4) last_out = std::abs(x(t) - 1) > 0.02 ? t : last_out;
  const double overshoot = std::exp(-std::numbers::pi * zeta / std::sqrt(1 - zeta * zeta));
  CHECK(r.one("rise") ==
        Approx(first([](double v) { return v >= 0.9; }) - first([](double v) { return v >= 0.1; })).margin(2e-3));
  CHECK(r.one("half") ==
        Approx(first([](double v) { return v >= 0.5; }) - first([](double v) { return v > 0; })).margin(2e-3));
  CHECK(r.one("dead") == Approx(first([](double v) { return v >= 0.05; })).margin(2e-3));
  CHECK(r.one("settle") == Approx(last_out).margin(3e-3));
  CHECK(r.one("over") == Approx(overshoot).epsilon(1e-4));
  CHECK(r.one("under") == Approx(0).margin(1e-6));
  CHECK(r.one("steady") == Approx(x(15) - 1).margin(1e-6));
  CHECK(r.verdict("Q").answer == judge::Answer::held);
  CHECK(*r.verdict("Q").worst_margin == Approx(0.4 - overshoot).margin(1e-4));
  CHECK(r.verdict("P").answer == judge::Answer::broken);
  CHECK(to_seconds(*r.verdict("P").first_breach) == Approx(16));
  CHECK(r.verdict("N").answer == judge::Answer::broken);
}

TEST_CASE("What never arrives did not happen, and breaks what asks for it") {
  const MeasuredRun r(
      "let x : m = 1 m - 0.5 m * exp(-time / 100 s)",
      "measure rise { of x  rise_time to 2 m  over 0 s .. 2 s }\nrequirement Q { always rise <= 100 s }", 3);
  CHECK(std::isnan(r.one("rise")));
  CHECK(r.verdict("Q").answer == judge::Answer::broken);
  CHECK_FALSE(r.verdict("Q").worst_margin);
}

TEST_CASE("Harmonics and distortion of a square wave, phase and frequency of sines") {
  const MeasuredRun r(
      "let u : V = if mod(time, 20 ms) < 10 ms then 1 V else -1 V\n"
      "let s : V = 2 V * sin(2 rad/s * pi * 50 * time)\nlet t : V = 5 V * sin(2 rad/s * pi * 50 * time - 0.5 rad)",
      "measure h1 { of u  harmonic 1 at 50 Hz  over 0 s .. 205 ms }\nmeasure h3 { of u  harmonic 3 at 50 Hz  over 0 s "
      ".. 205 ms }\n"
      "measure h2 { of u  harmonic 2 at 50 Hz  over 0 s .. 205 ms }\nmeasure d { of u  thd at 50 Hz  over 0 s .. 205 "
      "ms }\n"
      "measure lag { of t  phase at 50 Hz against s  over 3 ms .. 400 ms }\nmeasure f { of s  frequency  over 3 ms .. "
      "400 ms }\n"
      "measure clean { of s  thd at 50 Hz  over 0 s .. 400 ms }",
      0.5, "10 us");
  double squares = 0;
  for (int n = 3; n <= 40; n += 2) squares += 1.0 / (n * n);
  CHECK(r.one("h1") == Approx(4 / std::numbers::pi).epsilon(1e-3));
  CHECK(r.one("h3") == Approx(4 / std::numbers::pi / 3).epsilon(3e-3));
  CHECK(r.one("h2") == Approx(0).margin(2e-3));
  CHECK(r.one("d") == Approx(std::sqrt(squares)).epsilon(5e-3));
  CHECK(r.one("lag") == Approx(-0.5).epsilon(1e-5));
  CHECK(r.one("f") == Approx(50).epsilon(1e-6));
  CHECK(r.one("clean") < 1e-4);
}

TEST_CASE("Duty, count and longest of a truth, per period and while something is true") {
  const MeasuredRun r(
      "let on : bool = mod(time, 1 s) < 0.2995 s\nlet busy : bool = time >= 1.9995 s and time < 3.9995 s",
      "measure a { of on  duty  per 2 s }\nmeasure b { of on  count  while busy }\nmeasure c { of on  longest  while "
      "busy }\n"
      "measure d { of on  count }",
      7);
  const auto duty = r.of("a");
  REQUIRE(duty.size() == 4);
  CHECK(duty[0] == Approx(0.3).margin(1e-3));
  CHECK(duty[2] == Approx(0.3).margin(1e-3));
  CHECK(r.one("b") == 2);
  CHECK(r.one("c") == Approx(0.3).margin(2e-3));
  CHECK(r.one("d") == 7);  // at the start it is true, and has not become so
}

TEST_CASE("A stretch between instants ends where it should, and one that the run cuts off decides nothing") {
  const MeasuredRun r("let x : m = time * 1 m/s",
                      "measure a { of x  mean  over 0.25 s .. 0.75 s }\nmeasure late { of x  mean  over 1 s .. 9 s }\n"
                      "requirement Q { always late <= 3 m }\nrequirement R { always a <= 0.6 m }",
                      2, "100 ms");
  CHECK(r.one("a") == Approx(0.5));
  CHECK_FALSE(r.all.back().whole);
  CHECK(r.verdict("Q").answer == judge::Answer::undecided);
  CHECK(*r.verdict("R").worst_margin == Approx(0.1));
}

TEST_CASE("A requirement on a measure whose stretch never came was never put to the test") {
  const MeasuredRun r("let x : m = 1 m",
                      "condition never_so = x > 2 m\nmeasure a { of x  mean  after never_so for 1 s }\nrequirement Q { "
                      "always a <= 3 m }",
                      2);
  CHECK(r.verdict("Q").answer == judge::Answer::not_tested);
}

TEST_CASE("A band around a reference is as wide as is said, in value and in time") {
  // the reference is a triangle; what follows it is 100 ms late and 5 cm high
  const std::string csv = "t [s],level [m]\n0,0\n1,1\n2,0\n3,0\n";
  const auto run = [&](const char* formula) {
    const MeasuredRun r(
        "let goes : s = max(time - 100 ms, 0 s)\n"
        "let x : m = 5 cm + (if goes < 1 s then goes * 1 m/s else max(2 m - goes * 1 m/s, 0 m))",
        fmt::format("requirement Q {{ always {} }}", formula), 2.9, "1 ms", {{"ref.csv", csv}});
    return r.verdict("Q");
  };
  CHECK(run("x within 16 cm of \"ref.csv\" column \"level\"").answer == judge::Answer::held);
  CHECK(run("x within 14 cm of \"ref.csv\" column \"level\"").answer == judge::Answer::broken);
  CHECK(run("x within 6 cm and 100 ms of \"ref.csv\" column \"level\"").answer == judge::Answer::held);
  CHECK(run("x within 4 cm and 100 ms of \"ref.csv\" column \"level\"").answer == judge::Answer::broken);
  // falling: x - ref = 5 cm + 10 cm; with 50 ms of time 5 cm less
  CHECK(*run("x within 20 cm of \"ref.csv\" column \"level\"").worst_margin == Approx(0.05).margin(1e-6));
  CHECK(*run("x within 20 cm and 50 ms of \"ref.csv\" column \"level\"").worst_margin == Approx(0.1).margin(1e-6));
}

TEST_CASE("Expectation pairs become requirements, one for each thing that is or is not to be acted on") {
  const MeasuredRun r("let x : m = time * 1 m/s\nlet trip : bool = time > 2.1 s and time < 5 s",
                      "condition rush = time > 0.5 s\ncondition later = time > 4 s\n"
                      "fault inside { on x  offset 1 m  from 2 s }\nfault never_comes { on x  times 2  once x > 100 m "
                      "}\ncompose inside, never_comes\n"
                      "expectation E { source \"table 1\"  act is trip\n  must act on inside within 200 ms\n  must act "
                      "on never_comes within 1 s\n"
                      "  must not act on rush within 1 s\n  must not act on later within 2 s }",
                      8);
  CHECK(r.verdict("E/inside").answer == judge::Answer::held);
  CHECK(*r.verdict("E/inside").worst_margin == Approx(0.099).margin(0.003));
  CHECK(r.verdict("E/never_comes").answer == judge::Answer::not_tested);
  CHECK(r.verdict("E/rush").answer == judge::Answer::held);
  CHECK(r.verdict("E/later").answer == judge::Answer::broken);
  CHECK(r.program->requirements[0].source == "table 1");
}

TEST_CASE("Mistakes in measures, bands and expectations are named where they are") {
  const auto says = [](const std::string& text, const std::string& part) {
    const std::string all = diagnostics_of("bench B { step 1 ms\n let x : m = time * 1 m/s\n let on : bool = true\n" +
                                           std::string(text.starts_with("let") ? text + "\n}\n" : "}\n" + text));
    INFO(text << "\n" << all);
    CHECK(all.find(part) != std::string::npos);
  };
  says("measure a { of x }", "does not say what it is of, or what it is");
  says("measure a { of x  maen }", "did you mean `mean`?");
  says("measure a { of on  mean }", "is about a number");
  says("measure a { of x  duty }", "is about what is true or false");
  says("measure a { of x  overshoot }", "`overshoot` needs `to`");
  says("measure a { of x  mean to 3 m }", "takes no `to`");
  says("measure a { of x  rise_time to 3 s }", "[unit-mismatch]");
  says("measure a { of x  rise_time to 3 m between 90 % and 10 % }", "the shares rise");
  says("measure a { of x  energy }", "is the integral of a power");
  says("measure a { of x  thd at 0 Hz }", "above 0 Hz");
  says("measure a { of x  harmonic 1.5 at 50 Hz }", "a whole number");
  says("measure a { of x  mean  over 3 s .. 2 s }", "ends before it begins");
  says("measure a { of x  mean  per 0 s }", "longer than 0 s");
  says("measure a { of x  mean  per 1 s  while on }", "a measure has one window");
  says("let y : m = a\n}\nmeasure a { of x  mean }\nbench C { step 1 ms", "which only requirements can read");
  says("measure a { of x  mean }\nrequirement R { whenever a > 1 m then within 3 s on }",
       "speaks of a measure and of time");
  says("measure a { of x  mean }\nrequirement R { always (a > 1 m stays for 3 s) }", "speaks of a measure and of time");
  says("measure a { of x  mean }\nmeasure a { of x  rms }", "[duplicate]");
  says("requirement R { always x within 3 cm of \"no.csv\" }", "[cannot-read]");
  says("requirement R { always x within 3 s of \"no.csv\" }", "[unit-mismatch]");
  says("expectation E { must act on on within 1 s }", "does not say what it is to act");
  says("expectation E { act is on }", "expects nothing");
  says("expectation E { act is on\n must act on x within 1 s }", "only a fault or a condition can become active");
  says("expectation E { act is on\n should act on x within 1 s }", "as in `must act on NAME within 1 s`");
}

TEST_CASE("Integrals of squares and absolute values are those of straight lines between instants") {
  // Instants a second apart, u = 0, 2, 0, 2, …: the mean square of a line from 0 to 2 is 4/3, whatever trapezoids say.
  const MeasuredRun r("let u : m = 2 m * abs(sin(90 deg/s * time))\nlet w : m = 1 m - 1 m/s * time",
                      "measure a { of u  rms  over 0 s .. 8 s }\nmeasure b { of u  ise  over 0 s .. 8 s }\n"
                      "measure c { of w  iae  over 0 s .. 2.5 s }\nmeasure d { of w  itae  over 0 s .. 2.5 s }",
                      9, "1 s");
  CHECK(r.one("a") == Approx(std::sqrt(4.0 / 3)).epsilon(1e-9));
  CHECK(r.one("b") == Approx(8 * 4.0 / 3).epsilon(1e-9));
  // w = 1, 0, -1, -1.5: |w| and t |w| by hand, with the crossing at an instant and a piece cut at 2.5 s.
  CHECK(r.one("c") == Approx(0.5 + 0.5 + (1 + 1.5) / 2 * 0.5).epsilon(1e-9));
  CHECK(r.one("d") ==
        Approx(1.0 / 6 + (0.5 + 1.0 / 3) + (2 * 1.25 * 0.5 + 0.5 * 0.5 * (1 + 2 * 1.5) / 6)).epsilon(1e-9));
}

TEST_CASE("A line that crosses zero between two instants is cut there") {
  const MeasuredRun r("let w : m = 1 m - 1 m/s * time", "measure c { of w  iae  over 0 s .. 4 s }", 5, "4 s");
  CHECK(r.one("c") == Approx(0.5 + 4.5).epsilon(1e-9));  // 1 down to -3, crossing at 1 s
}

TEST_CASE("The deviation of a ripple on a large offset keeps its digits") {
  const MeasuredRun r("let u : V = 1000000 V + 0.5 V * sin(2 rad/s * pi * 5 * time)",
                      "measure d { of u  deviation  over 1 s .. 3 s }\nmeasure w { of u  deviation }", 4);
  CHECK(r.one("d") == Approx(0.5 / std::numbers::sqrt2).epsilon(1e-4));
  CHECK(r.one("w") == Approx(0.5 / std::numbers::sqrt2).epsilon(1e-4));
  // Also where it begins far away: then it is the deviation of all of it.
  const MeasuredRun far("let u : V = if time < 0.5 ms then 0 V else 1000000 V + 0.5 V * sin(2 rad/s * pi * 5 * time)",
                        "measure d { of u  deviation  over 1 s .. 3 s }", 4);
  CHECK(far.one("d") == Approx(0.5 / std::numbers::sqrt2).epsilon(1e-4));
}

TEST_CASE("Distortion is that of the signal, also with few instants a period") {
  // A fifth harmonic of 6.5 %; 40 and 400 instants a period. Sums over instants would take harmonic 39 for the
  // fundamental.
  for (const char* step : {"0.5 ms", "50 us"}) {
    INFO(step);
    const MeasuredRun r(
        "let u : V = 10 V * sin(2 rad/s * pi * 50 * time) + 0.65 V * sin(2 rad/s * pi * 250 * time + 0.3 rad)",
        "measure t { of u  thd at 50 Hz  over 0 s .. 200 ms }\nmeasure h { of u  harmonic 5 at 50 Hz  over 0 s .. 200 "
        "ms }",
        0.21, step);
    CHECK(r.one("t") == Approx(0.065).epsilon(0.002));
    CHECK(r.one("h") == Approx(0.65).epsilon(0.002));
  }
  // Four instants a period: they show no fifth harmonic, and none is made up.
  const MeasuredRun few("let u : V = 10 V * sin(2 rad/s * pi * 50 * time)", "measure h { of u  harmonic 5 at 50 Hz }",
                        0.2, "5 ms");
  CHECK(std::isnan(few.one("h")));
}

TEST_CASE("Stretches of `while` last until the condition is seen to be over") {
  const MeasuredRun r("let on : bool = time >= 0.9995 s and time < 1.9995 s\nlet p : W = if on then 100 W else 0 W",
                      "measure e { of p  energy  while on }\nmeasure t { of on  longest  while on }\n"
                      "measure m { of p  least  while on }",
                      3);
  CHECK(r.one("e") == Approx(100).epsilon(1e-9));
  CHECK(r.one("t") == Approx(1).epsilon(1e-9));
  CHECK(r.one("m") == 100);  // what comes after is not in it
}

TEST_CASE("A requirement on a measure of every period is held, whether the periods divide the run or not") {
  for (const double seconds : {10.0, 10.4}) {
    INFO(seconds);
    const MeasuredRun r("let u : V = 1 V * sin(2 rad/s * pi * time)",
                        "measure p { of u  rms  per 1 s }\nrequirement R { always p < 1 V }\n"
                        "requirement S { always p < 0.5 V }",
                        seconds);
    CHECK(r.verdict("R").answer == judge::Answer::held);
    CHECK(r.verdict("R").tests == 10);
    CHECK(r.verdict("S").answer == judge::Answer::broken);
    for (const judge::Measured& m : r.all) CHECK(m.end > m.begin);
  }
  const MeasuredRun none("let u : V = 1 V", "measure p { of u  rms  per 1 s }\nrequirement R { always p < 2 V }", 0.5);
  CHECK(none.verdict("R").answer == judge::Answer::undecided);
}

TEST_CASE("The margin of an unbounded until is that of the whole run, breach or no breach") {
  // x falls below zero at 1 s and goes on; done comes at 2 s. min of x up to then is -1 m; nothing nearer ever was.
  const MeasuredRun r("let x : m = 1 m - 1 m/s * time\nlet y : m = if time < 1.9995 s then -7 m else 3 m",
                      "requirement U { x > 0 m until y > 0 m }", 4);
  CHECK(r.verdict("U").answer == judge::Answer::broken);
  CHECK(to_seconds(*r.verdict("U").first_breach) == Approx(1.0).margin(0.0011));
  CHECK(*r.verdict("U").worst_margin == Approx(-0.999).margin(0.0011));
}
