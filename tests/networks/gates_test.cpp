// Gates: what modulators make against a naive one that looks at each nanosecond, and what circuits make of edges within
// their steps against volt-seconds by hand.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/engine/native.h"
#include "isodyne/networks/solvers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kCircuits = "use library \"circuits.dyne\"\n";

struct GateRun {
  std::vector<Time> times;
  std::vector<std::vector<double>> values;
};

GateRun run_gates(const std::string& text, const std::vector<std::string>& signals, double seconds,
                  const std::vector<std::pair<std::string, double>>& values = {}, bool native = false) {
  const auto p = program_of(kCircuits + text);
  Seen seen(p, signals);
  bench::RunPlan plan;
  if (!p->scenarios.empty()) plan.scenario = 0;
  plan.longest = Time(static_cast<std::int64_t>(std::llround(seconds * 1e9)));
  for (const auto& [name, value] : values) plan.overrides.emplace_back(p->find(name), value);
  if (native) plan.native = engine::NativeSettings::usual(), plan.wait_for_native = true;
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE((result.ending == observe::Ending::completed || result.ending == observe::Ending::cut_short));
  return {seen.times, seen.values};
}

std::string reason_of(const std::string& text) {
  const auto p = program_of(kCircuits + text);
  Seen seen(p, {});
  bench::RunPlan plan;
  plan.longest = std::chrono::milliseconds(1);
  return run_bench(seen, plan).explanation;
}

/// A half bridge without losses into an inductor of 1 mH: its current is the volt-seconds.
std::string half_bridge(const std::string& bench, const std::string& step) {
  return "model Half {\n  terminal earth : electric\n  input upper, lower : gate\n  node plus, out : electric\n"
         "  part s : VoltageSource between plus, earth\n  s.voltage = 100 V\n"
         "  part high : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between plus, out\n"
         "  part low : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between out, earth\n"
         "  part choke : Inductor(inductance = 1 mH) between out, earth\n"
         "  high.gate = upper\n  low.gate = lower\n}\n"
         "bench B {\n" +
         bench + "  part half : Half at ground  " + step + "\n}\n";
}

/// What a modulator makes, nanosecond by nanosecond, from its words in the library.
struct Naive {
  std::string carrier = "triangle", update = "valley";
  std::int64_t period = 50'000, dead = 0, shortest = 0, place = 0, step = 1000;
  double reference = -9, taken = -9;
  bool wanted = false, begun = false, upper = false, lower = false;
  std::int64_t upper_from = -1, lower_from = -1;

  void look(std::int64_t now, double r) {
    const std::int64_t in = (now + place) % period;
    if (now % step == 0) reference = r;
    const bool valley = in == 0, peak = 2 * in == period;
    const bool take = !begun || update == "at_once" || (valley && update != "peak") || (peak && update != "valley");
    if (take) {
      const double pulse = (reference + 1) / 2 * double(period), pause = double(period) - pulse;
      taken = pulse < double(shortest) ? -1 : pause < double(shortest) ? 1 : reference;
    }
    const double x = double(in) / double(period);
    const double c = carrier == "triangle" ? 1 - std::abs(4 * x - 2) : carrier == "rising" ? 2 * x - 1 : 1 - 2 * x;
    const bool want = taken >= 1 || taken > c;
    if (!begun) {
      upper = want;
      lower = !want;
    } else if (want != wanted) {
      (want ? lower : upper) = false;
      upper_from = want ? now + dead : -1;
      lower_from = want ? -1 : now + dead;
    }
    if (upper_from >= 0 && now >= upper_from) upper = true, upper_from = -1;
    if (lower_from >= 0 && now >= lower_from) lower = true, lower_from = -1;
    wanted = want;
    begun = true;
  }
};

}  // namespace

