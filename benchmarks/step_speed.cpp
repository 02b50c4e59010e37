// What a step costs: native code, interpreter, the same plants written by hand in C and with Boost odeint; how long
// it takes from text to steps; how cost grows. Ratios are measured side by side, turn by turn, and medians quoted.
// Prints Markdown tables. Exit status 1 if a bound of docs/performance.md is missed.

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>

#include <dlfcn.h>

#include <fmt/format.h>
#include <boost/numeric/odeint.hpp>

#include "isodyne/check/load.h"
#include "isodyne/engine/native.h"

using namespace isodyne;
namespace fs = std::filesystem;

namespace {

using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

bool g_missed = false;

/// A line of the table: what was measured against what, and whether the bound holds.
void row(const std::string& what, double ours, double other, double bound, const char* unit) {
  const double ratio = ours / other;
  if (ratio > bound) g_missed = true;
  fmt::print("| {} | {:.4g} {} | {:.4g} {} | {:.2f} | {:.2f} |{}\n", what, ours, unit, other, unit, ratio, bound,
             ratio > bound ? " missed |" : "  |");
  std::fflush(stdout);
}

void absolute(const std::string& what, double value, double bound, const char* unit) {
  if (value > bound) g_missed = true;
  fmt::print("| {} | {:.4g} {} | – | – | {:.4g} {} |{}\n", what, value, unit, bound, unit,
             value > bound ? " missed |" : "  |");
  std::fflush(stdout);
}

double median(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  return values[values.size() / 2];
}

struct Pair {
  double first, second;
};

/// Seconds of two pieces of work, in turns; the medians of the times of each pair with the median ratio.
template <typename A, typename B>
Pair side_by_side(A&& a, B&& b, int turns = 15) {
  std::vector<double> first, ratios;
  a();
  b();
  for (int i = 0; i < turns; ++i) {
    auto begin = Clock::now();
    a();
    first.push_back(seconds_since(begin));
    begin = Clock::now();
    b();
    ratios.push_back(first.back() / seconds_since(begin));
  }
  const double t = median(first);
  return {t, t / median(ratios)};
}

std::shared_ptr<const program::Program> program_of(const std::string& text) {
  const check::Loaded loaded =
      check::load_bench("", "bench.dyne", [&](const std::string&) -> Result<std::string> { return text; });
  if (loaded.program == nullptr) {
    std::fputs(loaded.diagnostics.render(*loaded.sources, false).c_str(), stderr);
    std::exit(2);
  }
  return loaded.program;
}

// ---- plants -----------------------------------------------------------------------------------------------

/// A trolley with a swinging load, its motor and the heat in it: six states.
constexpr const char* kTrolley = R"(
bench Trolley {
  step 1 ms  method rk4
  input volts : 1 = 3
  param m : 1 = 4
  param l : 1 = 1.5
  param g : 1 = 9.81
  param r : 1 = 0.6
  param ind : 1 = 0.02
  param k : 1 = 1.4
  param b : 1 = 2.5
  param c : 1 = 0.3
  param load : 1 = 1.2
  param heat : 1 = 40
  output state x : 1 = 0
  output state v : 1 = 0
  output state a : 1 = 0.3
  output state w : 1 = 0
  output state i : 1 = 0
  output state temp : 1 = 20
  let s = sin(a)
  let co = cos(a)
  let push = k * i - b * v
  let acc = (push + load * s * (l * w * w + g * co)) / (m + load * s * s)
  let rs = r * (1 + 0.004 * (temp - 20))
  x' = v / 1 s
  v' = acc / 1 s
  a' = w / 1 s
  w' = (-(acc * co + g * s) / l - c * w) / 1 s
  i' = (volts - rs * i - k * v) / ind / 1 s
  temp' = (rs * i * i - 0.5 * (temp - 20)) / heat / 1 s
}
)";

