#pragma once
// One combination of pieces: its equations, and its way through time. What it works on is a row of numbers: the states,
// the sources, 1, and how quickly those sources go up that move within a step (per second).
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
  std::vector<Circuit::Moving> moving;
  std::size_t wide;  ///< columns, and those of the sources that move
  /// Which rows are read, per slot.
  std::vector<std::int32_t> rows[kSlots];
  std::vector<double> room;    ///< for solve_nodes(), and for matrices in the making
  std::vector<double> series;  ///< for parts of a step
  std::size_t row() const { return std::max(wide, Columns::stride_of(states)); }
  /// Sources as they are `span` seconds after `now`; what else stands there remains.
  void move_on(const double* now, double span, double* later) const {
    for (std::size_t k = 0; k < moving.size(); ++k) {
      const std::size_t source = states + static_cast<std::size_t>(moving[k].source);
      later[source] = now[source] + now[columns + k] * span;
    }
  }
  std::size_t memory = 0;  ///< numbers that a combination needs
};

/// Memory that is handed out from the front, and given back all at once.
struct Arena {
  std::unique_ptr<double[]> numbers;
  std::size_t size = 0, used = 0;
  bool has(std::size_t count) const { return size - used >= count; }
  double* take(std::size_t count) {
    double* const at = numbers.get() + used;
    used += count;
    return at;
  }
};

class Combination {
 public:
  /// Where it gets its memory from.
  void settle_in(Arena& arena) { arena_ = &arena; }
  /// Its algebra: what is known at an instant. False: it has none.
  bool make(Workshop& shop, std::span<const double> inputs, std::span<const Position> positions);
  /// Its way through time, and what is read of it in this slot. Once made they stay.
  void make_ready(Workshop& shop, std::span<const double> inputs, std::size_t slot);
  bool ready(std::size_t slot) const { return rows_[slot].values != nullptr; }

  /// Within this time nothing turns by more than a radian: who looks so often sees all that comes and goes.
  double look() const { return look_; }
  /// The states a whole step later, then where its devices stand there; room for a block more.
  void whole_step(const double* now, double* after) const {
    held_part(now, after);
    multiply_onto(of_states_, now, after);
  }
  /// What of that follows from sources alone.
  void held_part(const double* now, double* base) const { multiply(of_sources_, now + of_states_.columns, base); }
  /// Whole steps with sources that are held, see dense.h; where the devices stand comes behind the states.
  std::size_t march_on(const double* base, double* x, const double* low, const double* high, std::size_t most) const {
    return march(of_states_, base, x, low, high, most);
  }
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
  std::int64_t steps = 0;           ///< that ended in it

 private:
  void discretise(Workshop& shop);

  Arena* arena_ = nullptr;
  double* take(std::size_t count) { return arena_->take(count); }
  Columns shaped(std::size_t rows, std::size_t columns);

  const Frame* frame_ = nullptr;
  double* w_ = nullptr;  ///< unknowns by columns, row by row
  Columns stand_, rates_, step_;
  Columns of_states_, of_sources_;  ///< the columns of step_
  Columns rows_[Workshop::kSlots];
  Columns levels_[Workshop::kMostLevels + 1];  ///< states after a step, after half of it, …
  std::size_t level_count_ = 0;
  double step_s_ = 0, look_ = 0;
  bool deep_ = false;  ///< more halvings would be needed than there are
};

/// Those that were met. Where memory is full all are forgotten, and those that are needed are made anew; what comes out
/// does not depend on which are there.
class Combinations {
 public:
  /// Forgets all, and has room for this circuit, of which there are `possible` combinations at most.
  void begin(const Workshop& shop, std::size_t possible);
  /// Has the machine give all of the memory now, and not while the plant is stepped.
  void touch();
  /// False: all have to be forgotten first. Room for one more; and memory for what one of them still needs.
  bool room_for(const Workshop& shop) const { return count_ < all_.size() && memory_for(shop); }
  bool memory_for(const Workshop& shop) const { return arena_.has(shop.memory); }
  void forget();
  /// The same where they are of no more use: nothing was lost.
  void clear();
  /// Null: it is not there.
  Combination* find(std::span<const std::uint8_t> codes);
  /// One to be made; it is found from then on.
  Combination& fresh(std::span<const std::uint8_t> codes);
  std::size_t count() const { return count_; }
  const Combination& at(std::size_t which) const { return all_[which]; }
  std::int64_t forgotten() const { return forgotten_; }

 private:
  static std::uint64_t key_of(std::span<const std::uint8_t> codes);
  Arena arena_;
  std::vector<Combination> all_;
  std::vector<std::uint64_t> keys_;   ///< of all_
  std::vector<std::int32_t> places_;  ///< by key: which of all_, or -1; at most half of them are taken
  std::size_t count_ = 0;
  std::int64_t forgotten_ = 0;
};

}  // namespace isodyne::networks::electric
