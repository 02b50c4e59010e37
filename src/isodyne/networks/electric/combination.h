#pragma once
// One combination of pieces: its equations, and its way through time. What it works on is a row of numbers: the states,
// the sources, and 1.
//
// Its memory is given to it once, and then no other is needed: combinations are met for the first time while the plant
// is stepped.

#include <memory>
#include <vector>

#include "isodyne/networks/electric/dense.h"
#include "isodyne/networks/electric/readings.h"

namespace isodyne::networks::electric {

/// What all combinations of a circuit have in common: sizes, and room for what is needed only while one is made.
struct Workshop {
  /// Beyond so many halvings of a step its parts are no shorter: 1 us in parts of 4e-15 s.
  static constexpr std::size_t kMostLevels = 28;
  /// So many ways of reading a circuit: all of it at an instant of the bench, less between.
  static constexpr std::size_t kSlots = 2;

  Workshop(const Circuit& of, const Readings& what, const Frame& in, double step_s);

  const Circuit& circuit;
  const Readings& readings;
  const Frame& frame;
  double step = 0;  ///< s
  std::size_t states, kept, columns, devices, unknowns;
  /// Which rows are read, per slot.
  std::vector<std::int32_t> rows[kSlots];
  std::vector<double> room;    ///< for solve_nodes(), and for matrices in the making
  std::vector<double> series;  ///< for parts of a step
  std::size_t row() const { return std::max(columns, Columns::stride_of(states)); }
  std::size_t memory = 0;  ///< numbers that a combination needs
};

class Combination {
 public:
  /// Memory for Workshop::memory numbers, which stays.
  void settle_in(double* memory) { memory_ = memory; }
  /// Its algebra: what is known at an instant. False: it has none.
  bool make(Workshop& shop, std::span<const double> inputs, std::span<const Position> positions);
  /// Its way through time; also what is read in this slot at the end of a step. Once made they stay.
  void make_ready(Workshop& shop, std::span<const double> inputs, std::size_t slot);
  bool ready(std::size_t slot) const { return step_[slot].values != nullptr; }

  /// Within this time nothing turns by more than a radian: who looks so often sees all that comes and goes.
  double look() const { return look_; }
  /// The states a whole step later, then where its devices stand there, then the rows of the slot; room for a block
  /// more.
  void whole_step(std::size_t slot, const double* now, double* after) const { multiply(step_[slot], now, after); }
  /// The states after `span` seconds, at most a step.
  void part(Workshop& shop, const double* now, double span, double* after) const;
  /// The rows of the slot as things are now.
  void read(std::size_t slot, const double* now, double* seen) const { multiply(rows_[slot], now, seen); }

  /// Where all devices stand on their pieces, V or A; room for their number and a block.
  void stand(const double* now, double* where) const { multiply(stand_, now, where); }
  double stand(std::size_t device, const double* now) const;
  /// By how much rounding may have changed that.
  double rounding(std::size_t device, const double* now) const;
  std::vector<Position> positions;  ///< one of those that are the same to it
  std::vector<std::uint8_t> codes;  ///< of its pieces
  std::int64_t visits = 0, last_use = 0;

 private:
  void discretise(Workshop& shop);
  void compose(const Columns& rows, std::size_t first, Columns& into) const;

  double* memory_ = nullptr;
  std::size_t used_ = 0;
  double* take(std::size_t count);
  Columns shaped(std::size_t rows, std::size_t columns);

  const Frame* frame_ = nullptr;
  double* w_ = nullptr;  ///< unknowns by columns, row by row
  Columns stand_, rates_;
  Columns rows_[Workshop::kSlots], step_[Workshop::kSlots];
  Columns levels_[Workshop::kMostLevels + 1];  ///< states after a step, after half of it, …
  std::size_t level_count_ = 0;
  double step_s_ = 0, look_ = 0;
  bool deep_ = false;  ///< more halvings would be needed than there are
};

/// Those that were met, as many as memory is there for; the one that was not used for longest makes room. What comes
/// out does not depend on which are there.
class Combinations {
 public:
  /// Forgets all.
  void begin(const Workshop& shop);
  /// Null: it is not there.
  Combination* find(std::span<const std::uint8_t> codes);
  /// One to be made; it is found from then on. Not `other`.
  Combination& fresh(std::span<const std::uint8_t> codes, const Combination* other);
  const std::vector<Combination>& all() const { return all_; }
  std::size_t count() const { return count_; }

 private:
  static std::uint64_t key_of(std::span<const std::uint8_t> codes);
  std::unique_ptr<double[]> memory_;
  std::vector<Combination> all_;
  std::vector<std::uint64_t> keys_;   ///< of all_
  std::vector<std::int32_t> places_;  ///< by key: which of all_, or -1; at most half of them are taken
  std::size_t count_ = 0;
  std::int64_t clock_ = 0;
};

}  // namespace isodyne::networks::electric
