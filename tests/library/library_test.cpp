// The shipped parts. Every model's rated values are computed by hand or by the formula that its text names;
// here they are run, and what a steady state does not show is tested beside them.

#include <algorithm>
#include <cmath>
#include <complex>
#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kLibrary = std::string(ISODYNE_SOURCE_FOLDER) + "/library/";

std::vector<std::string> library_files() {
  std::vector<std::string> files;
  for (const auto& entry : std::filesystem::directory_iterator(kLibrary)) files.push_back(entry.path().filename());
  std::sort(files.begin(), files.end());
  return files;
}

/// A bench that uses one library file.
std::shared_ptr<const program::Program> bench_with(const std::string& file, const std::string& body) {
  return program_of("use library \"" + file + "\"\nbench B { step 1 ms\n" + body + "\n}\n");
}

double at(const Seen& seen, std::size_t signal, double seconds) {
  return seen.values[signal][static_cast<std::size_t>(std::lround(seconds / 0.001))];
}

}  // namespace

TEST_CASE("Every library file is in order and its rated values match") {
  const auto files = library_files();
  CHECK(files.size() >= 11);
  for (const std::string& file : files) {
    const Output output = run_isodyne("check --rated " + kLibrary + file);
    INFO(output.out << output.err);
    CHECK(output.status == 0);
    CHECK(output.err.empty());
  }
}

TEST_CASE("Interpreter and native code agree to the bit on every rated model of the library") {
  std::size_t cases = 0;
  for (const std::string& file : library_files()) {
    const check::Loaded loaded = check::load_bench(
        "", file,
        [&](const std::string& name) -> Result<std::string> {
          return slurp(kLibrary +
                       (name.starts_with(check::kLibraryMark) ? name.substr(check::kLibraryMark.size()) : name));
        },
        {.rules = {}, .harness = "", .bench_needed = false, .rated = true, .lint = false});
    for (const program::RatedCase& rated : loaded.rated) {
      INFO(file << ", " << rated.model);
      CHECK(first_difference(rated.program, 60, 2, test_compiler()) == "");
      ++cases;
    }
  }
  CHECK(cases >= 40);
}

TEST_CASE("Every library model and every parameter of it is described") {
  for (const std::string& file : library_files()) {
    const std::string text = slurp(kLibrary + file);
    for (std::size_t at = text.find("\nmodel "); at != std::string::npos; at = text.find("\nmodel ", at + 1)) {
      const std::size_t line = text.rfind('\n', at - 1);
      INFO(file << text.substr(at, 40));
      const std::string before = text.substr(line + 1, at - line - 1);
      CHECK((before.starts_with("##") || before.starts_with("choice")));
    }
  }
}

TEST_CASE("White noise has the deviation asked for, no memory, and its own stream per part") {
  const auto program = bench_with("sources.dyne", R"(
  part a : WhiteNoise(Q: mV, deviation = 3 mV)
  part b : WhiteNoise(Q: mV, deviation = 3 mV))");
  Seen seen(program, {"a.y", "b.y"});
  run_for(seen, 20);
  const std::vector<double>&a = seen.values[0], &b = seen.values[1];
  const auto n = static_cast<double>(a.size());
  double mean = 0, power = 0, next = 0, other = 0;
  for (std::size_t i = 0; i + 1 < a.size(); ++i) {
    mean += a[i] / n;
    power += a[i] * a[i] / n;
    next += a[i] * a[i + 1] / n;
    other += a[i] * b[i] / n;
  }
  // Standard errors: 3 mV / sqrt(20000) for the mean, 9e-6 / sqrt(20000) for products; five of them.
  CHECK(std::abs(mean) < 5 * 3e-3 / std::sqrt(n));
  CHECK(std::sqrt(power) == Approx(3e-3).epsilon(0.03));
  CHECK(std::abs(next) < 5 * 9e-6 / std::sqrt(n));
  CHECK(std::abs(other) < 5 * 9e-6 / std::sqrt(n));
}

TEST_CASE("Noise depends on the seed and on nothing else") {
  const auto program = bench_with("sources.dyne", "part a : WhiteNoise");
  const auto run = [&](std::uint64_t seed) {
    Seen seen(program, {"a.y"});
    bench::RunPlan plan;
    plan.seed = seed;
    plan.longest = std::chrono::milliseconds(50);
    run_bench(seen, plan);
    return seen.values[0];
  };
  CHECK(run(7) == run(7));
  CHECK(run(7) != run(8));
  const auto more = bench_with("sources.dyne", "part first : WhiteNoise\npart a : WhiteNoise");
  Seen seen(more, {"a.y"});
  bench::RunPlan plan;
  plan.seed = 7;
  plan.longest = std::chrono::milliseconds(50);
  run_bench(seen, plan);
  CHECK(seen.values[0] == run(7));  // another noisy part changes nothing
}