constexpr const char* kTrolleyByHand = R"(
#include <math.h>
typedef struct { double volts, m, l, g, r, ind, k, b, c, load, heat; } params;
static void f(const params *p, const double *x, double *dx) {
  const double s = sin(x[2]), co = cos(x[2]);
  const double push = p->k * x[4] - p->b * x[1];
  const double acc = (push + p->load * s * (p->l * x[3] * x[3] + p->g * co)) / (p->m + p->load * s * s);
  const double rs = p->r * (1 + 0.004 * (x[5] - 20));
  dx[0] = x[1];
  dx[1] = acc;
  dx[2] = x[3];
  dx[3] = -(acc * co + p->g * s) / p->l - p->c * x[3];
  dx[4] = (p->volts - rs * x[4] - p->k * x[1]) / p->ind;
  dx[5] = (rs * x[4] * x[4] - 0.5 * (x[5] - 20)) / p->heat;
}
enum { N = 6 };
void rk4(const params *p, double *x, double h) {
  double k1[N], k2[N], k3[N], k4[N], y[N];
  f(p, x, k1);
  for (int i = 0; i < N; ++i) y[i] = x[i] + 0.5 * h * k1[i];
  f(p, y, k2);
  for (int i = 0; i < N; ++i) y[i] = x[i] + 0.5 * h * k2[i];
  f(p, y, k3);
  for (int i = 0; i < N; ++i) y[i] = x[i] + h * k3[i];
  f(p, y, k4);
  for (int i = 0; i < N; ++i) x[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
}
)";

struct TrolleyParams {
  double volts = 3, m = 4, l = 1.5, g = 9.81, r = 0.6, ind = 0.02, k = 1.4, b = 2.5, c = 0.3, load = 1.2, heat = 40;
};

using Six = std::array<double, 6>;

struct TrolleyInCpp {
  TrolleyParams p;
  void operator()(const Six& x, Six& dx, double) const {
    const double s = std::sin(x[2]), co = std::cos(x[2]);
    const double push = p.k * x[4] - p.b * x[1];
    const double acc = (push + p.load * s * (p.l * x[3] * x[3] + p.g * co)) / (p.m + p.load * s * s);
    const double rs = p.r * (1 + 0.004 * (x[5] - 20));
    dx[0] = x[1];
    dx[1] = acc;
    dx[2] = x[3];
    dx[3] = -(acc * co + p.g * s) / p.l - p.c * x[3];
    dx[4] = (p.volts - rs * x[4] - p.k * x[1]) / p.ind;
    dx[5] = (rs * x[4] * x[4] - 0.5 * (x[5] - 20)) / p.heat;
  }
};

/// A plant of n states and five assignments for each, irregular enough that no loop could stand for it: as a text
/// of the language, and as an expert would write it in C.
struct Irregular {
  std::string text, by_hand;

