// Circuits at random, each solved by its solver and by another way from the text alone: a differential-algebraic system
// of all node voltages and branch currents, integrated by a stiff method in steps so small that nothing is missed. Each
// is solved, or refused with a reason.

#include <cmath>
#include <cstdlib>
#include <iomanip>
#include <random>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

struct Branch {
  enum class Kind { resistor, inductor, capacitor, voltage, current, contact, diode };
  Kind kind = Kind::resistor;
  int a = 0, b = 0;
  double value = 0, series = 0, first = 0;
};

std::string text_of(const std::vector<Branch>& branches, int nodes) {
  std::string text = "use library \"circuits.dyne\"\nbench B { step 10 us\n  node ";
  for (int n = 1; n < nodes; ++n) text += fmt::format("{}n{}", n > 1 ? ", " : "", n);
  text += " : electric\n";
  const auto node = [](int n) { return n == 0 ? std::string("ground") : fmt::format("n{}", n); };
  for (std::size_t i = 0; i < branches.size(); ++i) {
    const Branch& e = branches[i];
    const std::string between = fmt::format(" between {}, {}\n", node(e.a), node(e.b));
    const auto number = [](double x) { return format_number(x); };
    switch (e.kind) {
      case Branch::Kind::resistor:
        text += fmt::format("  part e{} : Resistor(resistance = {} ohm)", i, number(e.value)) + between;
        break;
      case Branch::Kind::inductor:
        text += fmt::format("  part e{} : Inductor(inductance = {} mH, resistance = {} ohm)", i, number(e.value * 1e3),
                            number(e.series)) +
                between;
        break;
      case Branch::Kind::capacitor:
        text += fmt::format("  part e{} : Capacitor(capacitance = {} uF, resistance = {} ohm)", i,
                            number(e.value * 1e6), number(e.series)) +
                between;
        break;
      case Branch::Kind::voltage:
        text += fmt::format("  part e{} : VoltageSource", i) + between +
                fmt::format("  e{}.voltage = {} V\n", i, number(e.value));
        break;
      case Branch::Kind::current:
        text += fmt::format("  part e{} : CurrentSource", i) + between +
                fmt::format("  e{}.current = {} A\n", i, number(e.value));
        break;
      case Branch::Kind::contact:
        text += fmt::format("  part e{0} : Switch(closed_resistance = 10 mohm, open_resistance = 0.1 Mohm)", i) +
                between + fmt::format("  e{}.close = time >= {} us\n", i, number(e.value));
        break;
      case Branch::Kind::diode:
        text += fmt::format("  part e{} : Diode(resistance = 10 mohm, open_resistance = 0.1 Mohm, drop = 0.6 V)", i) +
                between;
        break;
    }
  }
  return text + "}\n";
}

using Row = std::vector<double>;

/// Rows of numbers, as few as a circuit of the tests has.
struct Grid {
  explicit Grid(int n) : size(n), values(static_cast<std::size_t>(n) * static_cast<std::size_t>(n)) {}
  double& operator()(int r, int c) {
    return values[static_cast<std::size_t>(r) * static_cast<std::size_t>(size) + static_cast<std::size_t>(c)];
  }
  int size;
  Row values;
};

/// Gauss, with row exchanges.
Row solved(Grid m, Row b) {
  const int n = m.size;
  const auto at = [&](int r) -> double& { return b[static_cast<std::size_t>(r)]; };
  for (int k = 0; k < n; ++k) {
    int pivot = k;
    for (int r = k + 1; r < n; ++r) {
      if (std::abs(m(r, k)) > std::abs(m(pivot, k))) pivot = r;
    }
    for (int c = 0; c < n && pivot != k; ++c) std::swap(m(k, c), m(pivot, c));
    std::swap(at(k), at(pivot));
    for (int r = k + 1; r < n; ++r) {
      const double factor = m(r, k) / m(k, k);
      for (int c = k; c < n && factor != 0; ++c) m(r, c) -= factor * m(k, c);
      at(r) -= factor * at(k);
    }
  }
  for (int k = n - 1; k >= 0; --k) {
    for (int c = k + 1; c < n; ++c) at(k) -= m(k, c) * at(c);
    at(k) /= m(k, k);
  }
  return b;
}

/// Voltages of nodes and currents of all branches, by Radau IIA of third order; characteristics are found anew in each
/// step.
class Other {
 public:
  Other(const std::vector<Branch>& branches, int nodes)
      : b_(branches),
        nodes_(nodes - 1),
        size_(nodes_ + static_cast<int>(b_.size())),
        z_(static_cast<std::size_t>(size_)),
        on_(b_.size(), false) {}