TEST_CASE("Band-limited noise has its deviation and the memory of its bandwidth") {
  const auto program = bench_with("sources.dyne", "part a : BandNoise(bandwidth = 10 Hz)");
  Seen seen(program, {"a.y"});
  run_for(seen, 200);
  double power = 0, next = 0;
  const std::vector<double>& a = seen.values[0];
  for (std::size_t i = 1000; i + 1 < a.size(); ++i) {
    power += a[i] * a[i];
    next += a[i] * a[i + 1];
  }
  CHECK(std::sqrt(power / static_cast<double>(a.size())) == Approx(1).epsilon(0.05));
  CHECK(next / power == Approx(std::exp(-2 * std::acos(-1.0) * 10 * 0.001)).margin(0.005));
}

TEST_CASE("Logic parts: edges, latch, counter, timer, priority") {
  const auto program = bench_with("logic.dyne", R"(
  let u : bool = mod(time + 0.5 ns, 1 s) >= 400 ms
  part edge : Edge(pulse = 50 ms)
  edge.u = u
  part latch : Latch
  latch.set = time >= 1 s and time < 1.1 s
  latch.reset = time >= 2 s
  part counter : Counter(limit = 3)
  counter.u = u
  part timer : Timer(duration = 250 ms)
  timer.u = u
  part who : Priority(size = 3)
  who.request = [time >= 2 s, time >= 1 s, true]
)");
  Seen seen(program,
            {"edge.rose", "edge.fell", "latch.y", "counter.count", "counter.reached", "timer.y", "who.granted"});
  run_for(seen, 4.2);
  CHECK(at(seen, 0, 0.399) == 0);
  CHECK(at(seen, 0, 0.400) == 1);
  CHECK(at(seen, 0, 0.449) == 1);
  CHECK(at(seen, 0, 0.451) == 0);
  CHECK(at(seen, 1, 1.000) == 1);
  CHECK(at(seen, 1, 0.010) == 0);
  CHECK(at(seen, 2, 0.9) == 0);
  CHECK(at(seen, 2, 1.5) == 1);
  CHECK(at(seen, 2, 2.1) == 0);
  CHECK(at(seen, 3, 3.9) == 4);
  CHECK(at(seen, 4, 2.3) == 0);
  CHECK(at(seen, 4, 2.5) == 1);
  CHECK(at(seen, 5, 0.649) == 0);
  CHECK(at(seen, 5, 0.650) == 1);
  CHECK(at(seen, 5, 1.0) == 0);
  CHECK(at(seen, 6, 0.5) == 3);
  CHECK(at(seen, 6, 1.5) == 2);
  CHECK(at(seen, 6, 2.5) == 1);
}

TEST_CASE("A PI controller leaves a limit at once, and takes over from the hand without a bump") {
  const auto program = bench_with("control.dyne", R"(
  part pi : Pi(gain = 2, integral_time = 500 ms, low = 0, high = 1)
  pi.setpoint = if time < 5 s then 10 else -0.1
  pi.measured = 0
  part hand : Pi(gain = 2, integral_time = 500 ms)
  hand.setpoint = 0.05
  hand.measured = 0
  hand.manual = time < 3 s
  hand.by_hand = 0.7
)");
  Seen seen(program, {"pi.y", "hand.y"});
  run_for(seen, 6);
  CHECK(at(seen, 0, 4.9) == 1);
  CHECK(at(seen, 0, 5.3) < 0.9);  // the integral has not run away for five seconds
  CHECK(at(seen, 1, 2.9) == Approx(0.7));
  CHECK(at(seen, 1, 3.002) == Approx(0.7).margin(0.03));
}

TEST_CASE("The filters answer a sine as their transfer functions say") {
  const double w = 2 * std::acos(-1.0) * 5;
  const auto program = bench_with("filters.dyne", R"(
  let u = sin(2 * pi * time * 5 Hz)
  part first : FirstOrder(tau = 50 ms)
  first.u = u
  part second : SecondOrder(frequency = 4 Hz, damping = 0.3)
  second.u = u
  part third : TransferFunction(order = 3, b = [8000, 0, 0], a = [8000, 1200, 60])
  third.u = u
)");
  Seen seen(program, {"first.y", "second.y", "third.y"});
  run_for(seen, 6);
  const auto amplitude = [&](std::size_t i) {
    return *std::max_element(seen.values[i].end() - 400, seen.values[i].end());
  };
  const std::complex<double> s(0, w);
  const double wn = 2 * std::acos(-1.0) * 4;
  // The largest sample is up to cos(pi * 5 Hz * 1 ms) = 0.99988 of the peak.
  CHECK(amplitude(0) == Approx(1 / std::abs(1.0 + 0.05 * s)).epsilon(3e-4));
  CHECK(amplitude(1) == Approx(wn * wn / std::abs(s * s + 0.6 * wn * s + wn * wn)).epsilon(3e-4));
  CHECK(amplitude(2) == Approx(8000 / std::abs(s * s * s + 60.0 * s * s + 1200.0 * s + 8000.0)).epsilon(1e-3));
}