  explicit Irregular(int n) {
    std::string equations, outputs, c, parameters;
    std::uint64_t random = 12345;
    const auto pick = [&](int below) {
      random = random * 6364136223846793005ULL + 1442695040888963407ULL;
      return static_cast<int>((random >> 33) % static_cast<std::uint64_t>(below));
    };
    for (int i = 0; i < n; ++i) {
      const int a = (i + 1 + pick(5)) % n, b = (i + n - 1 - pick(3)) % n;
      outputs += fmt::format("  output state x{} : 1 = {}\n  param k{} : 1 = {}\n", i, 0.1 * (i % 7), i,
                             0.5 + 0.01 * (i % 50));
      const char* shapes[] = {"k{0} * (x{1} - x{0})", "k{0} * x{1} * x{2}", "x{1} / (1 + x{2} * x{2})",
                              "k{0} * (x{1} + x{2}) - x{0}"};
      const char* hands[] = {"k[{0}] * (x[{1}] - x[{0}])", "k[{0}] * x[{1}] * x[{2}]", "x[{1}] / (1 + x[{2}] * x[{2}])",
                             "k[{0}] * (x[{1}] + x[{2}]) - x[{0}]"};
      const int s = pick(4), t = pick(4);
      equations += fmt::format("  let p{} = {}\n", i, fmt::format(fmt::runtime(shapes[s]), i, a, b));
      equations += fmt::format("  let q{} = {}\n", i, fmt::format(fmt::runtime(shapes[t]), i, b, a));
      equations += fmt::format("  let r{0} = if p{0} > q{0} then p{0} - 0.5 * q{0} else q{0}\n", i);
      equations += fmt::format("  let s{0} = r{0} * r{0} + 0.25 * p{0}\n", i);
      equations += fmt::format("  x{0}' = (r{0} - 0.2 * s{0} - 3 * x{0}) / 1 s\n", i);
      c += fmt::format("  const double p{} = {};\n", i, fmt::format(fmt::runtime(hands[s]), i, a, b));
      c += fmt::format("  const double q{} = {};\n", i, fmt::format(fmt::runtime(hands[t]), i, b, a));
      c += fmt::format("  const double r{0} = p{0} > q{0} ? p{0} - 0.5 * q{0} : q{0};\n", i);
      c += fmt::format("  const double s{0} = r{0} * r{0} + 0.25 * p{0};\n", i);
      c += fmt::format("  dx[{0}] = r{0} - 0.2 * s{0} - 3 * x[{0}];\n", i);
    }
    text = "bench Irregular {\n  step 1 ms  method rk4\n" + outputs + equations + "}\n";
    by_hand = fmt::format(
        "typedef struct {{ double k[{0}]; }} params;\n"
        "static void f(const params *p, const double *restrict x, double *restrict dx) {{\n  const double *const k = "
        "p->k;\n{1}}}\n"
        "enum {{ N = {0} }};\nvoid rk4(const params *p, double *x, double h) {{\n"
        "  double k1[N], k2[N], k3[N], k4[N], y[N];\n  f(p, x, k1);\n"
        "  for (int i = 0; i < N; ++i) y[i] = x[i] + 0.5 * h * k1[i];\n  f(p, y, k2);\n"
        "  for (int i = 0; i < N; ++i) y[i] = x[i] + 0.5 * h * k2[i];\n  f(p, y, k3);\n"
        "  for (int i = 0; i < N; ++i) y[i] = x[i] + h * k3[i];\n  f(p, y, k4);\n"
        "  for (int i = 0; i < N; ++i) x[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);\n}}\n",
        n, c);
  }
};

/// For all that the compiler knows, what is there may have changed: parameters are not constants.
void changeable(void* place) {
  __asm__ volatile("" : : "r"(place) : "memory");
}

// ---- running them ---------------------------------------------------------------------------------------

struct Folder {
  std::string path = "/tmp/isodyne-benchmark-XXXXXX";
  Folder() {
    if (mkdtemp(path.data()) == nullptr) std::exit(2);
  }
  ~Folder() { fs::remove_all(path); }
};

using ByHand = void (*)(const void* params, double* x, double h);

/// Compiled as native code is: the same compiler, the same flags.
std::string words_for(const program::Program& program, const engine::NativeSettings& s) {
  std::string all;
  for (const std::string& w : s.words(engine::c_code(program, engine::Plan(program), {}))) all += w + " ";
  return all;
}

double compile_by_hand(const std::string& c, const std::string& file, const engine::NativeSettings& settings,
                       const std::string& words) {
  std::ofstream(file + ".c") << c;
  const auto begin = Clock::now();
  const std::string command = fmt::format("{} {} -o {}.so {}.c -lm", settings.compiler, words, file, file);
  if (std::system(command.c_str()) != 0) std::exit(2);
  return seconds_since(begin);
}

ByHand load_by_hand(const std::string& file) {
  void* library = dlopen((file + ".so").c_str(), RTLD_NOW);
  void* found = library == nullptr ? nullptr : dlsym(library, "rk4");
  if (found == nullptr) std::exit(2);
  ByHand function;
  std::memcpy(&function, &found, sizeof found);
  return function;
}

struct Running {
  std::shared_ptr<const program::Program> program;
  engine::RunningPlant plant;
  engine::PlantState state;
  std::unique_ptr<engine::NativePlant> native;

