// What a step of a circuit costs: an isolated converter at 100 ns, a three-phase converter on a grid at 1 us, both with
// their gates; and the first visit of a combination of switches. Prints Markdown tables. Exit status 1 if a bound of
// docs/performance.md is missed.

#include <atomic>
#include <fstream>
#include <functional>
#include <sstream>

#include <fmt/format.h>

#include "isodyne/engine/native.h"
#include "isodyne/networks/solvers.h"
#include "link_by_hand.h"
#include "measure.h"

using namespace isodyne;
using namespace isodyne::measure;

namespace {

bool g_missed = false;
void row(const std::string& what, double value, double bound, const char* unit);

const char* const kQuayLink = R"(use library "circuits.dyne"
model Link {
  terminal earth : electric
  input lead, lag : gate[4]
  node one, two, a, b, c, d, e : electric
  part store : Capacitor(capacitance = 10000 uF, first = 400 V) between one, earth
  part supply : VoltageSource between feed, earth
  node feed : electric
  part inner : Resistor(resistance = 20 mohm) between feed, one
  supply.voltage = 400 V
  part link : Capacitor(capacitance = 500 uF, first = 300 V, resistance = 2 mohm) between two, earth
  part load : Resistor(resistance = 12 ohm) between two, earth
  part primary : FullBridge between plus = one, minus = earth, first = a, second = b
  part secondary : FullBridge between plus = two, minus = earth, first = c, second = d
  part leakage : Inductor(inductance = 0.02 mH, resistance = 5 mohm) between a, e
  part turns : Ideal(turns = [4, 3]) between [e, c], [b, d]
  primary.gate = lead
  secondary.gate = lag
}
bench B {
  step 20 us
  input shift : deg = 20 deg
  part shifter : PhaseShift(frequency = 50 kHz, dead_time = 0.3 us)
  shifter.shift = shift
  part link : Link at ground  step 100 ns
  link.lead = shifter.lead
  link.lag = shifter.lag
}
)";

const char* const kShoreConverter = R"(use library "circuits.dyne"
model Hull {
  terminal shore : electric[3]
  terminal earth : electric
  input upper, lower : gate[3]
  input connect : bool
  node feed, plus, minus, star : electric
  node out, side : electric[3]
  part supply : VoltageSource between feed, minus
  part inner  : Resistor(resistance = 20 mohm) between feed, plus
  part link   : Capacitor(capacitance = 4000 uF, first = 700 V) between plus, minus
  part bridge : TwoLevel(drop = 0.9 V) between plus = plus, minus = minus, out = out
  part filter : LCFilter(inductance = 0.4 mH, capacitance = 50 uF, capacitor_resistance = 300 mohm) between input_side = out, output_side = side, star = star
  part breaker : ThreePole(closing = 20 ms, opening = 15 ms) between a = side, b = shore
  part leak : Resistor(resistance = 10 kohm) between minus, earth
  supply.voltage = 700 V
  breaker.close = connect
  bridge.upper = upper
  bridge.lower = lower
}
model Quay {
  terminal feeder : electric[3]
  terminal earth : electric
  node mv, lv : electric[3]
  part grid       : Mains(voltage = 10 kV, inductance = 8 mH, resistance = 0.5 ohm) between line = mv, neutral = earth
  part winding[3] : Ideal(turns = [10000, 231]) between [mv[index], lv[index]], [mv[mod(index, 3) + 1], earth]
  part leakage[3] : Inductor(inductance = 0.04 mH, resistance = 2 mohm) between lv[index], feeder[index]
  part load[3]    : Resistor(resistance = 1.6 ohm) between feeder[index], earth
}
bench B {
  step 50 us
  input connect : bool = true
  part sine : SineReference
  sine.depth = 0.9
  part pwm[3] : Modulator(frequency = 20 kHz, dead_time = 0.8 us)
  part hull : Hull between shore = quay_side, earth = ground  step 1 us
  node quay_side : electric[3]
  part quay : Quay between feeder = quay_side, earth = ground  step 1 us
  hull.connect = connect
  for k in 1 .. 3 {
    pwm[k].reference = sine.reference[k]
    hull.upper[k] = pwm[k].upper
    hull.lower[k] = pwm[k].lower
  }
}
)";

