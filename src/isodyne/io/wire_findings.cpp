#include "isodyne/io/wire_findings.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include <fmt/format.h>

#include "isodyne/core/random.h"

namespace isodyne::io {

namespace {

constexpr std::size_t kEnds = 4, kPattern = kLevels - kEnds;
constexpr double kRelated = 0.9;      // the correlation from which on two rows of levels belong together
constexpr double kTolerance = 0.005;  // of the way between both ends, beside what the channels cannot tell apart

double mean(const std::vector<double>& x) {
  return std::accumulate(x.begin(), x.end(), 0.0) / static_cast<double>(x.size());
}

/// The levels for which an input was not at one of its ends: there more may have been on the wire than it says. All of
/// them if too few are left.
std::vector<std::size_t> telling(const Wired& in) {
  constexpr std::size_t kEnough = 8;
  std::vector<std::size_t> inside, all;
  const double margin = 0.01 + 3 * in.noise;
  for (std::size_t i = 0; i < in.level.size(); ++i) {
    all.push_back(i);
    if (!in.line && in.level[i] >= margin && in.level[i] <= 1 - margin) inside.push_back(i);
  }
  return inside.size() < kEnough ? all : inside;
}

std::vector<double> taken(const std::vector<double>& x, const std::vector<std::size_t>& which) {
  std::vector<double> y;
  for (const std::size_t i : which) y.push_back(x[i]);
  return y;
}

/// Sums of squares about the means.
struct Spread {
  double xx = 0, yy = 0, xy = 0, mean_x = 0, mean_y = 0;
  Spread(const std::vector<double>& x, const std::vector<double>& y) : mean_x(mean(x)), mean_y(mean(y)) {
    for (std::size_t i = 0; i < x.size(); ++i) {
      xx += (x[i] - mean_x) * (x[i] - mean_x);
      yy += (y[i] - mean_y) * (y[i] - mean_y);
      xy += (x[i] - mean_x) * (y[i] - mean_y);
    }
  }
  double correlation() const { return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : 0; }
};

WireFinding judge(const std::vector<std::vector<double>>& sent, const Wired& in) {
  WireFinding found;
  found.noise = in.noise;
  const double quiet = kTolerance + 2 * in.resolution + 4 * in.known_noise;
  const auto [least, most] = std::minmax_element(in.level.begin(), in.level.end());
  if (*most - *least <= quiet && in.noise <= quiet) {
    found.offset = mean(in.level);
    found.state = std::abs(found.offset - in.nothing) <= quiet ? WireState::open : WireState::dead;
    return found;
  }
  const std::vector<std::size_t> which = telling(in);
  const std::vector<double> read = taken(in.level, which);
  const Spread own(taken(sent[in.output], which), read);
  if (std::abs(own.correlation()) < kRelated) {
    double best = 0;
    for (std::size_t k = 0; k < sent.size(); ++k) {
      const double r = std::abs(Spread(taken(sent[k], which), read).correlation());
      if (r <= best) continue;
      best = r;
      found.other = k;
    }
    found.state = best >= kRelated ? WireState::crossed : in.noise > quiet ? WireState::noisy : WireState::dead;
    return found;
  }
  found.factor = own.xy / own.xx;  // least squares: read = factor * sent + offset
  found.offset = own.mean_y - found.factor * own.mean_x;
  if (found.factor < 0) {
    found.state = WireState::inverted;
    // With noise the line through the points is uncertain itself: some six of its standard errors are let pass.
  } else if (std::abs(found.factor - 1) > 2 * (quiet + 1.5 * in.noise) ||
             std::abs(found.offset) > quiet + 1.5 * in.noise) {
    found.state = WireState::scaled;
  } else if (in.noise > quiet) {
    found.state = WireState::noisy;
  }
  return found;
}

}  // namespace

std::vector<double> levels_of(std::size_t output, bool line, double zero, std::uint64_t seed) {
  std::vector<double> levels{0, 1, std::clamp(line ? 0.0 : zero, 0.0, 1.0), 0};
  RandomStream random(seed, fmt::format("loopback {}", output));
  for (std::size_t i = 0; i < kPattern; ++i) {
    if (line) {  // its number, bit by bit, and then the same upside down: every line changes, and no two alike
      const std::size_t bit = i % (kPattern / 2);
      const bool set = ((output + 1) >> bit & 1) != 0;
      levels.push_back(set == (i < kPattern / 2) ? 1 : 0);
    } else {
      levels.push_back(random.uniform());
    }
  }
  return levels;
}

const char* wire_word(WireState state) {
  switch (state) {
    case WireState::good:
      return "good";
    case WireState::open:
      return "open";
    case WireState::crossed:
      return "crossed";
    case WireState::inverted:
      return "inverted";
    case WireState::scaled:
      return "scaled";
    case WireState::noisy:
      return "noisy";
    case WireState::dead:
      return "dead";
  }
  return "";
}

std::vector<WireFinding> judge_wires(const std::vector<std::vector<double>>& sent, const std::vector<Wired>& inputs) {
  std::vector<WireFinding> found;
  for (const Wired& in : inputs) found.push_back(judge(sent, in));
  return found;
}

}  // namespace isodyne::io
