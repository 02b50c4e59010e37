#pragma once
// Gathers the edges of gates that a recording, a requirement or a measure looks at one by one (program::edge_view):
// within the steps of their groups as these pass, and what changes at an instant; handed over when the bench has
// arrived at its next instant. Stepping thread only; room is made before the run.

#include <cstddef>
#include <vector>

#include "isodyne/engine/state.h"
#include "isodyne/observe/events.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

class EdgeWatch {
 public:
  /// Both outlive it.
  EdgeWatch(const program::Program& program, engine::PlantState& state);

  bool any() const { return !gates_.empty(); }
  /// Whether some of them change between two instants of the bench in steps of their own.
  bool quick() const { return quick_; }
  /// Edges between two instants of the bench, at most.
  std::size_t most() const { return seen_.size(); }

  /// At an instant of quick groups between two of the bench, settled.
  void instant() { gather(); }
  /// At an instant of the bench, settled: hands over what was before it.
  void hand_over(observe::Observer& observer);

  /// Edges for which there was no room.
  std::int64_t lost() const { return lost_; }

 private:
  struct Watched {
    program::VarId id = program::kNone;
    std::size_t gate = 0;  ///< place in Plant::gates
    Time step{};           ///< of the group that makes it
    bool level = false;
  };
  void gather();
  void note(Watched& gate, Time at, bool to);

  engine::PlantState& state_;
  std::vector<Watched> gates_;
  std::vector<observe::EdgeSeen> seen_;
  std::size_t count_ = 0;
  std::int64_t lost_ = 0;
  bool quick_ = false;
};

}  // namespace isodyne::bench
