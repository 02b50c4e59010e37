// Library parts against SciPy, an independent package: the same filter, the same input, the same instants.

#include <sstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// Signals of a bench that uses library files, at every step.
std::vector<std::vector<double>> simulated(const std::string& use, const std::string& step, const std::string& body,
                                           const std::vector<std::string>& names, double seconds) {
  Seen seen(program_of(use + "\nbench B { step " + step + "\n" + body + "\n}\n"), names);
  run_for(seen, seconds);
  return seen.values;
}

/// Numbers that a Python script prints, one a line.
std::vector<double> computed(const std::string& script) {
  const TestFolder folder;
  folder.write("script.py", "import numpy as np\nfrom scipy import signal, integrate, optimize\n" + script);
  const Output output = shell("/usr/bin/python3 script.py", folder.path());
  INFO(output.err);
  REQUIRE(output.status == 0);
  std::istringstream lines(output.out);
  std::vector<double> values;
  for (double x = 0; lines >> x;) values.push_back(x);
  return values;
}

void agree(const std::vector<double>& ours, const std::vector<double>& theirs, double margin) {
  REQUIRE(ours.size() >= theirs.size());
  REQUIRE_FALSE(theirs.empty());
  double worst = 0;
  for (std::size_t i = 0; i < theirs.size(); ++i) worst = std::max(worst, std::abs(ours[i] - theirs[i]));
  CHECK(worst < margin);
}

}  // namespace

TEST_CASE("DiscreteTransfer agrees with scipy.signal.lfilter") {
  const auto ours = simulated("use library \"filters.dyne\"", "10 ms", R"(
  part f : DiscreteTransfer(order = 3, sample = 10 ms, b = [0.2, 0.3, -0.1, 0.05], a = [-0.6, 0.25, -0.1])
  f.u = sin(2 * pi * time * 3 Hz) + (if time >= 0.3 s then 1 else 0)
)",
                              {"f.y"}, 1);
  const auto theirs = computed(R"(
t = np.arange(101) * 0.01
u = np.sin(2 * np.pi * 3 * t) + (np.arange(101) >= 30)
for y in signal.lfilter([0.2, 0.3, -0.1, 0.05], [1, -0.6, 0.25, -0.1], u): print('%.17g' % y)
)");
  agree(ours[0], theirs, 1e-12);
}

TEST_CASE("TransferFunction and StateSpace agree with scipy.signal.lsim") {
  const auto ours = simulated("use library \"filters.dyne\"", "1 ms", R"(
  part f : TransferFunction(order = 3, b = [40, 3, 0], a = [40, 22, 6])
  part s : StateSpace(order = 2, a = [0 1/s, 1 1/s, -25 1/s, -2 1/s], b = [0 1/s, 25 1/s], c = [1, 0.2], d = 0.5)
  f.u = 1
  s.u = 1
)",
                              {"f.y", "s.y"}, 3);
  const auto theirs = computed(R"(
t = np.arange(3001) * 1e-3
_, y, _ = signal.lsim(([3, 40], [1, 6, 22, 40]), np.ones(3001), t)
for v in y: print('%.17g' % v)
)");
  agree(ours[0], theirs, 1e-9);
  const auto space = computed(R"(
t = np.arange(3001) * 1e-3
_, y, _ = signal.lsim(([[0.0, 1.0], [-25.0, -2.0]], [[0.0], [25.0]], [[1.0, 0.2]], [[0.5]]), np.ones(3001), t)
for v in y: print('%.17g' % v)
)");
  agree(ours[1], space, 1e-9);
}

