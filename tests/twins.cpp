#include "twins.h"

#include <bit>
#include <cmath>
#include <cstring>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "support.h"

namespace isodyne::test {

using program::VarId;

engine::NativeSettings test_compiler(const std::string& cache) {
  engine::NativeSettings settings = engine::NativeSettings::usual();
  settings.flags = {"-O1"};
  settings.cache = cache;
  return settings;
}

namespace {

/// Inputs, parameters and faults of a run, the same for every execution.
class Stimulus {
 public:
  Stimulus(const program::Program& program, std::uint64_t seed) : p_(program), random_(seed, "stimulus") {
    for (std::size_t i = 0; i < p_.variables.size(); ++i) {
      const program::Role role = p_.variables[i].role;
      const bool real = p_.variables[i].type.kind == program::Type::Kind::real;
      if (real && (role == program::Role::input || role == program::Role::param))
        free_.push_back(static_cast<VarId>(i));
    }
  }

  void apply(engine::PlantState& state) {
    if (!free_.empty() && random_.uniform() < 0.1) {
      const VarId id = free_[static_cast<std::size_t>(random_.uniform() * static_cast<double>(free_.size()))];
      const auto& limits = p_.variable(id).limits;
      const double u = random_.uniform(), before = state[p_.writable(id)];
      state[p_.writable(id)] = limits ? limits->first + u * (limits->second - limits->first) : before * (0.5 + u);
    }
    for (engine::TapState& tap : state.taps) {
      if (random_.uniform() > 0.02) continue;
      const bool active = !tap.any_on;
      tap = {};
      tap.any_on = tap.on = active;
      tap.kind = static_cast<program::FaultKind>(static_cast<int>(random_.uniform() * 17));
      tap.amount = random_.uniform();
      tap.since = to_seconds(state.now);
    }
  }

 private:
  const program::Program& p_;
  RandomStream random_;
  std::vector<VarId> free_;
};

struct Twin {
  engine::RunningPlant plant;
  engine::PlantState state;
  Stimulus stimulus;
  engine::PlantTrouble trouble;
  std::vector<engine::ModeChange> changes;

  Twin(const std::shared_ptr<const program::Program>& program, std::uint64_t seed)
      : plant(program), state(plant.start({})), stimulus(*program, seed) {
    state[program::kSeed] = random_key(seed);
    plant.solve(state);
  }
  void keep(std::span<const engine::ModeChange> some) { changes.insert(changes.end(), some.begin(), some.end()); }
  void instant() {
    stimulus.apply(state);
    plant.apply_input_taps(state);
    keep(plant.settle(state));
  }
  void step() {
    trouble = plant.step(state);
    keep(plant.changes());
  }
};

bool same(double a, double b) {
  return std::bit_cast<std::uint64_t>(a) == std::bit_cast<std::uint64_t>(b) || (std::isnan(a) && std::isnan(b));
}

std::string difference(const program::Program& p, const Twin& a, const Twin& b, const char* when) {
  for (std::size_t i = 0; i < p.variables.size(); ++i) {
    if (same(a.state.values[i], b.state.values[i])) continue;
    return fmt::format("{} {}: {} is {} by interpreter, {} by the other", when, format_instant(a.state.now),
                       p.variables[i].name, a.state.values[i], b.state.values[i]);
  }
  if (a.trouble.kind != b.trouble.kind || a.trouble.index != b.trouble.index ||
      !same(a.trouble.last_good, b.trouble.last_good))
    return fmt::format("{} {}: trouble {} {} {} by interpreter, {} {} {} by the other", when,
                       format_instant(a.state.now), static_cast<int>(a.trouble.kind), a.trouble.index,
                       a.trouble.last_good, static_cast<int>(b.trouble.kind), b.trouble.index, b.trouble.last_good);
  const bool alike =
      a.changes.size() == b.changes.size() &&
      std::equal(a.changes.begin(), a.changes.end(), b.changes.begin(), [](const auto& x, const auto& y) {
        return x.machine == y.machine && x.transition == y.transition && x.at_ns == y.at_ns;
      });
  if (!alike || a.state.now != b.state.now || a.state.history != b.state.history ||
      a.state.remembered != b.state.remembered)
    return fmt::format("{} {}: transitions, time or what is remembered differ", when, format_instant(a.state.now));
  return {};
}

}  // namespace

std::string first_difference(const std::shared_ptr<const program::Program>& program, int steps, std::uint64_t seed,
                             const engine::NativeSettings& settings) {
  Twin reference(program, seed), twin(program, seed), changing(program, seed);
  std::vector<std::unique_ptr<engine::NativePlant>> native, later;  // per core
  for (std::size_t core = 0; core < reference.plant.cores(); ++core) {
    std::string remark;
    const std::atomic<bool> stop{false};
    const auto code = engine::NativeCode::make(*program, reference.plant.plan(core), settings, remark, stop);
    if (!code) return code.failure().text();
    native.push_back(std::make_unique<engine::NativePlant>(*program, *code));
    later.push_back(std::make_unique<engine::NativePlant>(*program, *code));
    twin.plant.adopt(native.back().get(), core);
  }
  // Threads of their own: two of three cores, and each.
  twin.plant.start_crew(1, nullptr, 0);
  changing.plant.start_crew(program::kMostCores, nullptr, 0);
  for (int k = 0; k < steps; ++k) {
    for (std::size_t core = 0; k == steps / 3 && core < later.size(); ++core)
      changing.plant.adopt(later[core].get(), core);
    for (Twin* t : {&reference, &twin, &changing}) t->instant();
    for (Twin* t : {&twin, &changing}) {
      if (const std::string d = difference(*program, reference, *t, "settled at"); !d.empty()) return d;
    }
    for (Twin* t : {&reference, &twin, &changing}) t->step();
    for (Twin* t : {&twin, &changing}) {
      if (const std::string d = difference(*program, reference, *t, "stepped to"); !d.empty()) return d;
    }
    if (reference.trouble.kind != engine::PlantTrouble::Kind::none) return {};
    if (k == 0 && !twin.plant.adopted()) return "native code did not take over";
  }
  return {};
}

// ---- programs at random -----------------------------------------------------------------------------------

namespace {

class Maker {
 public:
  Maker(std::uint64_t seed, int number) : random_(seed, fmt::format("model {}", number)), number_(number) {}

