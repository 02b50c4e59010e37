#pragma once
// One combination of pieces: its equations, and its way through time. What it works on is a row of numbers: the states,
// the sources, and 1.

#include <vector>

#include "isodyne/networks/electric/dense.h"
#include "isodyne/networks/electric/readings.h"

namespace isodyne::networks::electric {

class Combination {
 public:
  /// Its algebra: what is known at an instant. `room` is for what is needed meanwhile. False: it has none.
  bool make(const Circuit& circuit, const Frame& frame, std::span<const double> inputs,
            std::span<const Position> positions, std::vector<double>& room);
  /// Its way through time, by steps of `step` seconds.
  void discretise(const Frame& frame, double step);
  bool discretised() const { return discretised_; }
  /// Within this time nothing turns by more than a radian: who looks so often sees all that comes and goes.
  double look() const { return look_; }

  /// The states a whole step later; `after` has room for Frame::stride() numbers.
  void whole_step(const double* now, double* after) const { multiply(whole_, now, after); }
  /// The same after `span` seconds, at most a step.
  void part(const double* now, double span, double* after);

  /// Where all devices stand on their pieces, V or A; room for their number and a block.
  void stand(const double* now, double* where) const { multiply(stand_, now, where); }
  double stand(std::size_t device, const double* now) const;
  /// By how much rounding may have changed that.
  double rounding(std::size_t device, const double* now) const;

  /// Rows of readings, made when they are first asked for: of `rows`, the same for a `slot` until it is forgotten.
  const Columns& rows(std::size_t slot, const Readings& readings, std::span<const std::int32_t> rows,
                      std::span<const double> inputs);
  void forget_rows(std::size_t slot) { rows_[slot] = {}; }

  std::vector<Position> positions;
  std::int64_t visits = 0;

 private:
  const Frame* frame_ = nullptr;
  std::vector<double> w_;      ///< unknowns by columns, row by row
  std::vector<double> rates_;  ///< states by columns, row by row
  Columns stand_, whole_;
  Columns rows_[2];
  std::vector<double> a_, b_;                ///< of what is kept: kept by kept, kept by sources + 1; column by column
  std::vector<std::vector<double>> levels_;  ///< integral of exp(A t) over the step, half of it, …
  std::vector<double> q_, r_, t_;
  double step_ = 0, look_ = 0;
  bool discretised_ = false;
};

}  // namespace isodyne::networks::electric
