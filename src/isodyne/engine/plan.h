#pragma once
// How a program is executed, whoever does it: rates, groups, and what has to be computed when.
//
// Each core has a plan of its own. Between two instants of the bench a core steps its own groups and sees of the others
// only what the first of these instants gave; at the instants of the bench everything is computed, by one of them.

#include <functional>
#include <memory>
#include <unordered_map>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::engine {

/// What one group computes within its steps.
struct GroupPlan {
  const program::Group* group = nullptr;
  int rate = 0;
  bool here = true;                   ///< stepped on the core of the plan
  std::vector<bool> moving;           ///< per variable: changes within the step, as the group sees it
  std::vector<std::int32_t> between;  ///< places in Plant::order that are computed between instants
};

struct Plan {
  explicit Plan(const program::Plant& program, std::int32_t core = 0);

  const program::Plant* program;
  std::int32_t core;
  /// The steps of the groups, quickest first, each a multiple of the one before. Quick groups of other cores count as
  /// stepped with the bench.
  std::vector<Time> rates;
  std::vector<GroupPlan> groups;
  bool single = false;  ///< one group with the step of the bench: nothing has to be held

  /// How many rates, quickest first, have an instant now.
  int due(Time now) const {
    int n = 1;
    while (n < static_cast<int>(rates.size()) && now.count() % rates[static_cast<std::size_t>(n)].count() == 0) ++n;
    return n;
  }
  int all() const { return static_cast<int>(rates.size()); }

  int rate_of_group(std::int32_t group) const { return groups[static_cast<std::size_t>(group)].rate; }
  int rate_of(program::VarId id) const { return rate_of_group(program->variable(id).group); }
  int rate_of(const program::Item& item) const;
  /// An equation that is idle between two instants of the bench: see program::idle_between().
  bool is_idle(const program::Item& item) const {
    return !idle.empty() && item.kind == program::Item::Kind::equation &&
           idle[static_cast<std::size_t>(program->equations[static_cast<std::size_t>(item.index)].target)];
  }
  std::vector<bool> idle;  ///< per variable, or empty
  /// Groups that are stepped here and have networks, or see gates: those with longer steps first, which know their
  /// gates for longer.
  std::vector<std::int32_t> network_groups() const;
  /// State machines that are stepped here.
  std::vector<std::int32_t> machines() const;
  /// Instants of the quickest rate in one step of the bench.
  std::int64_t instants_per_step = 1;

  /// The nodes below the expressions of a group's steps that do not move: computed once a step. Operands come
  /// before results; constants and variables are left out.
  std::vector<program::NodeId> held_nodes(const GroupPlan& group) const;
};

/// Adds up how many times each node below some roots is needed; what is `known` already is counted, not entered.
void count_uses(const program::Plant& program, const std::vector<program::NodeId>& roots,
                const std::function<bool(program::NodeId)>& known, std::unordered_map<program::NodeId, int>& uses);

/// The cores that a program asks for, that of the bench first.
std::vector<std::int32_t> cores_of(const program::Plant& program);

/// The same program with everything on the core of the bench.
std::shared_ptr<const program::Plant> on_one_core(const program::Plant& program);

/// Rings of the delays, one after another.
struct Ring {
  std::int64_t begin = 0, size = 0;
};
std::vector<Ring> rings_of(const program::Plant& program);

}  // namespace isodyne::engine