  std::string linear() {
    std::string text = head(true);
    for (int i = 0; i < states_; ++i) {
      std::string sum = fmt::format("{:.3f} * u", uniform(-1, 1));
      for (int j = 0; j < states_; ++j)
        sum += fmt::format(" + ({}) * s{}", i == j ? number(-3, -0.2) : number(-0.5, 0.5), j);
      if (chance(0.3)) sum += " + a";
      if (chance(0.2)) sum += " + 0.1 * (time / 1 s)";
      text += fmt::format("  s{}' = ({}) / 100 ms\n", i, sum);
    }
    return text + "}\n";
  }

  std::string any() {
    std::string text = head(false);
    const int lets = 2 + pick(6);
    for (int i = 0; i < lets; ++i) {
      if (chance(0.15)) {
        text += fmt::format("  solve e{} : 1 from e{} + 0.4 * sin(e{}) = {}{}\n", i, i, i, real(2),
                            chance(0.3) ? fmt::format(" between -1000 .. 1000") : "");
      } else if (chance(0.15)) {
        text += fmt::format("  let e{} = delay({}, {} ms, 200 ms)\n", i, real(1), 20 + pick(100));
      } else {
        text += fmt::format("  let e{} : 1 = {}\n", i, real(3));
      }
      names_.push_back(fmt::format("e{}", i));
    }
    names_.insert(names_.end(), {"c", "g"});  // the sampled part reads what stands above
    for (int i = 1; i <= leaves_; ++i) text += fmt::format("  leaf[{}].u = {}\n", i, real(1));
    if (vector_) text += fmt::format("  q' = (clamp([{}, {}], -5, 5) - q) / {} ms\n", real(2), real(1), 30 + pick(90));
    for (int i = 0; i < states_; ++i)
      text += fmt::format("  s{}' = (clamp({}, -10, 10) - s{}) / {} ms\n", i, real(2), i, 20 + pick(300));
    text += fmt::format("  modes m from calm {{\n    calm -> busy when {}\n    busy -> calm {}\n", truth(2),
                        chance(0.5) ? "after 40 ms" : "when " + truth(1));
    if (inner_) {
      text += fmt::format(
          "    busy {{\n      entry {{ c := c + 1 }}\n      exit {{ c := c / 2 }}\n      modes inner from slow {{\n"
          "        slow -> fast {}\n        fast -> slow when {}\n        fast {{ entry {{ g := g + 0.5 }} }}\n      "
          "}}\n"
          "    }}\n",
          chance(0.5) ? "after 40 ms" : "when " + truth(1), truth(1));
    } else if (chance(0.4)) {
      text += "    busy {\n      entry { c := c + 1 }\n      exit { c := c / 2 }\n    }\n";
    }
    text += "  }\n";
    if (choice_)
      text += fmt::format("  every 80 ms offset 40 ms {{\n    if s0 > {} {{ k := mid }} else {{ k := high }}\n  }}\n",
                          number(-0.5, 0.5));
    text += fmt::format(
        "  every {} ms {{\n    c := {} + normal()\n    if {} {{ g := g + 1 }} else {{ g := min(g, 50) }}\n  }}\n",
        40 * (1 + pick(3)), real(2), truth(1));
    if (chance(0.4)) text += fmt::format("  when {} {{ s0 := {} }}\n", truth(1), real(1));
    text += "  y = " + real(2) + "\n";
    return text + "}\n";
  }

