// What is seen of a circuit: its outputs, how it stands, and what it has been through.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/networks/electric/circuit_solver.h"

namespace isodyne::networks::electric {

std::vector<std::string> CircuitSolver::describe(std::span<const double> state) const {
  std::vector<std::string> lines;
  const auto is_on = [&](std::size_t device) {
    const auto all = static_cast<std::uint64_t>(state[states() + device / kPacked]);
    return (all >> (kBits * (device % kPacked)) & kAllBits) >= Device::kMostPieces;
  };
  const auto number = [&](int place) { return format_number(state[static_cast<std::size_t>(place)]); };
  for (std::size_t e = 0; e < circuit_.of.size(); ++e) {
    const Circuit::Of& of = circuit_.of[e];
    const auto first = static_cast<std::size_t>(of.first);
    const std::string& path = circuit_.network().elements[e].path;
    for (std::size_t k = 0; of.kind == Circuit::Of::Kind::coil && k < static_cast<std::size_t>(of.count); ++k)
      lines.push_back(fmt::format("{}.i = {} A", path, number(circuit_.coils[first + k].state)));
    if (of.kind == Circuit::Of::Kind::store)
      lines.push_back(fmt::format("{}.v = {} V", path, number(circuit_.stores[first].state)));
    if (of.kind == Circuit::Of::Kind::core) {
      const Device& core = circuit_.devices[static_cast<std::size_t>(circuit_.cores[first].device)];
      lines.push_back(fmt::format("{}.flux = {} Wb", path,
                                  format_number(state[static_cast<std::size_t>(core.state)] *
                                                inputs_[static_cast<std::size_t>(core.inductance)])));
    }
    if (of.kind == Circuit::Of::Kind::device && circuit_.devices[first].gate >= 0)
      lines.push_back(fmt::format("{} is {}", path, is_on(first) ? "on" : "off"));
  }
  return lines;
}

engine::NetworkAccount CircuitSolver::account() const {
  engine::NetworkAccount a;
  a.steps = steps_;
  a.eventful = eventful_;
  a.first_visits = std::max<std::int64_t>(0, first_visits_);
  a.forgotten = known_.forgotten();
  for (const Combination& one : known_.all()) {
    if (one.known() && one.steps > 0) a.visited.push_back({told(one.positions), one.steps});
  }
  std::stable_sort(a.visited.begin(), a.visited.end(), [](const auto& x, const auto& y) { return x.steps > y.steps; });
  return a;
}

/// What is on or conducts, in the order of the text. Of a transistor that conducts, which way cannot be told from being
/// on alone: its diode is named where that is the piece.
std::vector<std::string> CircuitSolver::told(const std::vector<Position>& positions) const {
  std::vector<std::string> all;
  for (std::size_t d = 0; d < positions.size(); ++d) {
    const Device& device = circuit_.devices[d];
    const Position p = positions[d];
    // A contact that takes a terminal off is told while it does.
    const bool closed =
        (device.kind == Device::Kind::contact || device.kind == Device::Kind::pole) && (p.on != 0) != device.opens;
    const bool parting = device.kind == Device::Kind::pole && p.on == 0 && p.piece != 1;
    const bool diode = device.kind == Device::Kind::transistor && p.piece == 0;
    const bool transistor =
        device.kind == Device::Kind::transistor && p.on != 0 && p.piece + 1 == device.on.count && p.piece > 0;
    const bool conducts = (device.kind == Device::Kind::diode || device.kind == Device::Kind::thyristor) && p.piece > 0;
    const bool beyond =
        (device.kind == Device::Kind::core || device.kind == Device::Kind::arrester) && p.piece != device.off.count / 2;
    const char* const how = diode ? " (diode)" : parting ? " (parting)" : beyond ? " (beyond its knee)" : "";
    if (closed || parting || diode || transistor || conducts || beyond) all.push_back(path_of(d) + how);
  }
  return all;
}

}  // namespace isodyne::networks::electric