TEST_CASE("The permanent-magnet motor agrees with scipy.integrate.solve_ivp") {
  const auto ours = simulated("use library \"machines.dyne\"", "100 us", R"(
  part m : PermanentMagnetMotor
  m.voltage_d = -5 V
  m.voltage_q = 40 V
  m.load = 3 Nm
)",
                              {"m.current_d", "m.current_q", "m.speed"}, 0.3);
  const auto theirs = computed(R"(
p, R, Ld, Lq, psi, J, b = 4, 0.2, 2e-3, 2.4e-3, 0.1, 0.003, 0.001
def f(t, x):
    d, q, w = x
    e = p * w
    torque = 1.5 * p * (psi * q + (Ld - Lq) * d * q)
    return [(-5 - R * d + e * Lq * q) / Ld, (40 - R * q - e * (Ld * d + psi)) / Lq, (torque - b * w - 3) / J]
r = integrate.solve_ivp(f, (0, 0.3), [0, 0, 0], method='LSODA', rtol=1e-11, atol=1e-11, t_eval=[0.1, 0.2, 0.3])
for x in r.y.T.ravel(): print('%.17g' % x)
)");
  REQUIRE(theirs.size() == 9);
  for (std::size_t at = 0; at < 3; ++at) {
    for (std::size_t s = 0; s < 3; ++s)
      CHECK(ours[s][1000 * (at + 1)] == Approx(theirs[3 * at + s]).epsilon(1e-6).margin(1e-6));
  }
}

TEST_CASE("The battery agrees with scipy.integrate.solve_ivp over a discharge") {
  const auto ours = simulated("use library \"electrical.dyne\"", "100 ms", R"(
  part b : Battery(first = 60 %)
  b.current = 50 A
  b.ambient = 15 degC
)",
                              {"b.charge", "b.temperature", "b.voltage"}, 600);
  const auto theirs = computed(R"(
from scipy.interpolate import PchipInterpolator
ocv = PchipInterpolator([0, .05, .1, .2, .4, .6, .8, .9, .95, 1], [2.60, 3.05, 3.18, 3.24, 3.28, 3.30, 3.33, 3.35, 3.40, 3.60])
def parts(x):
    z, u, T = x
    R = 0.02 * max(1 - 0.005 * (T - 25), 0.2)
    return R, R * 2500 + u * u / 0.01
def f(t, x):
    z, u, T = x
    R, losses = parts(x)
    return [-50 / 360000, 50 / 3000 - u / 30, (losses - 3 * (T - 15)) / 40000]
r = integrate.solve_ivp(f, (0, 600), [0.6, 0, 25], rtol=1e-10, atol=1e-10)
z, u, T = r.y[:, -1]
print(z); print(T + 273.15); print(16 * ocv(z) - u - parts(r.y[:, -1])[0] * 50)
)");
  REQUIRE(theirs.size() == 3);
  for (std::size_t i = 0; i < 3; ++i) CHECK(ours[i].back() == Approx(theirs[i]).epsilon(1e-7));
}

TEST_CASE("The heat exchanger agrees with its differential equations solved along the tubes") {
  // dT/dA on both sides in counterflow, shot from one end: an independent way to the effectiveness.
  const auto ours = simulated("use library \"thermal.dyne\"", "100 ms", R"(
  part x : HeatExchanger(ua = 3000 W/K, tau = 1 s)
  x.hot_flow = 0.8 kg/s
  x.cold_flow = 0.5 kg/s
  x.hot_in = 80 degC
  x.cold_in = 10 degC
)",
                              {"x.hot_out", "x.cold_out"}, 60);
  const auto theirs = computed(R"(
ch, cc, ua = 0.8 * 4190, 0.5 * 4190, 3000.0
def along(a, T): return [-ua * (T[0] - T[1]) / ch, -ua * (T[0] - T[1]) / cc]
def miss(out):
    return integrate.solve_ivp(along, (0, 1), [80, out], rtol=1e-10, atol=1e-10).y[1, -1] - 10
out = optimize.brentq(miss, 10, 80)
print(integrate.solve_ivp(along, (0, 1), [80, out], rtol=1e-10, atol=1e-10).y[0, -1] + 273.15); print(out + 273.15)
)");
  CHECK(ours[0].back() == Approx(theirs.at(0)).epsilon(1e-8));
  CHECK(ours[1].back() == Approx(theirs.at(1)).epsilon(1e-8));
}

