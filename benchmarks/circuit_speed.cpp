// What a step of a circuit costs: an isolated converter at 100 ns, a three-phase converter on a grid at 1 us, both with
// their gates; and the first visit of a combination of switches. Prints Markdown tables. Exit status 1 if a bound of
// docs/performance.md is missed.

#include <atomic>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

#include "isodyne/engine/native.h"
#include "isodyne/networks/solvers.h"
#include "measure.h"

using namespace isodyne;
using namespace isodyne::measure;

namespace {

bool g_missed = false;

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

/// Nanoseconds of a step of the network, over steps of the bench.
double step_of(const std::string& text, int steps, bool native) {
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
  return median(times);
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
  if (only != "shore") row("quay link, a step of 100 ns", step_of(kQuayLink, 5000, true), 60, "ns");
  if (only != "quay") row("shore converter, a step of 1 us", step_of(kShoreConverter, 20'000, true), 250, "ns");
  return g_missed ? 1 : 0;
}
