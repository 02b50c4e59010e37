#pragma once
// One combination of pieces: its equations, and its way through time. What it works on is a row of numbers: the states,
// the sources, 1, and how quickly those sources go up that move within a step (per second).
//
// Time within a step is counted in nanoseconds, because edges stand at whole ones: so many of them are made of their
// digits, each of them a matrix that is made when it is first needed and kept. What devices find by themselves lies
// between, and a series goes on from there.
//
// Memory is that of Combinations: combinations are met for the first time while the plant is stepped.

#include <vector>

#include "isodyne/networks/electric/dense.h"
#include "isodyne/networks/electric/equations.h"
#include "isodyne/networks/electric/readings.h"

namespace isodyne::networks::electric {

class Combinations;

/// What all combinations of a circuit have in common: sizes, and room for what is needed only while one is made.
struct Workshop {
  /// Beyond so many halvings of a nanosecond its parts are no shorter: 4e-15 s.
  static constexpr std::size_t kMostHalvings = 18;
  /// So many ways of reading a circuit: all of it at an instant of the bench, less between.
  static constexpr std::size_t kSlots = 2;

  Workshop(const Circuit& of, const Frame& in, double step_ns);

  const Circuit& circuit;
  const Frame& frame;
  double step_ns = 0, step = 0;  ///< the same; s
  std::size_t states, kept, columns, devices, unknowns;
  std::vector<Circuit::Moving> moving;
  std::size_t wide;  ///< columns, and those of the sources that move
  /// Of a time in nanoseconds: bits of a digit, and how many digits a step has. Longer digits are fewer products and
  /// more matrices.
  std::size_t digit_bits, digits;
  std::size_t most_parts() const { return digits * ((std::size_t{1} << digit_bits) - 1) + kMostHalvings; }
  /// Who reads it, per slot; then know_readers().
  const Reader* readers[kSlots] = {};
  void know_readers();
  std::vector<double> to_kept_memory;
  Columns to_kept;               ///< N' E
  std::vector<double> energies;  ///< the diagonal of E, if it has nothing else
  std::vector<double> room;      ///< for solve_nodes(), and for matrices in the making
  std::vector<double> series;    ///< for parts of a step
  std::size_t row() const { return std::max(wide, Columns::stride_of(states)); }
  /// Sources as they are `span` seconds after `now`; what else stands there remains.
  void move_on(const double* now, double span, double* later) const {
    for (std::size_t k = 0; k < moving.size(); ++k) {
      const std::size_t source = states + static_cast<std::size_t>(moving[k].source);
      later[source] = now[source] + now[columns + k] * span;
    }
  }
  /// Numbers that a combination needs: for its algebra, its way through time, a part of a step.
  std::size_t algebra, way, part;
};

class Combination {
 public:
  /// Where it gets its memory from, and how many parts it may have.
  void settle_in(Combinations& owner, const Workshop& shop);
  /// Its algebra: what is known at an instant. False: it has none.
  bool make(Workshop& shop, std::span<const double> inputs, std::span<const Position> positions);
  /// Its way through time, and what is read of it in this slot. Once made they stay.
  void make_ready(Workshop& shop, std::size_t slot);
  bool known() const { return algebra_ != nullptr; }
  bool ready(std::size_t slot) const { return rows_[slot].values != nullptr; }

  /// Within this time, ns, nothing turns by more than a radian: who looks so often sees all that comes and goes.
  double look() const { return look_; }
  /// Nothing decays more quickly than this, ns; at most a step.
  double quickest() const { return quickest_; }
  /// How far, in the root of energy, the way from `now` to `after` in `span` seconds may go beyond an even one: what
  /// decays quickly begins with a rate that shows how much of it there is, and in these coordinates nothing hides
  /// behind anything else. Times reach() it is how far a device may stand beyond where it does at both ends, V or A.
  double off_course(Workshop& shop, const double* now, const double* after, double span) const;
  double reach(std::size_t device) const { return reach_[device]; }
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
  /// The states after `span` nanoseconds, at most a step.
  void part(Workshop& shop, const double* now, double span, double* after);
  /// What the reader of the slot reads, over states, sources and 1.
  const Columns& rows(std::size_t slot) const { return rows_[slot]; }

  /// Where all devices stand on their pieces, V or A; room for their number and a block.
  void stand(const double* now, double* where) const { multiply(stand_, now, where); }
  double stand(std::size_t device, const double* now) const;
  /// By how much rounding may have changed that.
  double rounding(std::size_t device, const double* now) const;
  std::vector<Position> positions;  ///< one of those that are the same to it
  std::vector<std::uint8_t> codes;  ///< of its pieces
  std::int64_t steps = 0;           ///< that ended in it
  bool recent = false;              ///< needed again since the least needed ones were last looked for

 private:
  friend class Combinations;
  void forget_parts();
  void discretise(Workshop& shop);
  void over(Workshop& shop, double span_ns, bool whole_states, Columns& to);
  void compose(const Workshop& shop, const Columns& first, double first_s, const Columns& second, Columns& to) const;
  Columns part_at(const Workshop& shop, std::size_t place) const;
  std::size_t place_of(const Workshop& shop, std::size_t digit, std::size_t value) const {
    return (digit << shop.digit_bits) - digit + value - 1;
  }
  void make_part(Workshop& shop, std::size_t digit, std::size_t value);
  void make_half(Workshop& shop, std::size_t halvings);
  void keep(const Workshop& shop, std::size_t place, double first_ns, std::size_t first, std::size_t second);
  void go_on(Workshop& shop, const double* from, double span, double* after) const;

  Combinations* owner_ = nullptr;
  const Frame* frame_ = nullptr;
  double *algebra_ = nullptr, *way_ = nullptr;  ///< its memory
  double* w_ = nullptr;                         ///< unknowns by columns, row by row
  double *a_ = nullptr, *b_ = nullptr;          ///< x' = A x + B u of the states that remain, column by column
  double* reach_ = nullptr;
  Columns stand_, rates_, step_;
  Columns of_states_, of_sources_;  ///< the columns of step_
  Columns rows_[Workshop::kSlots];
  std::vector<double*> parts_;  ///< of a step, those that were made: by digit and its value, then by halvings
  std::size_t part_count_ = 0;
  double size_ = 0;  ///< |A|, 1/s
  double look_ = 0, quickest_ = 0;
  std::size_t halvings_ = 0;  ///< of a nanosecond, until a series is of use
  bool deep_ = false;         ///< more halvings would be needed than there are
};

}  // namespace isodyne::networks::electric
