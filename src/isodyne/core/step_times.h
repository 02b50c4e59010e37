#pragma once
// How long things take, step by step: a histogram that the stepping thread can fill without allocating.

#include <algorithm>
#include <array>
#include <bit>
#include <chrono>
#include <cstdint>

#include "isodyne/core/count.h"

namespace isodyne {

/// Durations from 1 ns to minutes in steps of about 3 %. Others may look while one thread fills it.
class StepTimes {
 public:
  void add(std::int64_t ns) {
    const auto t = static_cast<std::uint64_t>(ns < 1 ? 1 : ns);
    const auto power = static_cast<std::size_t>(std::bit_width(t) - 1);
    const std::size_t part = power < 5 ? 0 : static_cast<std::size_t>((t >> (power - 5)) & 31u);
    ++bins_[power < 5 ? static_cast<std::size_t>(t) : 32 * (power - 4) + part];
    ++count_;
    total_ns_ += ns;
    if (ns > longest_) longest_ = ns;
  }
  /// Takes over what another has seen.
  void join(const StepTimes& other) {
    for (std::size_t i = 0; i < bins_.size(); ++i) bins_[i] += other.bins_[i];
    count_ += other.count_;
    total_ns_ += other.total_ns_;
    longest_ = std::max<std::int64_t>(longest_, other.longest_);
  }
  /// The time that this share of all does not exceed, ns.
  double quantile(double share) const {
    const double wanted = share * static_cast<double>(count());
    double below = 0;
    for (std::size_t i = 0; i < bins_.size(); ++i) {
      below += static_cast<double>(std::int64_t{bins_[i]});
      if (below >= wanted && below > 0) return std::min(middle(i), static_cast<double>(longest()));
    }
    return static_cast<double>(longest());
  }
  /// Calls `use` with from, to (ns) and the number of all bins that are not empty, in their order.
  template <typename Use>
  void each(Use use) const {
    for (std::size_t i = 0; i < bins_.size(); ++i) {
      if (bins_[i] == 0) continue;
      const double half = width(i) / 2;
      use(middle(i) - half, middle(i) + half, bins_[i]);
    }
  }
  std::int64_t longest() const { return longest_; }
  std::int64_t count() const { return count_; }
  double total_seconds() const { return static_cast<double>(std::int64_t{total_ns_}) / 1e9; }

 private:
  static double width(std::size_t bin) {
    return bin < 32 ? 1 : static_cast<double>(std::uint64_t{1} << (bin / 32 - 1));
  }
  static double middle(std::size_t bin) {
    if (bin < 32) return static_cast<double>(bin);
    return (32 + static_cast<double>(bin % 32) + 0.5) * width(bin);
  }
  std::array<Count, 32 * 40> bins_{};
  Count count_, total_ns_, longest_;
};

using Stopwatch = std::chrono::steady_clock;

}  // namespace isodyne
