#pragma once
// Gates within the steps of their groups: who knows its edges for the step that begins, and who gets them.
//
// When a group steps, its gates are known for the whole step, in the order of Plant::gates: what is made by solvers and
// what is given from outside first, then what is joined of others and what is delayed. Groups with longer steps step
// first at an instant, so that quicker ones find their edges. At each instant of a quicker group the variables of
// slower gates are brought up to it.

#include <array>
#include <span>
#include <unordered_map>
#include <vector>

#include "isodyne/engine/state.h"

namespace isodyne::engine {

class Gates {
 public:
  explicit Gates(const program::Plant& program);

  bool any() const { return !program_.gates.empty(); }
  /// Index into Plant::gates; kNone: no gate, or one that changes at instants only.
  std::int32_t of(program::VarId id) const;
  void make_room(NetworkState& state) const;
  /// Whether gates change with the steps of this group.
  /// Whether anybody in this group, or quicker, asks for a gate between two instants of the bench: per variable.
  bool any_needed(std::size_t group, const std::vector<bool>& needed) const;
  bool owns(std::size_t group) const { return !own_[group].empty() || wakeful_[group] != 0; }
  /// At the first instant, when what solvers make is known: what was before is what is now.
  void start(std::span<double> values, NetworkState& state) const;
  /// A step of the group begins, and what its solvers make is there. Afterwards state.stirred says whether there are
  /// edges in it: in most steps there are none. Gives kNone, or the gate that has too many edges.
  std::int32_t begin(std::int32_t group, Time from, Time to, std::span<const double> values, NetworkState& state) const;
  /// Variables of gates that the group may read become what they are at `now`, an instant of it, if any has changed.
  void arrive(std::int32_t group, Time now, std::span<double> values, const NetworkState& state) const;

  /// Calls `edge(at, to)` for each edge after `from` and at `to` at the latest.
  template <typename Visit>
  static void each(const GateEdges& e, Time from, Time to, Visit edge) {
    bool now = e.first;
    for (int i = 0; i < e.count; ++i) {
      now = !now;
      const Time at = e.at[static_cast<std::size_t>(i)];
      if (at > to) return;
      if (at > from) edge(at, now);
    }
  }

 private:
  static constexpr int kMostSteps = program::Gate::kMostSteps;
  bool joined(const program::Gate& gate, const std::array<bool, kMostSteps>& operands,
              std::span<const double> values) const;
  bool stirs(std::size_t group, Time from, Time to, NetworkState& state) const;
  bool join(std::size_t gate, Time from, Time to, std::span<const double> values, NetworkState& state) const;
  bool delay(std::size_t gate, Time from, Time to, NetworkState& state) const;

  const program::Plant& program_;
  std::unordered_map<program::VarId, std::int32_t> of_;
  std::vector<std::vector<std::int32_t>> own_;  ///< per group: its gates, in order, but those that solvers make
  std::vector<char> wakeful_;  ///< per group: it has gates that solvers make, that are delayed or given
  std::vector<std::vector<std::size_t>> quicker_;  ///< per group: those that see its gates, and are not it
  std::vector<std::vector<std::int32_t>> seen_;    ///< per group: gates that its instants may see
};

}  // namespace isodyne::engine
