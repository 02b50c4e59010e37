#pragma once
// What of quick groups is seen between two instants of the bench, and by whom.
//
// Whoever names a quantity of a group that is stepped more often than the bench looks at it at that group's own
// instants: a recording that is asked for so often, a requirement, a measure. Of everything else only the instants of
// the bench are seen.

#include <set>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::program {

/// The quantities of quick groups that move between two instants of the bench. Looks through the whole Program once.
class QuickParts {
 public:
  explicit QuickParts(const Program& program);

  bool any() const { return any_; }
  bool moves(VarId id) const { return moves_[static_cast<std::size_t>(id)] != 0; }
  /// What expressions read of them, through edges (`x rises`) too.
  std::set<VarId> read_by(const std::vector<NodeId>& nodes) const;
  /// The shortest step of some of them; never longer than that of the bench.
  Time every(const std::set<VarId>& read) const;

  /// At which instants it is asked: those of the quickest group of which it reads something that moves. All else that
  /// it reads is held meanwhile. About measures a requirement is asked whenever one of them has a value.
  Time asked_every(const Requirement& requirement) const;
  Time asked_every(const Measure& measure) const;
  /// The same of what some expressions read.
  Time seen_every(const std::vector<NodeId>& nodes) const { return every(read_by(nodes)); }

 private:
  void mark(VarId id);
  void mark(const std::vector<Assignment>& list);

  const Program& p_;
  std::vector<char> moves_;  ///< per variable
  bool any_ = false;
};

/// Whether it is asked at each edge of a gate: it reads gates whose edges have instants, and else truths, choices and
/// whole numbers that change at instants of the bench only; and it speaks of no time but that of a measure.
bool asked_at_edges(const Program& program, const Requirement& requirement);
bool asked_at_edges(const Program& program, const Measure& measure);
/// The gates whose edges somebody looks at one by one.
std::vector<VarId> edge_view(const Program& program);

/// All that somebody looks at there.
QuickView quick_view(const Program& program);

}  // namespace isodyne::program
