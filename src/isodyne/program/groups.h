#pragma once
// Groups: what is computed where, and what the integration methods need to know of its equations.

#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::program {

/// The states of each group, in the order of Plant::states.
void collect_states(Plant& program);

/// The first slope that makes the group not linear, and what it moves with.
std::optional<std::pair<Group::Slope, VarId>> not_linear(const Plant& program, const Group& group,
                                                         const std::vector<bool>& moving);

/// Finds Jacobian and df/dt of a group, whatever its method: for methods that need them, and for advice.
void linearise(Plant& program, Group& group);

/// The same program with its groups stepped in proportion to `step` instead of the step of the bench, by `method` if
/// one is given. The bench itself takes a larger step along, but not a smaller one: its instants stay where they are.
/// Says why not where that cannot be.
std::shared_ptr<const Program> retimed(const Program& program, Time step, std::optional<Method> method,
                                       std::string& why_not);

/// For every variable, whether it changes between the instants of the group as the group itself sees it: its
/// states, the time, and what it computes from them. All else is held throughout its steps.
std::vector<bool> moving_variables(const Plant& program, std::int32_t group);

/// For every place in Plant::order, whether the group has to compute it between its instants: it moves, and
/// a derivative of the group depends on it. The tap behind such a place counts as well.
std::vector<bool> computed_between(const Plant& program, std::int32_t group, const std::vector<bool>& moving);

/// The variable that an entry of the order gives a value (of a periodic task: none).
VarId target_of(const Plant& program, const Item& item);
/// The group in whose steps an entry of the order is computed.
std::int32_t group_of(const Plant& program, const Item& item);
/// The expressions that an entry of the order reads between instants.
std::vector<NodeId> values_of(const Plant& program, const Item& item);

}  // namespace isodyne::program
