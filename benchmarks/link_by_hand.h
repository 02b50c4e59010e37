#pragma once
// The isolated converter of circuit_speed.cpp written by hand: three states, its matrices worked out beforehand for
// every nanosecond of a step, its gates as a list of instants, its diodes by the sign of the current.

#include <array>
#include <cmath>
#include <cstddef>
#include <vector>

namespace isodyne::measure {

class LinkByHand {
 public:
  LinkByHand() {
    for (std::size_t c = 0; c < kCombinations; ++c) {
      for (std::size_t ns = 0; ns <= kStep; ++ns) ways_[c][ns] = way(c, static_cast<double>(ns) * 1e-9);
    }
  }

  /// A period of the gates, 20 us: 200 steps of 100 ns.
  void period() {
    std::size_t next = 0;
    for (int step = 0; step < 200; ++step) {
      const int begin = step * kStep;
      int at = begin;
      for (; next < kEvents.size() && kEvents[next].at < begin + kStep; ++next) {
        if (kEvents[next].at > at) go(static_cast<std::size_t>(kEvents[next].at - at));
        at = kEvents[next].at;
        turn(kEvents[next]);
      }
      go(static_cast<std::size_t>(begin + kStep - at));
    }
  }
  double current() const { return x_[2]; }
  double link() const { return x_[1]; }

 private:
  static constexpr int kStep = 100;
  static constexpr std::size_t kCombinations = 16;
  struct Event {
    int at;          ///< ns of the period
    bool secondary;  ///< bridge
    bool dead;       ///< its transistors go off; else those for `up` go on
    bool up;
  };
  static constexpr std::array<Event, 8> kEvents{{{0, false, true, true},
                                                 {300, false, false, true},
                                                 {1111, true, true, true},
                                                 {1411, true, false, true},
                                                 {10000, false, true, false},
                                                 {10300, false, false, false},
                                                 {11111, true, true, false},
                                                 {11411, true, false, false}}};
  using Way = std::array<double, 12>;  ///< three rows over the states and 1

  void go(std::size_t ns) {
    const Way& w = ways_[combination_][ns];
    const double a = x_[0], b = x_[1], c = x_[2];
    for (std::size_t r = 0; r < 3; ++r) x_[r] = w[4 * r] * a + w[4 * r + 1] * b + w[4 * r + 2] * c + w[4 * r + 3];
  }
  void turn(const Event& e) {
    // Bits: primary up, primary by diodes, secondary up, secondary by diodes.
    const bool forward = x_[2] > 0, up = e.dead ? (e.secondary ? forward : !forward) : e.up;
    const std::size_t shift = e.secondary ? 2 : 0;
    combination_ =
        (combination_ & ~(std::size_t{3} << shift)) | (std::size_t{up} << shift) | (std::size_t{e.dead} << (shift + 1));
  }

  /// x' = A x + b over `span`: a Taylor series for a 64th of it, doubled six times.
  static Way way(std::size_t combination, double span) {
    const double s1 = combination & 1 ? 1 : -1, s2 = combination & 4 ? 1 : -1, n = 4.0 / 3;
    const double drop = (combination & 2 ? -1.8 * s1 : 0) + (combination & 8 ? 1.8 * n * s2 : 0);
    const double esr = 0.002, load = 12, share = 1 / (1 + esr / load);
    // The link: u = (v + esr n s2 i) share; its capacitor takes n s2 i - u / load.
    double m[4][4] = {
        {-1 / 0.02 / 0.01, 0, -s1 / 0.01, 400 / 0.02 / 0.01},
        {0, -share / load / 500e-6, n * s2 * (1 - esr * share / load) / 500e-6, 0},
        {s1 / 2e-5, -n * s2 * share / 2e-5, -(0.005 + 0.006 + n * n * (0.006 + esr * share)) / 2e-5, -drop / 2e-5},
        {0, 0, 0, 0}};
    double e[4][4], term[4][4] = {}, next[4][4];
    const double t = span / 64;
    for (int r = 0; r < 4; ++r) {
      for (int c = 0; c < 4; ++c) e[r][c] = term[r][c] = r == c ? 1 : 0;
    }
    const auto times = [](const double(&a)[4][4], const double(&b)[4][4], double(&to)[4][4]) {
      for (int r = 0; r < 4; ++r) {
        for (int c = 0; c < 4; ++c) {
          to[r][c] = 0;
          for (int k = 0; k < 4; ++k) to[r][c] += a[r][k] * b[k][c];
        }
      }
    };
    for (int k = 1; k < 12; ++k) {
      times(term, m, next);
      for (int r = 0; r < 4; ++r) {
        for (int c = 0; c < 4; ++c) e[r][c] += term[r][c] = next[r][c] * t / k;
      }
    }
    for (int k = 0; k < 6; ++k) {
      times(e, e, next);
      for (int r = 0; r < 4; ++r) {
        for (int c = 0; c < 4; ++c) e[r][c] = next[r][c];
      }
    }
    Way w{};
    for (std::size_t r = 0; r < 3; ++r) {
      for (std::size_t c = 0; c < 4; ++c) w[4 * r + c] = e[r][c];
    }
    return w;
  }

  std::array<double, 3> x_{400, 300, 0};
  std::size_t combination_ = 0;
  std::vector<std::array<Way, kStep + 1>> ways_ = std::vector<std::array<Way, kStep + 1>>(kCombinations);
};

}  // namespace isodyne::measure
