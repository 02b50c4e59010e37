#pragma once
// What was judged, at every instant around the first breach and the worst instant of each requirement: so that who
// looks at a verdict later sees what it rests on, however seldom the recording has a row.
//
// The judge hands over the rows that it looks at, block by block, and which instants count now. Rows are kept for a
// little longer than the time behind an instant; an instant is taken when the one after it has been looked at and no
// worse one has come meanwhile. What the judge finds out later than that (a formula over a long time) has no rows here.

#include <cstdint>
#include <limits>
#include <optional>
#include <vector>

#include "isodyne/observe/witnessed.h"
#include "isodyne/program/program.h"

namespace isodyne::judge {

class Witness {
 public:
  static constexpr std::size_t kAround = 250;            ///< instants before one that counts, and as many behind it
  static constexpr std::size_t kMostRequirements = 500;  ///< those behind have no rows
  static constexpr std::size_t kMostColumns = 2048;      ///< where requirements read more, none has

  /// What each requirement reads, as places in a row; `columns`: what the places of a row are; `batch`: rows of one
  /// call of looked_at() at most.
  Witness(std::vector<program::VarId> columns, std::vector<std::vector<std::int32_t>> reads, std::size_t batch);

  /// The next images, `count` of them: the vectors, which have room for a batch, may be given back with other content.
  void looked_at(std::vector<double>& rows, std::vector<Time>& times, std::size_t count);
  /// After each call of looked_at(): where the requirement was broken first and is worst, as far as that is known.
  void mark(std::size_t requirement, const std::optional<Time>& first_breach, const std::optional<Time>& worst);
  /// There are no more images.
  void finish();
  observe::Witnessed all() const;

 private:
  struct Mark {
    std::optional<Time> at;
    bool taken = true;
    std::vector<Time> times;
    std::vector<double> rows;  ///< of what the requirement reads
  };
  struct Kept {
    std::vector<std::int32_t> reads;
    Mark first, worst;
  };
  /// Rows that are still here. They change hands with the judge's, for copying them all would cost as much as judging.
  struct Stock {
    std::vector<double> rows;
    std::vector<Time> times;
    std::size_t count = 0;
  };
  Stock& fresh();
  std::optional<std::size_t> place_of(Time at) const;
  void note(const Kept& kept, Mark& mark, const std::optional<Time>& at);
  void take(const Kept& kept, Mark& mark) const;

  std::vector<program::VarId> columns_;
  std::vector<Kept> kept_;
  std::size_t width_, batch_;
  std::vector<Stock> stock_;             ///< a ring
  std::size_t oldest_ = 0, in_use_ = 0;  ///< of it
  std::size_t rows_here_ = 0;
};

}  // namespace isodyne::judge
