#include "isodyne/networks/solvers.h"

#include "isodyne/networks/electric/circuit_solver.h"

namespace isodyne::networks {

engine::NetworkMaker solvers() {
  return [](const program::Plant& plant, const program::Network& network) -> std::unique_ptr<engine::NetworkSolver> {
    if (network.kind == "electric") return std::make_unique<electric::CircuitSolver>(plant, network);
    return nullptr;
  };
}

}  // namespace isodyne::networks
