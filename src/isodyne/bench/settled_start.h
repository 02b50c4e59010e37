#pragma once
// `start settled`: the state of networks in which a run begins that has gone on for ever.
//
// Before time 0 networks and modulators move, and states with a rate that stays as it is, such as the angle of a
// source. Everything else stays as it starts: other states with equations of their own, modes, memories, what
// controllers gave. Inputs of networks follow from time too, which is negative then. Where they come again after a time
// T, a common period of all of them and of the modulators, the state x after T is a function of the state before, x(T)
// = P(x); the one that is looked for is x = P(x), by Newton's method on P(x) - x with a Jacobian from differences
// (periods are compared at up to 50,000 instants; a shooting method: Aprille and Trick, "Steady-state analysis of
// nonlinear circuits with periodic inputs", Proc. IEEE 60 (1972) 108). Without anything that moves it is the operating
// point. Not on the stepping thread.

#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/engine/network.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

struct SettledStart {
  std::vector<std::pair<program::VarId, double>> values;  ///< states of networks (SI)
  Time period{};
  bool moves = false;                ///< something comes again after the period; else it is an operating point
  int rounds = 0;                    ///< of Newton's method
  std::vector<program::VarId> held;  ///< states that inputs of networks rest on and that stayed as they start
  double residual = 0;  ///< of the state that is furthest from coming again, as a share of the largest of its unit
};

/// From these start values, of which those of networks' states are where the search begins. A Failure says what does
/// not come again, or does not settle.
Result<SettledStart> settled_start(const program::Program& program, const engine::NetworkMaker& networks,
                                   const std::vector<std::pair<program::VarId, double>>& start);

}  // namespace isodyne::bench