 private:
  std::string head(bool is_linear) {
    states_ = 1 + pick(3);
    std::string text = fmt::format("model M{} {{\n  param a : 1 = {} from -2 to 3\n  input u : 1 = {}\n", number_,
                                   number(-1, 2), number(-1, 1));
    names_ = {"a", "u"};
    for (int i = 0; i < states_; ++i) {
      const bool limited = chance(0.3);
      text +=
          fmt::format("  output state s{} : 1 = {}{}\n", i, number(-0.5, 0.5), limited ? "  limited -1.5 .. 1.2" : "");
      names_.push_back(fmt::format("s{}", i));
    }
    if (is_linear) return text;
    text += "  output memory c : 1 = 0\n  memory g : 1 = 0\n  output y : 1\n";
    inner_ = chance(0.3);
    if ((choice_ = chance(0.3))) text += "  memory k : Kind = low\n";
    if ((vector_ = chance(0.3))) {
      text += fmt::format("  state q : 1[2] = {}\n", number(-0.5, 0.5));
      names_.insert(names_.end(), {"q[1]", "q[2]", "sum(q)", "max(q)"});
    }
    if (chance(0.3)) {
      leaves_ = 1 + pick(3);
      text += fmt::format("  part leaf[{}] : Twig(gain = {}){}\n", leaves_, number(0.5, 2),
                          chance(0.3) ? " step 10 ms" : "");
      names_.emplace_back("leaf[1].y");
    }
    return text;
  }

  double uniform(double low, double high) { return low + random_.uniform() * (high - low); }
  int pick(int below) { return static_cast<int>(random_.uniform() * below); }
  bool chance(double share) { return random_.uniform() < share; }
  std::string number(double low, double high) { return fmt::format("{:.3f}", uniform(low, high)); }

  std::string leaf() {
    if (chance(0.25)) return number(0, 4);
    if (chance(0.05)) return "(time / 1 s)";
    return names_[static_cast<std::size_t>(pick(static_cast<int>(names_.size())))];
  }

  std::string real(int depth) {
    if (depth <= 0 || chance(0.15)) return leaf();
    const std::string a = real(depth - 1);
    const auto b = [&] { return real(depth - 1); };
    switch (pick(22)) {
      case 0:
      case 1:
        return fmt::format("({} + {})", a, b());
      case 2:
      case 3:
        return fmt::format("({} - {})", a, b());
      case 4:
      case 5:
        return fmt::format("({} * {})", a, b());
      case 6:
        return fmt::format("({} / (1 + abs({})))", a, b());
      case 7:
        return fmt::format("sqrt(abs({}))", a);
      case 8:
        return fmt::format("sin({})", a);
      case 9:
        return fmt::format("exp(clamp({}, -4, 3))", a);
      case 10:
        return fmt::format("log(1 + abs({}))", a);
      case 11:
        return fmt::format("min({}, {})", a, b());
      case 12:
        return fmt::format("max({}, {})", a, b());
      case 13:
        return fmt::format("(if {} then {} else {})", truth(depth - 1), a, b());
      case 14:
        return fmt::format("({} - floor({}))", a, b());
      case 15:
        return fmt::format("mod({}, 1 + abs({}))", a, b());
      case 16:
        return fmt::format("curve({})", a);
      case 17:
        return fmt::format("field({}, {})", a, b());
      case 18:
        return fmt::format("(abs({}))^{}", a, chance(0.5) ? "1.7" : "3");
      case 19:
        return fmt::format("(atan2({}, 1 + {}^2) / 1 rad)", a, leaf());
      case 20:
        return fmt::format("(-{})", a);
      default:
        return fmt::format("(sign({}) * cos({}) + round({}))", a, b(), leaf());
    }
  }

