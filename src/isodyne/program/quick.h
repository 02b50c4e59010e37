#pragma once
// What of quick groups is seen between two instants of the bench, and by whom.
//
// Whoever names a quantity of a group that is stepped more often than the bench looks at it at that group's own
// instants: a recording that is asked for so often, a requirement, a measure. Of everything else only the instants of
// the bench are seen.

#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::program {

/// At which instants a requirement or a measure is asked: those of the quickest group of which it reads something that
/// moves; never less often than the bench. All else that it reads is held meanwhile.
Time asked_every(const Program& program, const Requirement& requirement);
Time asked_every(const Program& program, const Measure& measure);
/// The same of what some expressions read.
Time seen_every(const Program& program, const std::vector<NodeId>& nodes);

struct QuickView {
  Time period{};               ///< of the instants that somebody looks at; 0: nobody does
  std::vector<VarId> columns;  ///< what is looked at, in rising order
  bool any() const { return period.count() > 0; }
};
/// All of it together.
QuickView quick_view(const Program& program);

/// The edges (`x rises`) whose condition moves between two instants of the bench, as places in Program::edges.
std::vector<std::size_t> quick_edges(const Program& program);

}  // namespace isodyne::program
