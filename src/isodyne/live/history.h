#pragma once
// What a quantity was over simulated time, as it was told: in each stretch between two tellings the least, the greatest
// and the last value. Bounded: where there are too many, old stretches are put together two by two.

#include <cmath>
#include <optional>
#include <vector>

namespace isodyne::live {

/// (from, to], in seconds; values in SI. Where a value was no finite number, least is above greatest.
struct Stretch {
  double from = 0, to = 0, least = HUGE_VAL, greatest = -HUGE_VAL, last = NAN;
  bool any() const { return least <= greatest; }
};

class History {
 public:
  static constexpr std::size_t kMost = 1u << 15;

  /// Later than what is there; else it is left out. The first stretch is an instant.
  void add(double to, double least, double greatest, double last);
  /// A row of a recording: from the value before straight to this one. As many as there are.
  void add_row(double to, double before, double value);
  /// A gap: nothing is known from the last stretch to the next one.
  void lose() { gap_ = true; }
  void clear() { all_.clear(), gap_ = false; }

  /// Least and greatest of all stretches that touch [from, to]; of none: not any(). `last` is that of the last one that
  /// ends by `to`, or else of the one that reaches beyond.
  Stretch fold(double from, double to) const;
  /// The stretch that t is in.
  const Stretch* at(double t) const;
  const std::vector<Stretch>& all() const { return all_; }

 private:
  std::size_t first_touching(double from) const;
  std::vector<Stretch> all_;
  bool gap_ = false;
};

}  // namespace isodyne::live