/// Two converters of three levels from one link, each with a filter of two chokes, cables, and a load that turns: 24
/// switches and 12 diodes beside theirs, 60 states.
const char* const kTwoThreeLevel = R"(use library "circuits.dyne"
model Converter {
  terminal plus, middle, minus : electric
  input up, down : gate[3]
  node out, board : electric[3]
  part bridge : ThreeLevel(diode_drop = 1 V) between plus = plus, middle = middle, minus = minus, out = out
  part filter : LCLFilter(inductance = 0.6 mH, second_inductance = 0.1 mH, capacitance = 50 uF, capacitor_resistance = 300 mohm) between input_side = out, output_side = board, star = middle
  node far, end, star : electric[3]
  part cable[3]   : PiSection(resistance = 5 mohm, inductance = 0.02 mH, capacitance = 2 uF, losses = 0.5 ohm) between a = board[index], b = far[index], earth = middle
  part second[3]  : PiSection(resistance = 5 mohm, inductance = 0.02 mH, capacitance = 2 uF, losses = 0.5 ohm) between a = far[index], b = end[index], earth = middle
  part motor[3]   : Inductor(inductance = 8 mH, resistance = 0.4 ohm) between end[index], star[index]
  part winding[3] : Inductor(inductance = 30 mH, resistance = 9 ohm) between star[index], middle
  part shunt[3]   : Capacitor(capacitance = 2 uF, resistance = 2 ohm) between star[index], middle
  bridge.gate = [up[1], not down[1], not up[1], down[1], up[2], not down[2], not up[2], down[2], up[3], not down[3], not up[3], down[3]]
}
bench B {
  step 50 us
  part sine : SineReference
  sine.depth = 0.8
  part high[3] : Modulator(frequency = 10 kHz, dead_time = 0.8 us)
  part low[3]  : Modulator(frequency = 10 kHz, dead_time = 0.8 us)
  part hull : Hull between earth = ground  step 2 us
  for k in 1 .. 3 {
    high[k].reference = 2 * max(sine.reference[k], 0) - 1
    low[k].reference = 2 * max(-sine.reference[k], 0) - 1
    hull.up[k] = high[k].upper
    hull.down[k] = low[k].upper
  }
}
model Hull {
  terminal earth : electric
  input up, down : gate[3]
  node plus, minus, feed : electric
  part supply : VoltageSource between feed, minus
  part inner  : Inductor(inductance = 0.05 mH, resistance = 20 mohm) between feed, plus
  part above  : Capacitor(capacitance = 4000 uF, first = 375 V) between plus, earth
  part below  : Capacitor(capacitance = 4000 uF, first = 375 V) between earth, minus
  part evens  : Resistor(resistance = 10 kohm) between plus, earth
  part evens2 : Resistor(resistance = 10 kohm) between earth, minus
  supply.voltage = 750 V
  part one : Converter between plus = plus, middle = earth, minus = minus
  part two : Converter between plus = plus, middle = earth, minus = minus
  one.up = up
  one.down = down
  two.up = down
  two.down = up
}
)";

std::shared_ptr<const program::Program> bench_of(const std::string& text) {
  const check::Loaded loaded = check::load_bench("", "bench.dyne", [&](const std::string& name) -> Result<std::string> {
    if (!name.starts_with(check::kLibraryMark)) return text;
    std::ifstream in(ISODYNE_SOURCE_FOLDER "/library/" + name.substr(check::kLibraryMark.size()));
    std::ostringstream all;
    all << in.rdbuf();
    return all.str();
  });
  if (loaded.program == nullptr) {
    std::fputs(loaded.diagnostics.render(*loaded.sources, false).c_str(), stderr);
    std::exit(2);
  }
  return loaded.program;
}

/// Nanoseconds of a step of the network, over steps of the bench. `at_end` sees the plant as it then stands.
double step_of(const std::string& text, int steps, bool native,
               const std::function<void(const program::Program&, const engine::PlantState&)>& at_end = nullptr) {
  const auto program = bench_of(text);
  engine::RunningPlant plant(program, networks::solvers());
  std::unique_ptr<engine::NativePlant> code;
  if (native) {
    std::string remark;
    const std::atomic<bool> go_on{false};
    auto made =
        engine::NativeCode::make(*program, engine::Plan(*program, 0), engine::NativeSettings::usual(), remark, go_on);
    if (!made) {
      std::fprintf(stderr, "%s\n", made.failure().text().c_str());
      std::exit(2);
    }
    code = std::make_unique<engine::NativePlant>(*program, *made);
    plant.adopt(code.get());
  }
  engine::PlantState state = plant.start({});
  plant.solve(state);
  const auto go = [&](int count) {
    for (int i = 0; i < count; ++i) {
      plant.settle(state);
      if (plant.step(state).kind != engine::PlantTrouble::Kind::none) {
        std::fprintf(stderr, "%s\n", plant.networks().why_not(0).c_str());
        std::exit(2);
      }
    }
  };
  go(steps / 10);
  std::vector<double> times;
  const auto inner = static_cast<double>(program->step.count() / program->groups.front().step.count());
  for (int turn = 0; turn < 11; ++turn) {
    const auto begin = Clock::now();
    go(steps / 10);
    times.push_back(since(begin) * 1e9 / (steps / 10) / inner);
  }
  if (at_end) at_end(*program, state);
  return median(times);
}