TEST_CASE("The induction motor runs where its equivalent circuit says") {
  // T = 3 p |Ir|^2 Rr / (s w); solved for the slip at 20 Nm by bisection.
  const double w = 100 * std::acos(-1.0);
  const std::complex<double> j(0, 1);
  const auto torque = [&](double slip) {
    const std::complex<double> zr = 1.2 / slip + j * w * 5.8e-3, zm = j * w * 172e-3;
    const std::complex<double> current = 230.0 / (1.4 + j * w * 5.8e-3 + zr * zm / (zr + zm));
    return 6 * std::norm(current * zm / (zm + zr)) * 1.2 / slip / w;
  };
  double low = 1e-4, high = 0.1;
  for (int i = 0; i < 100; ++i) (torque(0.5 * (low + high)) < 20 ? low : high) = 0.5 * (low + high);
  const auto program = bench_with("machines.dyne", R"(
  part m : InductionMotor
  m.voltage = 325.26912 V * [cos(2 * pi * 50 Hz * time), sin(2 * pi * 50 Hz * time)]
  m.load = 20 Nm
)");
  Seen seen(program, {"m.speed"});
  run_for(seen, 3);
  CHECK(seen.last("m.speed") == Approx((1 - low) * w / 2).epsilon(5e-4));  // RK4 with 20 steps in a period
}

TEST_CASE("A shaft with backlash gives no torque inside the gap, a rope none when slack") {
  const auto program = bench_with("machines.dyne", R"(
  part shaft : Shaft(backlash = 1 deg)
  shaft.speed_a = if time < 1 s then 0.05 rpm else 1 rpm
  shaft.speed_b = 0 rpm
  part hoist : Hoist
  hoist.drum_speed = if time < 2 s then 20 rpm else -60 rpm
)");
  Seen seen(program, {"shaft.torque", "hoist.rope_force", "hoist.height"});
  run_for(seen, 4);
  CHECK(at(seen, 0, 0.9) == 0);
  CHECK(at(seen, 0, 2.0) > 0);
  CHECK(*std::min_element(seen.values[1].begin(), seen.values[1].end()) == 0);
  CHECK(at(seen, 2, 2.0) > 0.5);
  CHECK(at(seen, 2, 4.0) < 0.01);
}

TEST_CASE("A wheel on ice cannot pass on more than the grip allows") {
  const auto program = bench_with("vehicle.dyne", R"(
  part wheel : Wheel
  wheel.load = 4000 N
  wheel.grip = 0.15
  wheel.torque = 400 Nm
  wheel.vehicle_speed = car.speed
  part car : Vehicle(mass = 400 kg)
  car.drive = wheel.force
)");
  Seen seen(program, {"wheel.force", "wheel.sliding"});
  run_for(seen, 2);
  CHECK(*std::max_element(seen.values[0].begin(), seen.values[0].end()) <= 0.15 * 4000 + 1e-6);
  CHECK(seen.last("wheel.sliding") == 1);
}

TEST_CASE("A discharged battery ends at its lower voltage, and warms up by its losses") {
  const auto program = bench_with("electrical.dyne", R"(
  part b : Battery(capacity = 1 Ah, first = 10 %, cooling = 0 W/K)
  b.current = if b.charge > 0 % then 36 A else 0 A
)");
  Seen seen(program, {"b.charge", "b.open_voltage", "b.temperature", "b.losses"});
  run_for(seen, 12);
  CHECK(seen.last("b.charge") == 0);
  CHECK(seen.last("b.open_voltage") == Approx(16 * 2.6));
  double energy = 0;
  for (const double p : seen.values[3]) energy += p * 0.001;
  CHECK(seen.last("b.temperature") - 298.15 == Approx(energy / 40000).epsilon(0.01));
}

TEST_CASE("docs/library.md says what the library says") {
  const TestFolder folder;
  const Output made = shell("ISODYNE=" + std::string(ISODYNE_PROGRAM) + " scripts/library-page " + (folder / "page.md"),
                            ISODYNE_SOURCE_FOLDER);
  INFO(made.err);
  REQUIRE(made.status == 0);
  CHECK(slurp(folder / "page.md") == slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/docs/library.md"));
}

TEST_CASE("list shows the models of a file without a bench, and one of them in full") {
  const Output all = run_isodyne("list " + kLibrary + "fluid.dyne");
  CHECK(all.status == 0);
  CHECK(all.out.find("HydraulicCylinder") != std::string::npos);
  const Output pump = run_isodyne("list " + kLibrary + "fluid.dyne Pump");
  CHECK(pump.out.find("parameter  rated_flow : m^3/h = 90 m^3/h") != std::string::npos);
  CHECK(run_isodyne("list " + kLibrary + "fluid.dyne Pum").err.find("did you mean `Pump`?") != std::string::npos);
}