  Running(std::shared_ptr<const program::Program> p, const engine::NativeSettings* settings)
      : program(std::move(p)), plant(program), state(plant.start({})) {
    if (settings != nullptr) {
      std::string remark;
      const std::atomic<bool> stop{false};
      const auto code = engine::NativeCode::make(*program, plant.plan(), *settings, remark, stop);
      if (!code) {
        std::fputs((code.failure().text() + "\n").c_str(), stderr);
        std::exit(2);
      }
      native = std::make_unique<engine::NativePlant>(*program, *code);
      plant.adopt(native.get());
    }
    plant.solve(state);
  }
  void steps(int n) {
    const IsoFlushed flushed;  // as in a run
    for (int i = 0; i < n; ++i) {
      plant.settle(state);
      if (plant.step(state).kind != engine::PlantTrouble::Kind::none) std::exit(2);
    }
  }
};

void against_hand(const engine::NativeSettings& settings, const Folder& folder) {
  {
    Running ours(program_of(kTrolley), &settings);
    compile_by_hand(kTrolleyByHand, folder.path + "/trolley", settings, words_for(*ours.program, settings));
    const ByHand rk4 = load_by_hand(folder.path + "/trolley");
    const TrolleyParams p;
    double x[6] = {0, 0, 0.3, 0, 0, 20};
    constexpr int kSteps = 100'000;
    const Pair hand = side_by_side([&] { ours.steps(kSteps); },
                                   [&] {
                                     for (int i = 0; i < kSteps; ++i) rk4(&p, x, 1e-3);
                                   });
    row("native step, 6 states, against C by hand", hand.first / kSteps * 1e9, hand.second / kSteps * 1e9, 1.10, "ns");
    Six y{0, 0, 0.3, 0, 0, 20};
    boost::numeric::odeint::runge_kutta4<Six> stepper;
    TrolleyInCpp f;
    changeable(&f);
    const Pair odeint = side_by_side([&] { ours.steps(kSteps); },
                                     [&] {
                                       for (int i = 0; i < kSteps; ++i) stepper.do_step(f, y, 0.0, 1e-3);
                                     });
    row("the same against Boost odeint on std::array", odeint.first / kSteps * 1e9, odeint.second / kSteps * 1e9, 1.05,
        "ns");
  }
  const Irregular big(200);
  Running ours(program_of(big.text), &settings);
  compile_by_hand(big.by_hand, folder.path + "/big", settings, words_for(*ours.program, settings));
  const ByHand rk4 = load_by_hand(folder.path + "/big");
  std::vector<double> k, x;
  for (int i = 0; i < 200; ++i) {
    k.push_back(0.5 + 0.01 * (i % 50));
    x.push_back(0.1 * (i % 7));
  }
  constexpr int kSteps = 5'000;
  const Pair hand = side_by_side([&] { ours.steps(kSteps); },
                                 [&] {
                                   for (int i = 0; i < kSteps; ++i) rk4(k.data(), x.data(), 1e-3);
                                 });
  row("native step, 200 states, 1,000 assignments, against C by hand", hand.first / kSteps * 1e9,
      hand.second / kSteps * 1e9, 1.10, "ns");
}

void interpreter(const engine::NativeSettings& settings, int only) {
  // About ten operations for each state.
  for (const auto& [operations, bound] : {std::pair{70, 4.0}, std::pair{1000, 5.0}, std::pair{4000, 8.0}}) {
    if (only != 0 && only != operations) continue;
    const Irregular plant(operations / 14);
    const auto program = program_of(plant.text);
    Running native(program, &settings), interpreted(program, nullptr);
    const int steps = 3'500'000 / operations;
    const Pair both = side_by_side([&] { interpreted.steps(steps); }, [&] { native.steps(steps); });
    row(fmt::format("interpreter against native, {} operations", operations), both.first / steps * 1e9,
        both.second / steps * 1e9, bound, "ns");
  }
}