/// The isolated converter beside the same written by hand, turn by turn. Gives how many times as long it takes.
void against_hand() {
  auto hand = std::make_unique<LinkByHand>();
  double link = 0, current = 0;
  constexpr int kPeriods = 20'000;
  std::vector<double> ours, theirs;
  for (int turn = 0; turn < 5; ++turn) {
    ours.push_back(step_of(kQuayLink, kPeriods, true, [&](const program::Program& p, const engine::PlantState& s) {
      link = s[p.find("link.link.v")];
      current = s[p.find("link.leakage.i")];
    }));
    *hand = LinkByHand();
    const auto begin = Clock::now();
    for (int i = 0; i < kPeriods / 10 * 12; ++i) hand->period();
    theirs.push_back(since(begin) * 1e9 / (kPeriods / 10 * 12) / 200);
  }
  row("quay link against the same by hand", median(ours) / median(theirs), 1.15, "times");
  fmt::print("| by hand, a step of 100 ns | {:.4g} ns | | |\n", median(theirs));
  // Both have to be one circuit.
  const bool same = std::abs(hand->link() - link) < 0.5 && std::abs(hand->current() - current) < 0.5;
  if (!same)
    fmt::print(stderr, "link {} V and {} V, current {} A and {} A\n", link, hand->link(), current, hand->current());
  g_missed = g_missed || !same;
}

/// A ladder of inductors and capacitors with eight contacts in it.
std::string ladder(int states) {
  std::string text = "use library \"circuits.dyne\"\nbench B {\n  step 1 us\n  input on : bool[8] = false\n";
  const int pairs = states / 2;
  text += fmt::format(
      "  node top, n : electric[{0}]\n  part s : VoltageSource between top[1], ground\n  s.voltage = 10 V\n"
      "  part l[{0}] : Inductor(inductance = 0.1 mH, resistance = 10 mohm) between top[index], n[index]\n"
      "  part c[{0}] : Capacitor(capacitance = 10 uF, resistance = 10 mohm) between n[index], ground\n",
      pairs);
  text += fmt::format("  part r[{}] : Resistor(resistance = 0.1 ohm) between n[index], top[index + 1]\n", pairs - 1);
  const int contacts = std::min(8, pairs - 1);
  text += fmt::format("  part k[{0}] : Switch between n[index], top[index + 1]\n", contacts);
  for (int i = 1; i <= contacts; ++i) text += fmt::format("  k[{0}].close = on[{0}]\n", i);
  return text + "}\n";
}

/// Microseconds by which a step takes longer in which a combination of contacts is met for the first time.
double first_visit(int states) {
  const auto program = bench_of(ladder(states));
  engine::RunningPlant plant(program, networks::solvers());
  engine::PlantState state = plant.start({});
  plant.solve(state);
  const int contacts = std::min(8, states / 2 - 1);
  std::vector<program::VarId> on;
  for (int i = 1; i <= contacts; ++i) on.push_back(program->find(fmt::format("on[{}]", i)));
  std::vector<double> first, again;
  for (int turn = 0; turn < 2; ++turn) {
    for (int combination = 1; combination < 1 << contacts; ++combination) {
      for (int k = 0; k < contacts; ++k)
        state.values[static_cast<std::size_t>(on[static_cast<std::size_t>(k)])] = combination >> k & 1;
      plant.settle(state);
      const auto begin = Clock::now();
      if (plant.step(state).kind != engine::PlantTrouble::Kind::none)
        std::fprintf(stderr, "%s\n", plant.networks().why_not(0).c_str());
      (turn == 0 ? first : again).push_back(since(begin) * 1e6);
    }
  }
  return median(first) - median(again);
}

void row(const std::string& what, double value, double bound, const char* unit) {
  const bool missed = value > bound;
  g_missed = g_missed || missed;
  fmt::print("| {} | {:.4g} {} | {:.4g} {} |{}\n", what, value, unit, bound, unit, missed ? " missed |" : "  |");
  std::fflush(stdout);
}

}  // namespace

int main(int count, char** words) {
  const std::string only = count > 1 ? words[1] : "";
  fmt::print("| work | measured | bound | |\n|---|---|---|---|\n");
  if (only.empty() || only == "quay") row("quay link, a step of 100 ns", step_of(kQuayLink, 20'000, true), 60, "ns");
  if (only.empty() || only == "hand") against_hand();
  if (only.empty() || only == "shore")
    row("shore converter, a step of 1 us", step_of(kShoreConverter, 20'000, true), 250, "ns");
  if (only.empty() || only == "levels")
    row("two converters of three levels, a step of 2 us", step_of(kTwoThreeLevel, 5'000, true), 2000, "ns");
  if (only.empty() || only == "visit") {
    row("first visit of a combination, 12 states", first_visit(12), 20, "us");
    row("first visit of a combination, 20 states", first_visit(20), 50, "us");
    row("first visit of a combination, 30 states", first_visit(30), 100, "us");
  }
  return g_missed ? 1 : 0;
}