TEST_CASE("A modulator makes what one makes that looks at each nanosecond") {
  RandomStream random(7, "modulators");
  for (const char* carrier : {"triangle", "rising", "falling"}) {
    for (const char* update : {"valley", "peak", "both", "at_once"}) {
      for (const int deg : {0, 90, 216}) {
        if (kSanitized && (random.next() % 12 != 0)) continue;  // a few of them take long enough
        Naive naive;
        naive.carrier = carrier;
        naive.update = update;
        naive.dead = 100 * static_cast<std::int64_t>(random.next() % 20);
        naive.shortest = random.next() % 2 == 0 ? 0 : 3000;
        naive.step = random.next() % 2 == 0 ? 50'000 : 2000;
        naive.place = deg * naive.period / 360;
        // A reference that wanders over the whole range and beyond.
        const auto reference = [&](std::int64_t now) {
          const double s = double(now / naive.step * naive.step) * 1e-9;
          return 1.2 * std::sin(2 * 3.14159265358979 * 700 * s);
        };
        const std::string text = fmt::format(
            "bench B {{ step 100 ns\n"
            "  part pwm : Modulator(frequency = 20 kHz, dead_time = {} ns, shortest = {} ns, carrier = {}, update = "
            "{}, "
            "phase = {} deg)  step {} ns\n"
            "  pwm.reference = 1.2 * sin(2 * 3.14159265358979 * 700 Hz * 1 rad * time)\n}}\n",
            naive.dead, naive.shortest, carrier, update, deg, naive.step);
        INFO(text);
        const GateRun kept = run_gates(text, {"pwm.upper", "pwm.lower", "pwm.valley", "pwm.peak"}, 2e-3);
        REQUIRE(kept.times.size() == 20'001);
        std::size_t wrong = 0, looked = 0;
        // What was a nanosecond or two ago counts too: edges are rounded, and come 1 ns after what they take over.
        std::vector<std::pair<bool, bool>> recent;
        std::int64_t at = 0;
        for (std::size_t i = 0; i < kept.times.size(); ++i) {
          for (const std::int64_t until = kept.times[i].count() + 2; at <= until; ++at) {
            naive.look(at, reference(at));
            recent.emplace_back(naive.upper, naive.lower);
            if (recent.size() > 6) recent.erase(recent.begin());
          }
          const std::pair<bool, bool> made{kept.values[0][i] != 0, kept.values[1][i] != 0};
          if (std::find(recent.begin(), recent.end(), made) == recent.end()) ++wrong;
          const std::int64_t in = (kept.times[i].count() + naive.place) % naive.period;
          if (in % 12'500 > 2 && in % 12'500 < 12'498) {
            ++looked;
            if ((kept.values[2][i] != 0) != (in < 12'500)) ++wrong;
            if ((kept.values[3][i] != 0) != (in >= 25'000 && in < 37'500)) ++wrong;
          }
        }
        CHECK(wrong == 0);
        CHECK(looked > 19'000);
      }
    }
  }
}

TEST_CASE("The mean of what a half bridge gives is straight in the reference, in steps of 5 ns, whatever its step") {
  for (const char* step : {"step 1 us", "step 10 us", "step 50 us"}) {
    const std::string text = half_bridge(
        "  step 50 us\n  input r : 1 = 0\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)\n"
        "  pwm.reference = r\n  half.upper = pwm.upper\n  half.lower = pwm.lower\n",
        step);
    for (int k = 0; k <= 40; k += kSanitized ? 8 : 1) {
      const double on = (k == 40 ? 49'990 : 20'000 + 5.0 * k) * 1e-9;
      const GateRun kept = run_gates(text, {"half.choke.i"}, 1e-3, {{"r", 2 * on / 50e-6 - 1}});
      const double mean = kept.values[0].back() * 1e-3 / 1e-3;            // V, over 1 ms
      CHECK(mean == Approx(100 * on / 50e-6).margin(100 * 1e-4 * 0.21));  // 1 ns of 50 us, and a share of 1 ns
    }
  }
}

TEST_CASE("A dead time is taken from the pulse, and the diode carries on") {
  // The choke draws current out of the bridge: while both are off the lower diode conducts, 0.7 V below.
  const GateRun kept =
      run_gates(half_bridge("  step 50 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 2 us)\n"
                            "  pwm.reference = 0.2\n  half.upper = pwm.upper\n  half.lower = pwm.lower\n",
                            "step 1 us"),
                {"half.choke.i"}, 20e-3);
  const auto& i = kept.values[0];
  const double mean = (i[400] - i[200]) * 1e-3 / 10e-3;
  CHECK(mean == Approx((100 * 28e-6 - 0.7 * 4e-6) / 50e-6).epsilon(1e-4));
}

TEST_CASE("Gates are joined and delayed to the nanosecond") {
  // 300 ns of each rise, however seldom anybody looks.
  for (const char* step : {"step 100 ns", "step 1 us", "step 25 us"}) {
    const std::string text = half_bridge(
        "  step 50 us\n  input allowed : bool = true\n  input r : 1 = 0.1\n"
        "  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)\n  pwm.reference = r\n"
        "  let both = pwm.upper and not delay(pwm.upper, 300 ns)\n"
        "  half.upper = if allowed then both else false\n  half.lower = not half.upper\n",
        step);
    const double rise = run_gates(text, {"half.choke.i"}, 1e-3).values[0].back();
    CHECK(rise == Approx(20 * 100 * 300e-9 / 1e-3).epsilon(1e-6));
    CHECK(run_gates(text, {"half.choke.i"}, 1e-3, {{"allowed", 0.0}}).values[0].back() == Approx(0).margin(1e-12));
  }
}

TEST_CASE("A delay of many steps and one within a step give the same pulses, and so does one made in the quick part") {
  std::vector<double> ends;
  for (const char* lag : {"400 ns", "7.3 us", "93.7 us"}) {
    for (const bool inside : {false, true}) {
      const std::string made = inside ? "  let late = delay(upper, " + std::string(lag) + ")\n" : "";
      std::string text = half_bridge(
          "  step 50 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)\n"
          "  pwm.reference = 0.3 * sin(2 * 3.14159 * 400 Hz * 1 rad * time)\n" +
              (inside ? std::string("  half.upper = pwm.upper\n  half.lower = pwm.lower\n")
                      : "  half.upper = delay(pwm.upper, " + std::string(lag) + ")\n  half.lower = not half.upper\n"),
          "step 1 us");
      if (inside) {
        const std::string plain = "  high.gate = upper\n  low.gate = lower\n";
        text.replace(text.find(plain), plain.size(), made + "  high.gate = late\n  low.gate = not late\n");
      }
      ends.push_back(run_gates(text, {"half.choke.i"}, 10e-3).values[0].back());
    }
    CHECK(ends[ends.size() - 1] == Approx(ends[ends.size() - 2]).epsilon(1e-12));
  }
  CHECK(ends[0] != ends[2]);
}

TEST_CASE("A gate that is read as a bool is what it is at the instant, in a quick part as well") {
  const GateRun kept = run_gates(
      "model Eye {\n  input on : bool\n  output seen : bool\n  seen = on\n}\n"
      "bench B { step 1 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)  step 100 us\n"
      "  pwm.reference = 0\n  part eye : Eye\n  eye.on = pwm.upper\n  let inferred = not pwm.upper\n"
      "  let typed : bool = pwm.upper\n}\n",
      {"pwm.upper", "eye.seen", "inferred", "typed"}, 500e-6);
  for (std::size_t i = 0; i < kept.times.size(); ++i) {
    const std::int64_t in = kept.times[i].count() % 50'000;
    const bool up = in < 12'500 || in >= 37'500;
    INFO(kept.times[i].count());
    CHECK(kept.values[0][i] == (up ? 1 : 0));
    CHECK(kept.values[1][i] == (up ? 1 : 0));
    CHECK(kept.values[2][i] == (up ? 0 : 1));
    CHECK(kept.values[3][i] == (up ? 1 : 0));
  }
}

TEST_CASE("Frequency, dead time and enable of a modulator may change while it runs") {
  const GateRun kept = run_gates(
      "bench B { step 100 ns\n  input on : bool = true\n"
      "  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)  step 10 us\n"
      "  pwm.reference = 0\n  pwm.enable = on\n}\n"
      "scenario s {\n  hold 120 us\n  set pwm.frequency = 40 kHz\n  hold 80 us\n  set on = false\n  hold 50 us\n"
      "  set on = true\n  hold 60 us\n}\n",
      {"pwm.upper", "pwm.lower"}, 310e-6);
  // 120 us are 2.4 periods; from there on a period takes 25 us: places 2.5, 3, 3.5 … come 2.5, 15, 27.5 us later.
  const auto is = [&](double us, bool upper, bool lower) {
    const auto i = static_cast<std::size_t>(std::llround(us * 10));
    INFO(us);
    CHECK(kept.values[0][i] == (upper ? 1 : 0));
    CHECK(kept.values[1][i] == (lower ? 1 : 0));
  };
  is(0, true, false);
  is(12.4, true, false);
  is(12.6, false, true);
  is(37.6, true, false);
  is(112.4, true, false);
  is(112.6, false, true);  // place 2.25
  is(128.7, false, true);  // 2.75 comes 8.75 us after 120
  is(128.8, true, false);
  is(141.2, true, false);  // 3.25 comes 21.25 us after
  is(141.3, false, true);
  is(200, false, true);
  is(200.1, false, false);
  is(249.9, false, false);
  is(250.1, false, true);  // place 7.6; 7.75 comes at 253.75
  is(253.7, false, true);
  is(253.8, true, false);
}

TEST_CASE("Two bridges are shifted by what the shift says, before and behind") {
  for (const double deg : {-170.0, -90.0, -36.0, 0.0, 18.0, 90.0, 179.0}) {
    INFO(deg);
    const GateRun kept =
        run_gates(fmt::format("bench B {{ step 100 ns\n  part bridge : PhaseShift(frequency = 50 kHz, "
                              "dead_time = 0 us)  step 20 us\n  bridge.shift = {} deg\n}}\n",
                              deg),
                  {"bridge.lead[1]", "bridge.lead[2]", "bridge.lead[3]", "bridge.lead[4]", "bridge.lag[1]",
                   "bridge.lag[2]", "bridge.lag[3]", "bridge.lag[4]", "bridge.valley"},
                  400e-6);
    std::size_t wrong = 0;
    for (std::size_t i = 0; i < kept.times.size(); ++i) {
      const double t = double(kept.times[i].count());
      const auto first = [&](double shift) {
        const double in = std::fmod(t - shift / 360 * 20'000 + 100 * 20'000.0, 20'000);
        return std::pair<bool, bool>{in<10'000, in> 2 && in < 9'998 ? true : in > 10'002 && in < 19'998};
      };
      const auto [lead, lead_sure] = first(0);
      const auto [lag, lag_sure] = first(deg);
      const auto v = [&](std::size_t k) { return kept.values[k][i] != 0; };
      if (lead_sure && (v(0) != lead || v(1) == lead || v(2) == lead || v(3) != lead)) ++wrong;
      if (lag_sure && (v(4) != lag || v(5) == lag || v(6) == lag || v(7) != lag)) ++wrong;
    }
    CHECK(wrong == 0);
  }
}

TEST_CASE("A shift that jumps across zero leaves no half period out and adds none") {
  const GateRun kept = run_gates(
      "bench B { step 100 ns\n  input shift : deg = -20 deg\n"
      "  part bridge : PhaseShift(frequency = 50 kHz, dead_time = 0 us)  step 20 us\n  bridge.shift = shift\n}\n"
      "scenario s {\n  hold 100 us\n  set shift = 20 deg\n  hold 100 us\n  set shift = -20 deg\n  hold 100 us\n}\n",
      {"bridge.lag[1]"}, 300e-6);
  int rises = 0;
  std::size_t since = 0, longest = 0;
  for (std::size_t i = 1; i < kept.times.size(); ++i) {
    const bool now = kept.values[0][i] != 0, before = kept.values[0][i - 1] != 0;
    if (now && !before) ++rises;
    if (now != before) longest = std::max(longest, i - since), since = i;
  }
  CHECK((rises == 15 || rises == 16));
  CHECK(longest <= 123);  // 12.2 us
}

TEST_CASE("The same gates come out of native code and of the interpreter, to the bit") {
  const std::string text = half_bridge(
      "  step 50 us\n  part pwm : Modulator(frequency = 17 kHz, dead_time = 0.7 us, update = both)\n"
      "  pwm.reference = 0.9 * sin(2 * 3.14159 * 333 Hz * 1 rad * time)\n"
      "  half.upper = pwm.upper\n  half.lower = delay(pwm.lower, 150 ns)\n",
      "step 1 us");
  const GateRun one = run_gates(text, {"half.choke.i", "half.high.v"}, 20e-3),
                two = run_gates(text, {"half.choke.i", "half.high.v"}, 20e-3, {}, true);
  CHECK(one.values == two.values);
}

TEST_CASE("A state that is copied goes on with the edges that are on their way") {
  const auto p =
      program_of(kCircuits + half_bridge("  step 10 us\n  part pwm : Modulator(frequency = 20 kHz)  step 50 us\n"
                                         "  pwm.reference = 0.3\n  half.upper = delay(pwm.upper, 33.3 us)\n"
                                         "  half.lower = not half.upper\n",
                                         "step 1 us"));
  engine::RunningPlant plant(p, networks::solvers());
  engine::PlantState state = plant.start({});
  plant.solve(state);
  const auto steps = [&](engine::PlantState& s, int count) {
    for (int i = 0; i < count; ++i) {
      plant.settle(s);
      REQUIRE(plant.step(s).kind == engine::PlantTrouble::Kind::none);
    }
    plant.settle(s);
    return s[p->find("half.choke.i")];
  };
  steps(state, 13);
  engine::PlantState copy = state;
  const double once = steps(state, 20);
  CHECK(steps(copy, 20) == once);
}

TEST_CASE("What no gate can show ends the run with the reason") {
  CHECK(has(reason_of("bench B { step 1 ms\n  part pwm : Modulator(frequency = 20 kHz)\n  pwm.reference = 0\n}\n"),
            "`pwm` has more than 34 edges within a step of 1 ms"));
  CHECK(has(reason_of("bench B { step 1 ms\n  part pwm : Modulator(frequency = 400 kHz)\n  pwm.reference = 2\n}\n"),
            "the carrier of `pwm` is too quick for steps of 1 ms"));
  CHECK(has(reason_of("bench B { step 50 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 30 us)\n"
                      "  pwm.reference = 0\n}\n"),
            "a dead time of 30 us is over half a period of `pwm`, which is 50 us"));
  CHECK(has(
      reason_of("bench B { step 100 us\n  part a : Modulator(frequency = 145 kHz, dead_time = 0 us)\n"
                "  part b : Modulator(frequency = 147 kHz, dead_time = 0 us)\n  a.reference = 0\n  b.reference = 0.5\n"
                "  output x : gate\n  x = (a.upper and not b.upper) or (b.upper and not a.upper)\n}\n"),
      "the gate `x` has more than 34 edges within a step of 100 µs"));
}

TEST_CASE("Edges that nobody could have in time are refused, and memory that a gate has not") {
  const auto said = [](const std::string& text) { return diagnostics_of(kCircuits + text); };
  CHECK(has(said(half_bridge("  step 50 us\n  part pwm : Modulator  step 5 us\n  pwm.reference = 0\n"
                             "  half.upper = pwm.upper\n  half.lower = false\n",
                             "step 10 us")),
            "the gate `pwm.upper` is made every 5 µs, and `half.upper` takes it every 10 µs"));
  CHECK(has(said(half_bridge("  step 50 us\n  part pwm : Modulator\n  pwm.reference = 0\n"
                             "  half.upper = pwm.upper\n  half.lower = false\n",
                             "step 1 us  on core 1")),
            "is made on core 0, and `half.upper` takes it on core 1"));
  CHECK(has(said("bench B { step 1 ms\n  output memory x : gate = false\n  every 1 ms { x := true }\n}\n"),
            "a gate has no memory"));
}

TEST_CASE("Faults on gates change their edges as the same words would in the text") {
  const std::string pwm =
      "  step 50 us\n  part pwm : Modulator(frequency = 21 kHz, dead_time = 300 ns)\n  pwm.reference = 0.3\n"
      "  pwm.enable = true\n  let late = time >= 400 us and time < 1200 us\n";
  const auto wired = [&](const std::string& upper, const std::string& lower) {
    return half_bridge(pwm + "  half.upper = " + upper + "\n  half.lower = " + lower + "\n", "step 1 us");
  };
  struct Case {
    std::string fault, upper, lower;
  };
  const std::string healthy = "pwm.upper", other = "pwm.lower";
  for (const Case& c : {
           Case{"on half.upper  force true", "if late then true else pwm.upper", other},
           Case{"on half.upper  invert", "if late then not pwm.upper else pwm.upper", other},
           Case{"on half.upper  delay 1300 ns", "if late then delay(pwm.upper, 1300 ns) else pwm.upper", other},
           Case{"on pwm.lower  delay 70 us", healthy, "if late then delay(pwm.lower, 70 us) else pwm.lower"},
           Case{"on pwm.upper  swap with pwm.lower", "if late then pwm.lower else pwm.upper",
                "if late then pwm.upper else pwm.lower"},
           Case{"on half.lower  swap with half.upper", "if late then pwm.lower else pwm.upper",
                "if late then pwm.upper else pwm.lower"},
       }) {
    INFO(c.fault);
    const auto run = [&](const std::string& text, bool faulty) {
      const auto p = program_of(kCircuits + text);
      Seen seen(p, {"half.choke.i", "half.upper", "half.lower"});
      bench::RunPlan plan;
      plan.longest = std::chrono::milliseconds(2);
      if (faulty) plan.faults = {0};
      CHECK(run_bench(seen, plan).ending == observe::Ending::completed);
      return seen.values;
    };
    const std::string with = wired(healthy, other) + "fault f { " + c.fault + "  from 400 us to 1200 us }\n";
    const auto by_fault = run(with, true), by_hand = run(wired(c.upper, c.lower), false);
    CHECK(by_fault == by_hand);
    CHECK(by_fault != run(with, false));
    CHECK(run(with, false) == run(wired(healthy, other), false));
  }
}

TEST_CASE("Two faults on one gate need an order, and act in it") {
  const std::string text =
      half_bridge(
          "  step 50 us\n  part pwm : Modulator(frequency = 21 kHz)\n  pwm.reference = 0.3\n  pwm.enable = true\n"
          "  half.upper = pwm.upper\n  half.lower = false\n",
          "step 1 us") +
      "fault a { on half.upper  invert }\nfault b { on half.upper  force true }\n";
  const auto last = [&](const std::string& order) {
    const auto p = program_of(kCircuits + text + order);
    if (order.empty()) CHECK(bench::clash_among(*p, {0, 1}, program::kNone));
    Seen seen(p, {"half.upper"});
    bench::RunPlan plan;
    plan.longest = std::chrono::milliseconds(1);
    plan.faults = {0, 1};
    run_bench(seen, plan);
    return seen.last("half.upper");
  };
  last("");
  CHECK(last("compose a, b\n") == 1);
  CHECK(last("compose b, a\n") == 0);
}

TEST_CASE("A gate that changes at instants only is delayed too") {
  const auto run = run_gates(
      "bench B { step 100 us\n  let b = time >= 500 us\n  output g, h : gate\n  g = b\n  h = delay(g, 250 us)\n}\n",
      {"h"}, 1.5e-3);
  for (std::size_t k = 0; k < run.times.size(); ++k) {
    INFO("at " << 100 * k << " us");
    CHECK(run.values[0][k] == (k >= 8 ? 1 : 0));
  }
}

TEST_CASE("A lag may be a fixed parameter, as the message says that asks for one") {
  const GateRun run = run_gates(
      "model Late {\n  input on : gate\n  fixed param lag : us = 3 us\n  output out : gate\n  out = delay(on, lag)\n}\n"
      "bench B { step 1 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 0 us)\n  pwm.reference = 0\n"
      "  part late : Late(lag = 5 us)\n  late.on = pwm.upper\n}\n",
      {"pwm.upper", "late.out"}, 200e-6);
  for (std::size_t i = 5; i < run.times.size(); ++i) CHECK(run.values[1][i] == run.values[0][i - 5]);
  CHECK(run.values[1][14] == 1);
  CHECK(run.values[1][18] == 0);
}

TEST_CASE("A reference that is no number ends the run, and is told with who reads it") {
  for (const char* part : {"Modulator\n  x.reference = 1 / level", "PhaseShift\n  x.shift = 1 rad / level"}) {
    const std::string said = reason_of(
        "bench B { step 20 us\n  state level : 1 = 0\n  level' = 0 1/s\n  part x : " + std::string(part) + "\n}\n");
    INFO(said);
    CHECK(has(said, "`x"));
    CHECK_FALSE(said.empty());
  }
  // Between two instants of the bench as well.
  const std::string quick = reason_of(
      "model Half {\n  terminal earth : electric\n  node top : electric\n  state x : 1 = 0\n  x' = 1 1/s\n"
      "  part s : VoltageSource between top, earth\n  s.voltage = 1 V / (if x > 0.00022 and x < 0.00026 then 0 else "
      "1)\n"
      "  part r : Resistor between top, earth\n}\n"
      "bench B { step 100 us\n  part half : Half at ground  step 10 us\n}\n");
  INFO(quick);
  CHECK(has(quick, "half.s"));
}

TEST_CASE("A solver that could not go on goes on from a state that was gone back to") {
  const auto p = program_of(kCircuits +
                            "bench B { step 20 us\n  input r : 1 = 0.2\n  part pwm : Modulator\n  pwm.reference = r\n"
                            "  node top : electric\n  part s : VoltageSource between top, ground\n  s.voltage = 5 V\n"
                            "  input ohms : ohm = 1 ohm\n  part l : Inductor(inductance = 1 mH) between top, ground\n"
                            "  part k : Switch between top, ground\n  k.close = pwm.upper\n}\n");
  engine::RunningPlant plant(p, networks::solvers());
  engine::PlantState state = plant.start({});
  plant.solve(state);
  plant.settle(state);
  const engine::PlantState before = state;
  state.values[static_cast<std::size_t>(p->find("r"))] = std::nan("");
  plant.settle(state);
  CHECK(plant.step(state).kind != engine::PlantTrouble::Kind::none);
  engine::PlantState again = before;
  for (int i = 0; i < 20; ++i) {
    plant.settle(again);
    REQUIRE(plant.step(again).kind == engine::PlantTrouble::Kind::none);
  }
}

TEST_CASE(
    "Steps that are made at once are single steps to the bit, with edges, diodes, poles, cores and changes on the "
    "way") {
  // Whoever reads a current between two instants of the bench has each step made when it is due.
  const auto text = [](bool watched, bool moves) {
    return std::string(
               "model Watch { input x : A\n  state y : A = 0 A\n  y' = (x - y) / 1 ms }\n"
               "model Hull {\n  terminal earth : electric\n  input upper, lower, connect : gate\n  input feed : V\n"
               "  node plus, minus, mid, out, far : electric\n"
               "  part s : VoltageSource between plus, earth\n  s.voltage = feed\n  part s2 : VoltageSource between "
               "earth, minus\n  s2.voltage = feed\n"
               "  part leg : Leg(drop = 0.7 V) between plus = plus, minus = minus, out = mid\n"
               "  part choke : Inductor(inductance = 0.3 mH, resistance = 20 mohm) between mid, out\n"
               "  part c : Capacitor(capacitance = 20 uF, resistance = 30 mohm) between out, earth\n"
               "  part pole : BreakerPole(closing = 0.31 ms, opening = 0.22 ms) between out, far\n"
               "  part load : Resistor(resistance = 8 ohm) between far, earth\n"
               "  part core : KneeCore(inductance = 0.05 H, saturated = 0.5 mH, knee = 0.004 Wb) between far, earth\n"
               "  leg.upper = upper\n  leg.lower = lower\n  pole.close = connect\n" +
               // A source that goes on within a step, one that jumps between steps, and a contact that moves there.
               std::string(moves ? "  state turned : 1 = 0\n  turned' = 1 / 1 s\n  node away : electric\n"
                                   "  part ac : VoltageSource between away, earth\n"
                                   "  ac.voltage = 20 V * sin(1 rad * 700 * turned)\n"
                                   "  part join : Resistor(resistance = 5 ohm) between away, out\n"
                                   "  part jump : CurrentSource between out, earth\n"
                                   "  jump.current = if mod(time, 33 us) < 7 us then 2 A else 0 A\n"
                                   "  part bleed : Switch(closed_resistance = 4 ohm) between away, earth\n"
                                   "  bleed.close = mod(time, 77 us) < 5 us\n"
                                 : "") +
               "}\nbench B { step 50 us\n  input feed : V = 100 V\n  input connect : bool = true\n"
               "  part pwm : Modulator(frequency = 20 kHz, dead_time = 0.73 us)\n"
               "  pwm.reference = 0.6 * sin(2 * pi * 1 rad * 400 Hz * time)\n"
               "  part hull : Hull at ground  step 1 us\n  hull.feed = feed\n  hull.connect = connect\n"
               "  hull.upper = pwm.upper\n  hull.lower = pwm.lower\n") +
           (watched ? "  part watch : Watch  step 1 us\n  watch.x = hull.core.i + hull.choke.i\n" : "") +
           "}\nscenario go {\n  hold 3 ms\n  set feed = 140 V\n  hold 1.05 ms\n  set connect = false\n  hold 3 ms\n"
           "  set hull.load.resistance = 3 ohm\n  set connect = true\n  hold 4 ms\n}\n";
  };
  const std::vector<std::string> names{"hull.choke.i", "hull.c.v",   "hull.core.flux",  "hull.core.i",
                                       "hull.pole.i",  "hull.far.v", "hull.pole.closed"};
  const bool moves = GENERATE(false, true);
  std::vector<Seen> seen;
  for (const bool watched : {true, false}) {
    for (const bool native : {false, true}) {
      const auto p = program_of("use library \"circuits.dyne\"\n" + text(watched, moves));
      const engine::RunningPlant plant(p, networks::solvers());
      std::size_t electric = 0;
      while (p->networks[electric].kind != "electric") ++electric;
      REQUIRE(plant.networks().goes_at_once(static_cast<std::int32_t>(electric)) == !watched);
      seen.emplace_back(p, names);
      bench::RunPlan plan;
      plan.scenario = 0;
      if (native) plan.native = engine::NativeSettings::usual(), plan.wait_for_native = true;
      const auto result = run_bench(seen.back(), plan);
      INFO(result.explanation);
      REQUIRE(result.ending == observe::Ending::completed);
    }
  }
  REQUIRE(seen[0].times.size() > 200);
  for (std::size_t i = 1; i < seen.size(); ++i) CHECK(seen[i].values == seen[0].values);
  // It was not all the same throughout.
  CHECK(std::abs(*std::max_element(seen[0].values[2].begin(), seen[0].values[2].end())) > 0.004);
  CHECK(std::count(seen[0].values[6].begin(), seen[0].values[6].end(), 0.0) > 10);
}

TEST_CASE("Where steps are made at once, what ends the run is told with the step in which it did") {
  // From 62.4 us on there is a loop that turns much quicker than any step could show, and a diode beside it.
  const auto p = program_of(
      "use library \"circuits.dyne\"\nmodel Hull {\n  terminal earth : electric\n  input on : gate\n"
      "  node plus, a, b, n : electric\n  part s : VoltageSource between plus, earth\n  s.voltage = 10 V\n"
      "  part k : Switch between a, b\n  k.close = on\n"
      "  part l : Inductor(inductance = 0.000001 mH) between a, earth\n  part p : Resistor between a, earth\n"
      "  part c : Capacitor(capacitance = 0.000001 uF) between b, earth\n"
      "  part d : Diode between plus, n\n  part r : Resistor between n, earth\n}\n"
      "bench B { step 50 us\n  part pwm : Modulator(frequency = 20 kHz, dead_time = 12.4 us)\n"
      "  pwm.reference = if time < 40 us then -1 else 0\n  part hull : Hull at ground  step 1 us\n  hull.on = "
      "pwm.upper\n}\n");
  Seen seen(p, {"hull.l.i"});
  bench::RunPlan plan;
  plan.longest = Time{1'000'000};
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  CHECK(result.ending == observe::Ending::diverged);
  CHECK(has(result.explanation, "cannot go on at 0.000062 s"));
  CHECK(has(result.explanation, "too rarely for its diodes"));
}

TEST_CASE("A sensor samples when its gate rises, also where a network beside it makes all of its steps at once") {
  // Nothing of the network is read between two instants of the bench, so it does not ask for the gate there.
  const auto p = program_of(
      "use library \"circuits.dyne\"\nmodel Turn { output state angle : 1 = 0\n  angle' = 1000 / 1 s }\n"
      "model Hull {\n  terminal earth : electric\n  input upper, lower : gate\n  node plus, mid : electric\n"
      "  part s : VoltageSource between plus, earth\n  s.voltage = 100 V\n"
      "  part leg : Leg between plus = plus, minus = earth, out = mid\n"
      "  part choke : Inductor(inductance = 1 mH, resistance = 1 ohm) between mid, earth\n"
      "  leg.upper = upper\n  leg.lower = lower\n}\n"
      "bench B { step 50 us\n  part pwm : Modulator(frequency = 17 kHz, dead_time = 1 us)\n  pwm.reference = 0.2\n"
      "  part hull : Hull at ground  step 1 us\n  hull.upper = pwm.upper\n  hull.lower = pwm.lower\n"
      "  part turn : Turn  step 1 us\n  sensor angle { of turn.angle  at pwm.valley }\n}\n");
  Seen seen(p, {"angle"});
  bench::RunPlan plan;
  plan.longest = Time{10'000'000};
  REQUIRE(run_bench(seen, plan).ending == observe::Ending::completed);
  REQUIRE(seen.times.size() == 201);
  for (std::size_t i = 1; i < seen.times.size(); ++i) {
    // The last valley, in whole nanoseconds, and the first microsecond from there on.
    const double now = static_cast<double>(i) * 50e3, period = 1e9 / 17e3;
    const double valley = std::round(std::floor((now + 1e-6) / period) * period);
    const double sampled = std::ceil(valley / 1000 - 1e-9) * 1000 <= now
                               ? std::ceil(valley / 1000 - 1e-9) * 1000
                               : std::ceil(std::round((std::floor(now / period) - 1) * period) / 1000) * 1000;
    INFO(now);
    CHECK(seen.values[0][i] == Approx(sampled * 1e-6).margin(1e-9));
  }
}

TEST_CASE("Gates without any network are read in quick groups as they are there") {
  const auto p = program_of(
      "model Count { input g : gate\n  output state on : s = 0 s\n  on' = if g then 1 else 0 }\n"
      "bench B { step 50 us\n  input wanted : bool = true\n  part count : Count  step 1 us\n"
      "  count.g = delay(now, 7300 ns)\n  let now : gate = wanted\n}\n"
      "scenario go {\n  hold 1 ms\n  set wanted = false\n  hold 1 ms\n}\n");
  Seen seen(p, {"count.on"});
  bench::RunPlan plan;
  plan.scenario = 0;
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  // It is looked at each microsecond: false from the first instant after the edge on.
  CHECK(seen.last("count.on") == Approx(1008e-6).margin(1.01e-6));
}

TEST_CASE("A bench that is much slower than its network asks for no memory for all of its steps") {
  const auto p = program_of(
      "use library \"circuits.dyne\"\nmodel Hull {\n  terminal earth : electric\n  node top : electric\n"
      "  part s : VoltageSource between top, earth\n  s.voltage = 1 V * sin(1 rad * 100 Hz * time)\n"
      "  part r : Resistor between top, earth\n}\nbench B { step 1000 s\n  part hull : Hull at ground  step 100 "
      "ns\n}\n");
  const engine::RunningPlant plant(p, networks::solvers());
  CHECK_FALSE(plant.networks().goes_at_once(0));
}
