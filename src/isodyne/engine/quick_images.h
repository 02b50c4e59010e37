#pragma once
// Rows of quick groups as images again, for expressions that read quantities of several groups: what is in no row is
// held as it was at the instant of the bench before, and edges (`x rises`) are those between two rows.

#include <optional>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/program/plant.h"

namespace isodyne::engine {

class QuickImages {
 public:
  /// `view`: as program::quick_view() gives it.
  QuickImages(const program::Plant& program, program::QuickView view);

  bool any() const { return view_.any(); }
  const program::QuickView& view() const { return view_; }
  /// Places of quantities among the columns of a row; kNone: it is in none.
  std::vector<std::int32_t> places_of(const std::vector<program::VarId>& ids) const;

  // In the order of the instants; what is given is valid until the next call.
  /// The image of an instant of the bench; where nobody looks between two of them it is what was given.
  const double* image(const double* variables);
  /// The row of an instant between two of the bench, at `seconds`.
  const double* row(double seconds, const double* values);

 private:
  const double* shown();

  program::QuickView view_;
  std::size_t variables_;
  std::vector<double> values_;
  std::vector<program::VarId> previous_;  ///< of quick edges
  std::vector<double> next_previous_;
  std::optional<Evaluator> edges_;
  bool begun_ = false;
};

}  // namespace isodyne::engine