  std::string truth(int depth) {
    const char* signs[] = {"<", "<=", ">", ">="};
    if (depth <= 0 || chance(0.4)) return fmt::format("({} {} {})", real(1), signs[pick(4)], real(1));
    switch (pick(6)) {
      case 0:
        return fmt::format("({} and {})", truth(depth - 1), truth(depth - 1));
      case 1:
        return fmt::format("({} or {})", truth(depth - 1), truth(depth - 1));
      case 2:
        return fmt::format("(not {})", truth(depth - 1));
      case 3:
        return choice_ ? "(k is high)" : "(m is calm)";
      case 4:
        return inner_ ? "(inner is fast)" : "(m is busy)";
      default:
        return "(m is busy)";
    }
  }

  RandomStream random_;
  int number_, states_ = 1, leaves_ = 0;
  bool inner_ = false, choice_ = false, vector_ = false;
  std::vector<std::string> names_;
};

}  // namespace

std::string random_model(std::uint64_t seed, int number, bool linear) {
  Maker maker(seed, number);
  return linear ? maker.linear() : maker.any();
}

std::string random_bench(std::uint64_t seed, int first, int count) {
  RandomStream random(seed, fmt::format("bench {}", first));
  const auto pick = [&](int below) { return static_cast<int>(random.uniform() * below); };
  std::string text =
      "table curve(x: 1) -> 1 = [-2: 0.5, 0: 0, 1: 2, 2: 2.5, 4: 3] cubic outside extended\n"
      "table field(x: 1, y: 1) -> 1 = [-3: [-1: 1, 4: 2], 4: [-1: 3, 4: 8]] linear outside held\n"
      "choice Kind { low, mid, high }\n"
      "model Bud {\n  input u : 1 = 0\n  output state y : 1 = 0.1\n  y' = (u - y) / 70 ms\n}\n"
      "model Twig {\n  param gain : 1 = 1 from 0.1 to 3\n  input u : 1 = 0\n  output y : 1\n  part bud : Bud\n"
      "  bud.u = gain * clamp(u, -9, 9)\n  y = 2 * bud.y\n}\n";
  const bool several = first % 3 == 2;  // cores
  const char* methods[] = {"euler", "heun", "rk4", "rk4", "implicit"};
  const char* steps[] = {"", "", "", " step 5 ms", " step 2500 us", " step 40 ms"};
  std::string bench = fmt::format("bench B {{\n  step 20 ms  method {}\n", methods[pick(5)]);
  for (int k = first; k < first + count; ++k) {
    const bool linear = pick(6) == 0;
    text += random_model(seed, k, linear);
    const char* step = steps[pick(6)];
    const char* method = linear && pick(2) == 0 ? "exact" : methods[pick(5)];
    bench +=
        fmt::format("  part p{0} : M{0}{1}{2}{3}\n", k, step, pick(3) == 0 ? fmt::format(" method {}", method) : "",
                    several ? fmt::format(" on core {}", pick(3)) : "");
    if (pick(2) == 0) bench += fmt::format("  p{}.u = 0.5 * p{}.s0\n", k, first + pick(count));
  }
  text += bench + "}\n";
  for (int i = 0; i < 2; ++i)
    text += fmt::format("fault f{} {{ on p{}.{}  offset 0.1 }}\n", i, first + pick(count), i == 0 ? "u" : "a");
  return text;
}

std::string shrunk(const std::string& text, int steps, std::uint64_t seed, const engine::NativeSettings& settings) {
  std::vector<std::string> lines;
  std::string rest = text;
  while (!rest.empty()) {
    const std::size_t end = rest.find('\n');
    lines.push_back(rest.substr(0, end));
    rest = end == std::string::npos ? "" : rest.substr(end + 1);
  }
  const auto joined = [](const std::vector<std::string>& some) {
    std::string all;
    for (const std::string& l : some) all += l + "\n";
    return all;
  };
  engine::NativeSettings quick = settings;
  quick.flags = {"-O0"};
  const auto end = std::chrono::steady_clock::now() + std::chrono::minutes(4);
  for (std::size_t size = lines.size() / 2; size > 0 && std::chrono::steady_clock::now() < end; size /= 2) {
    for (std::size_t at = 0; at + size <= lines.size() && std::chrono::steady_clock::now() < end;) {
      std::vector<std::string> fewer = lines;
      fewer.erase(fewer.begin() + static_cast<std::ptrdiff_t>(at),
                  fewer.begin() + static_cast<std::ptrdiff_t>(at + size));
      const check::Loaded loaded = load_text(joined(fewer));
      if (loaded.program != nullptr && !first_difference(loaded.program, steps, seed, quick).empty()) {
        lines = std::move(fewer);
      } else {
        at += size;
      }
    }
  }
  return joined(lines);
}

}  // namespace isodyne::test