TEST_CASE("The hydraulic cylinder agrees with scipy.integrate.solve_ivp, oil spring included") {
  const auto ours = simulated("use library \"fluid.dyne\"", "20 us", R"(
  part c : HydraulicCylinder
  c.flow_a = 10 l/min
  c.flow_b = -7.5 l/min
  c.load = 5 kN
)",
                              {"c.position", "c.pressure_a"}, 0.2);
  const auto theirs = computed(R"(
A, B, K, V = np.pi / 4 * 0.08**2, np.pi / 4 * (0.08**2 - 0.04**2), 1.4e9, 0.2e-3
qa, qb = 10e-3 / 60, -7.5e-3 / 60
def f(t, x):
    s, v, pa, pb = x
    return [v, (pa * A - pb * B - 5000 - 2000 * v) / 200, K / (V + A * s) * (qa - A * v), K / (V + B * (0.5 - s)) * (qb + B * v)]
r = integrate.solve_ivp(f, (0, 0.2), [0.1, 0, 1e6, 1e6], method='Radau', rtol=1e-10, atol=1e-10)
print(r.y[0, -1]); print(r.y[2, -1])
)");
  CHECK(ours[0].back() == Approx(theirs.at(0)).epsilon(1e-6));
  CHECK(ours[1].back() == Approx(theirs.at(1)).epsilon(1e-4));
}

TEST_CASE("Chirp, ramp, staircase and pulses follow their formulas") {
  const auto ours = simulated("use library \"sources.dyne\"", "1 ms", R"(
  part chirp : Chirp(from_frequency = 1 Hz, to_frequency = 5 Hz, duration = 2 s)
  part ramp : Ramp(from_value = 2, to_value = -2, begin = 0.5 s, duration = 1 s)
  part stairs : Staircase(first = 1, step = 0.5, period = 300 ms, steps = 4)
  part pulses : PulseTrain(first = 200 ms, width = 50 ms, spacing = 400 ms, pulses = 3)
)",
                              {"chirp.y", "ramp.y", "stairs.y", "pulses.y"}, 2);
  for (std::size_t i = 0; i <= 2000; ++i) {
    const double t = 0.001 * static_cast<double>(i);
    const double phase = 2 * std::acos(-1.0) * (t + t * t);
    INFO("at " << t);
    REQUIRE(ours[0][i] == Approx(std::sin(phase)).margin(1e-9));
    REQUIRE(ours[1][i] == Approx(std::min(2.0, std::max(-2.0, 2 - 4 * (t - 0.5)))).margin(1e-12));
    REQUIRE(ours[2][i] == Approx(1 + 0.5 * std::min(4.0, std::floor((t + 1e-9) / 0.3))));
    const double since = t - 0.2 + 1e-9;
    const bool high = since >= 0 && since < 1.2 && std::fmod(since, 0.4) < 0.05;
    REQUIRE(ours[3][i] == (high ? 1 : 0));
  }
}

TEST_CASE("Shapes: dead zone, hysteresis, rate limit, integrator with reset") {
  const auto ours = simulated("use library \"filters.dyne\"", "1 ms", R"(
  let u = 3 * sin(2 * pi * time * 1 Hz)
  part zone : DeadZone(width = 1)
  zone.u = u
  part hyst : Hysteresis(on_above = 2, off_below = -1)
  hyst.u = u
  part slow : RateLimit(rising = 2 1/s, falling = 5 1/s, tau = 5 ms)
  slow.u = if mod(time, 1 s) < 500 ms then 1 else 0
  part sum : Integrator(low = 0, high = 0.6)
  sum.u = 2 1/s
  sum.reset = time >= 700 ms and time < 800 ms
)",
                              {"zone.y", "hyst.y", "slow.y", "sum.y", "sum.stopped"}, 1);
  CHECK(ours[0][250] == Approx(2));
  CHECK(ours[0][20] == 0);
  CHECK(ours[0][750] == Approx(-2));
  CHECK(ours[1][110] == 0);
  CHECK(ours[1][125] == 1);  // sin above 2/3
  CHECK(ours[1][540] == 1);
  CHECK(ours[1][570] == 0);  // below -1/3
  CHECK(ours[2][200] == Approx(0.4).margin(1e-6));
  CHECK(ours[2][600] == Approx(ours[2][500] - 0.5).margin(0.02));
  CHECK(ours[3][200] == Approx(0.4));
  CHECK(ours[3][500] == 0.6);
  CHECK(ours[4][500] == 1);
  CHECK(ours[3][750] == 0);
  CHECK(ours[3][900] == Approx(0.2).margin(0.003));
}