  void go(double from, double step) {
    for (int tries = 0; tries < 60; ++tries) {
      const Row after = radau(from, step);
      bool changed = false;
      for (std::size_t i = 0; i < b_.size() && !changed; ++i) {
        if (b_[i].kind != Branch::Kind::diode) continue;
        const double v = voltage(after, b_[i]);
        const bool on = v > 0.6;
        if (on == on_[i]) continue;
        on_[i] = on;
        changed = true;
      }
      if (changed) continue;
      z_ = after;
      return;
    }
    lost = true;
  }
  double voltage(const Row& z, const Branch& e) const {
    const auto node_of = [&](int n) { return n > 0 ? z[static_cast<std::size_t>(n - 1)] : 0.0; };
    return node_of(e.a) - node_of(e.b);
  }
  double node(int n) const { return z_[static_cast<std::size_t>(n - 1)]; }
  double current(std::size_t i) const { return z_[static_cast<std::size_t>(nodes_) + i]; }
  bool lost = false;

 private:
  /// E z' + F z = g
  Row radau(double from, double step) {
    Grid e(size_), f(size_);
    Row right(static_cast<std::size_t>(size_));
    const auto g = [&](int r) -> double& { return right[static_cast<std::size_t>(r)]; };
    for (std::size_t k = 0; k < b_.size(); ++k) {
      const Branch& br = b_[k];
      const int row = nodes_ + static_cast<int>(k);
      if (br.a > 0) f(br.a - 1, row) += 1;
      if (br.b > 0) f(br.b - 1, row) -= 1;
      const auto v = [&](Grid& m, double factor) {
        if (br.a > 0) m(row, br.a - 1) += factor;
        if (br.b > 0) m(row, br.b - 1) -= factor;
      };
      switch (br.kind) {
        case Branch::Kind::resistor:
          v(f, 1);
          f(row, row) -= br.value;
          break;
        case Branch::Kind::inductor:
          v(f, 1);
          f(row, row) -= br.series;
          e(row, row) -= br.value;
          break;
        case Branch::Kind::capacitor:  // i = C (v - R i)'
          v(e, br.value);
          e(row, row) -= br.value * br.series;
          f(row, row) -= 1;
          break;
        case Branch::Kind::voltage:
          v(f, 1);
          g(row) = br.value;
          break;
        case Branch::Kind::current:
          f(row, row) = 1;
          g(row) = br.value;
          break;
        case Branch::Kind::contact:
          v(f, 1);
          f(row, row) -= from * 1e6 >= br.value - 1e-6 ? 0.01 : 1e5;
          break;
        case Branch::Kind::diode:
          v(f, 1);
          f(row, row) -= on_[k] ? 0.01 : 1e5;
          if (on_[k]) g(row) = 0.6 - 0.01 * 0.6 / 1e5;
          break;
      }
    }
    Grid m(2 * size_);
    Row r(2 * static_cast<std::size_t>(size_));
    const double a[2][2] = {{5.0 / 12, -1.0 / 12}, {3.0 / 4, 1.0 / 4}};
    for (int stage = 0; stage < 2; ++stage) {
      for (int row = 0; row < size_; ++row) {
        double& to = r[static_cast<std::size_t>(stage * size_ + row)];
        to = g(row);
        for (int c = 0; c < size_; ++c) {
          to -= f(row, c) * z_[static_cast<std::size_t>(c)];
          for (int k = 0; k < 2; ++k)
            m(stage * size_ + row, k * size_ + c) = step * a[stage][k] * f(row, c) + (k == stage ? e(row, c) : 0.0);
        }
      }
    }
    const Row k = solved(std::move(m), std::move(r));
    Row after = z_;
    for (std::size_t i = 0; i < after.size(); ++i) after[i] += step * (a[1][0] * k[i] + a[1][1] * k[i + after.size()]);
    return after;
  }

  std::vector<Branch> b_;
  int nodes_, size_;
  Row z_;
  std::vector<bool> on_;
};

struct Tally {
  int solved = 0, refused = 0, compared = 0;
};