void start_times(const engine::NativeSettings& base, const Folder& folder) {
  const Irregular big(200);
  std::vector<double> first_step, cold, cached, by_hand;
  for (int i = 0; i < 5; ++i) {
    engine::NativeSettings settings = base;
    settings.cache = folder.path + fmt::format("/cache{}", i);
    auto begin = Clock::now();
    Running interpreted(program_of(big.text), nullptr);
    interpreted.steps(1);
    first_step.push_back(seconds_since(begin));
    engine::NativeSettings soon = settings;  // what a run takes over first
    soon.flags = {"-O1"};
    begin = Clock::now();
    Running compiled(program_of(big.text), &soon);
    compiled.steps(1);
    cold.push_back(seconds_since(begin));
    Running best(program_of(big.text), &settings);
    begin = Clock::now();
    Running again(program_of(big.text), &settings);
    again.steps(1);
    cached.push_back(seconds_since(begin));
    by_hand.push_back(compile_by_hand(big.by_hand, folder.path + "/again", base, words_for(*again.program, base)));
  }
  absolute("edit to first step, 200 states", median(first_step) * 1e3, 100, "ms");
  row("edit to native code, cold (-O1 first), against compiling the C by hand", median(cold) * 1e3,
      median(by_hand) * 1e3, 1.3, "ms");
  absolute("edit to native code, cached", median(cached) * 1e3, 50, "ms");
}

/// Each size in turns with 100 states, so that the clock of the machine cancels out.
void growth(const engine::NativeSettings& settings, int most) {
  fmt::print(
      "\n| states | native, per step | per state | against 100 states | interpreter, per step | per state | against "
      "100 "
      "states |\n|---:|---:|---:|---:|---:|---:|---:|\n");
  constexpr int kBase = 100;
  const auto base = program_of(Irregular(kBase).text);
  Running native_base(base, &settings), interpreted_base(base, nullptr);
  for (const int n : {10, 30, 100, 200, 300, 1000, 3000, 10000}) {
    if (n > most) break;
    const auto program = program_of(Irregular(n).text);
    Running native(program, &settings), interpreted(program, nullptr);
    const int steps = std::max(10, 2'000'000 / n), base_steps = 2'000'000 / kBase;
    const auto per_state = [&](Running& one, Running& other, int share) {
      const int count = std::max(1, steps / share), base_count = base_steps / share;
      Pair p = side_by_side([&] { one.steps(count); }, [&] { other.steps(base_count); }, 9);
      return Pair{p.first / count / n * 1e9, p.second / base_count / kBase * 1e9};
    };
    const Pair compiled = per_state(native, native_base, 1), by_code = per_state(interpreted, interpreted_base, 4);
    fmt::print("| {} | {:.2f} µs | {:.1f} ns | {:.2f} | {:.2f} µs | {:.1f} ns | {:.2f} |\n", n,
               compiled.first * n / 1e3, compiled.first, compiled.first / compiled.second, by_code.first * n / 1e3,
               by_code.first, by_code.first / by_code.second);
    std::fflush(stdout);
  }
}

}  // namespace

int main(int argc, char** argv) {
  if (argc > 2 && std::string(argv[1]) == "text") {  // the plant of N states, for other tools
    fmt::print("{}", Irregular(std::atoi(argv[2])).text);
    return 0;
  }
  const Folder folder;
  engine::NativeSettings settings = engine::NativeSettings::usual();
  settings.cache = folder.path + "/cache";
  const std::string only = argc > 1 ? argv[1] : "";
  fmt::print("| work | Isodyne | against | ratio | bound |\n|---|---:|---:|---:|---:|\n");
  if (only.empty() || only == "hand") against_hand(settings, folder);
  if (only.empty() || only == "interpreter") interpreter(settings, argc > 2 ? std::atoi(argv[2]) : 0);
  if (only.empty() || only == "start") start_times(settings, folder);
  if (only.empty() || only == "growth") growth(settings, argc > 2 ? std::atoi(argv[2]) : 3000);
  return g_missed ? 1 : 0;
}
