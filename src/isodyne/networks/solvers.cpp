#include "isodyne/networks/solvers.h"

#include "isodyne/networks/electric/circuit_solver.h"
#include "isodyne/networks/gates/modulator.h"
#include "isodyne/networks/gates/phase_shift.h"

namespace isodyne::networks {

engine::NetworkMaker solvers() {
  return [](const program::Plant& plant, const program::Network& network) -> std::unique_ptr<engine::NetworkSolver> {
    if (network.kind == "electric") return std::make_unique<electric::CircuitSolver>(plant, network);
    if (network.elements.front().model == "Modulator") return std::make_unique<gates::Modulator>(network);
    if (network.elements.front().model == "PhaseShift") return std::make_unique<gates::PhaseShift>(network);
    return nullptr;
  };
}

}  // namespace isodyne::networks