void try_one(std::mt19937_64& random, bool switching, Tally& tally) {
  const auto pick = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
  const auto between = [&](double low, double high) {
    return low * std::pow(high / low, static_cast<double>(pick(1001)) / 1000.0);
  };
  const int nodes = 2 + pick(5), count = nodes + pick(7);
  std::vector<Branch> branches;
  for (int i = 0; i < count; ++i) {
    Branch b;
    b.a = pick(nodes);
    do b.b = pick(nodes);
    while (b.b == b.a);
    const int kind = pick(switching ? 12 : 8);
    if (kind < 3) {
      b = {Branch::Kind::resistor, b.a, b.b, between(0.1, 1e4)};
    } else if (kind < 5) {
      b = {Branch::Kind::inductor, b.a, b.b, between(1e-4, 1e-1), pick(2) == 0 ? 0.0 : between(0.01, 10)};
    } else if (kind < 7) {
      b = {Branch::Kind::capacitor, b.a, b.b, between(1e-7, 1e-3), pick(2) == 0 ? 0.0 : between(0.001, 10)};
    } else if (kind == 7) {
      b = {pick(3) > 0 ? Branch::Kind::voltage : Branch::Kind::current, b.a, b.b,
           between(0.1, 100) * (pick(2) == 0 ? 1 : -1)};
    } else if (kind < 10) {
      b = {Branch::Kind::contact, b.a, b.b, 10.0 * pick(30)};
    } else {
      b = {Branch::Kind::diode, b.a, b.b};
    }
    branches.push_back(b);
  }
  const std::string text = text_of(branches, nodes);
  INFO(text);
  const check::Loaded loaded = load_text(text);
  if (!loaded.program) {
    ++tally.refused;
    CHECK(loaded.diagnostics.has_errors());
    return;
  }
  std::vector<std::string> names;
  for (int n = 1; n < nodes; ++n) names.push_back(fmt::format("n{}.v", n));
  for (std::size_t i = 0; i < branches.size(); ++i) names.push_back(fmt::format("e{}.i", i));
  Seen seen(loaded.program, names);
  bench::RunPlan plan;
  plan.longest = std::chrono::microseconds(300);
  const auto result = run_bench(seen, plan);
  if (result.ending != observe::Ending::cut_short && result.ending != observe::Ending::completed) {
    ++tally.refused;
    CHECK(has(result.explanation, "cannot go on"));
    CHECK_FALSE(has(result.explanation, "gives no number"));
    return;
  }
  ++tally.solved;
  Other other(branches, nodes);
  // From nothing: a first short step finds voltages and currents that agree with the sources.
  double scale_v = 1, scale_i = 1;
  for (std::size_t k = 0; k + 1 < seen.times.size() && !other.lost; ++k) {
    const double at = to_seconds(seen.times[k]);
    // Quick transients behind each instant are met by steps that begin small.
    const int parts = 64;
    for (double begin = 0, end = std::pow(2.0, -26); begin < 1;
         begin = end, end = std::min(1.0, std::min(2 * end, end + 1.0 / parts)))
      other.go(at + begin * 1e-5, (end - begin) * 1e-5);
  }
  // Nothing in these circuits can be as large: where currents go round between capacitances, its steps swing up.
  for (int n = 1; n < nodes; ++n) other.lost = other.lost || !(std::abs(other.node(n)) < 1e9);
  if (other.lost) return;
  ++tally.compared;
  for (std::size_t n = 0; n < names.size(); ++n) {
    for (const double x : seen.values[n])
      (names[n][0] == 'n' ? scale_v : scale_i) = std::max(names[n][0] == 'n' ? scale_v : scale_i, std::abs(x));
  }
  for (std::size_t n = 0; n < names.size(); ++n) {
    const bool voltage = names[n][0] == 'n';
    const double theirs =
        voltage ? other.node(static_cast<int>(n) + 1) : other.current(n - static_cast<std::size_t>(nodes - 1));
    const double off = std::abs(seen.values[n].back() - theirs) / (voltage ? scale_v : scale_i);
    INFO(std::setprecision(12) << names[n] << ": " << seen.values[n].back() << " and " << theirs);
    CHECK(off < (switching ? 2e-3 : 1e-4));
  }
}

/// How many: some in the tests, thousands by scripts/soak-circuits.
int wanted() {
  const char* more = std::getenv("ISODYNE_CIRCUITS");
#if defined(__SANITIZE_ADDRESS__)
  const int usual = 20;
#elif defined(__has_feature)
  const int usual = __has_feature(address_sanitizer) ? 20 : 100;
#else
  const int usual = 100;
#endif
  return more != nullptr ? std::atoi(more) : usual;
}

}  // namespace

TEST_CASE("Linear circuits at random are solved as another method does") {
  std::mt19937_64 random(20);
  Tally tally;
  for (int i = 0; i < wanted(); ++i) try_one(random, false, tally);
  WARN(tally.solved << " solved, " << tally.refused << " refused, " << tally.compared << " compared");
  CHECK(tally.compared > wanted() / 3);
}

TEST_CASE("Circuits with contacts and diodes at random are solved as another method does") {
  std::mt19937_64 random(21);
  Tally tally;
  for (int i = 0; i < wanted(); ++i) try_one(random, true, tally);
  WARN(tally.solved << " solved, " << tally.refused << " refused, " << tally.compared << " compared");
  CHECK(tally.compared > wanted() / 3);
}
