// What 2,000 sensor channels cost at one instant, against the same arithmetic written by hand in C. Prints Markdown.
// Exit status 1 if the bound of docs/performance.md is missed.

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <vector>

#include <fmt/format.h>

#include "isodyne/io/channel.h"

using namespace isodyne;

namespace {

constexpr int kChannels = 2000;
using Clock = std::chrono::steady_clock;

/// What an expert would write for such channels, which all have other scales: 4 .. 20 mA, a filter, noise, a word.
struct ByHand {
  double low = 0, high = 10, low_signal = 4e-3, high_signal = 20e-3, least = 3.8e-3, most = 20.5e-3;
  double low_count = 0, high_count = 32000, lowest = -32768, highest = 32767;
  double filtered = 0, before = 0, share = 0, share_before = 0, noise = 0;
  bool started = false;
  std::int64_t saturated = 0;
  RandomStream random;
};

double by_hand(ByHand& c, double x, double& signal, double& counts) {
  const double meant = c.low_signal + (x - c.low) * (c.high_signal - c.low_signal) / (c.high - c.low);
  signal = std::min(std::max(meant, c.least), c.most);
  if (signal != meant) x = c.low + (signal - c.low_signal) * (c.high - c.low) / (c.high_signal - c.low_signal);
  c.filtered = c.started ? c.filtered + (c.share * (x - c.filtered) + c.share_before * (c.before - c.filtered)) : x;
  c.started = true;
  c.before = x;
  x = c.filtered;
  if (c.noise > 0) x += c.noise * c.random.normal();
  counts = std::round(c.low_count + (x - c.low) * (c.high_count - c.low_count) / (c.high - c.low));
  if (!(counts >= c.lowest && counts <= c.highest)) {
    counts = counts > c.highest ? c.highest : c.lowest;
    ++c.saturated;
  }
  return c.low + (counts - c.low_count) * (c.high - c.low) / (c.high_count - c.low_count);
}

program::Sensor channel(int i, bool noisy) {
  program::Sensor s;
  s.name = fmt::format("s{}", i);
  s.period = std::chrono::milliseconds(1);
  s.filter = std::chrono::milliseconds(10);
  s.range = {0, 10};
  s.to_signal = program::Linear{0, 10, 4e-3, 20e-3};
  s.signal_limits = {3.8e-3, 20.5e-3};
  s.to_counts = program::Linear{0, 10, 0, 32000};
  s.word = {16, true, false, -32768, 32767};
  s.noise = noisy ? 2e-3 : 0;
  return s;
}

/// Nanoseconds per channel of ours and of the hand's, and the median ratio of turns.
bool compare(bool noisy) {
  std::vector<program::Sensor> sensors;
  for (int i = 0; i < kChannels; ++i) sensors.push_back(channel(i, noisy));
  std::vector<io::SensorChannel> ours;
  std::vector<ByHand> hand(kChannels);
  for (int i = 0; i < kChannels; ++i) {
    const auto k = static_cast<std::size_t>(i);
    ours.emplace_back(sensors[k], 1);
    const double fall = -std::expm1(-0.001 / 0.01), lag = fall / (0.001 / 0.01);
    hand[k].share = 1 - lag;
    hand[k].share_before = lag - (1 - fall);
    hand[k].noise = sensors[k].noise;
    hand[k].random = RandomStream(1, sensors[k].name);
  }
  std::vector<double> x(kChannels), values(kChannels), other(kChannels), signals(kChannels), counts(kChannels);
  std::vector<double> ratios;
  double our_ns = 0, hand_ns = 0;
  constexpr int kInstants = 200;
  std::int64_t now = 0;
  for (int turn = 0; turn < 21; ++turn) {
    const auto begin = Clock::now();
    for (int n = 0; n < kInstants; ++n) {
      for (std::size_t i = 0; i < kChannels; ++i) {
        const io::Sample got = ours[i].sample(x[i], (now + n) * std::chrono::milliseconds(1), {});
        values[i] = got.value;
        signals[i] = got.signal;
        counts[i] = got.counts;
      }
    }
    const auto middle = Clock::now();
    for (int n = 0; n < kInstants; ++n) {
      for (std::size_t i = 0; i < kChannels; ++i) other[i] = by_hand(hand[i], x[i], signals[i], counts[i]);
    }
    const auto end = Clock::now();
    const double a = std::chrono::duration<double, std::nano>(middle - begin).count() / kInstants / kChannels;
    const double b = std::chrono::duration<double, std::nano>(end - middle).count() / kInstants / kChannels;
    ratios.push_back(a / b);
    our_ns = a;
    hand_ns = b;
    for (std::size_t i = 0; i < kChannels; ++i) x[i] = 5 + 6 * std::sin(0.1 * turn + 0.01 * static_cast<double>(i));
    now += kInstants;
    if (values != other) {  // the same numbers, or it is not the same work
      std::fputs("the channels and the C by hand differ\n", stderr);
      return false;
    }
  }
  std::sort(ratios.begin(), ratios.end());
  const double ratio = ratios[ratios.size() / 2];
  fmt::print("| 2,000 channels{}, against C by hand | {:.1f} ns each | {:.1f} ns each | {:.2f} | 1.50 |{}\n",
             noisy ? " with noise" : "", our_ns, hand_ns, ratio, ratio > 1.5 ? " missed |" : "  |");
  return ratio <= 1.5;
}

}  // namespace

int main() {
  fmt::print("| work | Isodyne | against | ratio | bound |\n|---|---:|---:|---:|---:|\n");
  const bool plain = compare(false), noisy = compare(true);
  return plain && noisy ? 0 : 1;
}
