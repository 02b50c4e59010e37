#include "isodyne/networks/electric/readings.h"

#include <algorithm>
#include <cstdlib>
#include <set>

namespace isodyne::networks::electric {

namespace {
/// "i[2]" is of the second winding.
std::size_t winding_of(const std::string& name) {
  const std::size_t bracket = name.find('[');
  return bracket == std::string::npos ? 0 : static_cast<std::size_t>(std::atoi(name.c_str() + bracket + 1)) - 1;
}
}  // namespace

Readings::Readings(const Circuit& circuit) : circuit_(circuit) {
  const program::Network& n = circuit.network();
  for (std::size_t e = 0; e < n.elements.size(); ++e) {
    const program::Network::Element& element = n.elements[e];
    const Circuit::Of& of = circuit.of[e];
    const std::size_t half = element.nodes.size() / 2;
    for (const auto& q : element.outputs) {
      const std::size_t k = winding_of(q.name);
      const Row voltage{element.nodes[k], element.nodes[half + k], -1, -1, {}};
      const Row current{0, 0, -1, -1, {{of.kind, of.first + static_cast<int>(k), 1}}};
      Output o;
      if (q.name == "conducts" || q.name == "closed") {
        o.device = of.first;
      } else if (q.name == "flux") {
        const Device& core =
            circuit.devices[static_cast<std::size_t>(circuit.cores[static_cast<std::size_t>(of.first)].device)];
        o.row = add({0, 0, core.state, core.inductance, {}});
      } else if (q.name == "p") {
        o.row = add(voltage);
        o.times = add(current);
      } else if (q.name[0] == 'i') {
        o.row = add(current);
      } else if (of.kind == Circuit::Of::Kind::store) {
        o.row = add({0, 0, circuit.stores[static_cast<std::size_t>(of.first)].state, -1, {}});
      } else {
        o.row = add(voltage);
      }
      all_.push_back(o);
    }
  }
  for (const auto& probe : n.probes) {
    Row row{probe.node == program::kNone ? 0 : probe.node, 0, -1, -1, {}};
    for (const auto& end : probe.ends) {
      const auto half = static_cast<int>(n.elements[static_cast<std::size_t>(end.element)].nodes.size() / 2);
      const Circuit::Of& of = circuit.of[static_cast<std::size_t>(end.element)];
      row.flows.push_back({of.kind, of.first + end.terminal % half, end.terminal < half ? 1.0 : -1.0});
    }
    all_.push_back({add(std::move(row)), -1, -1});
  }
}

std::int32_t Readings::add(Row row) {
  rows_.push_back(std::move(row));
  return static_cast<std::int32_t>(rows_.size() - 1);
}

std::vector<std::int32_t> Readings::rows_of(std::span<const std::int32_t> outputs) const {
  std::set<std::int32_t> rows;
  for (const std::int32_t which : outputs) {
    const Output& o = all_[static_cast<std::size_t>(which)];
    if (o.device >= 0) continue;
    rows.insert(o.row);
    if (o.times >= 0) rows.insert(o.times);
  }
  return {rows.begin(), rows.end()};
}

void Readings::write_row(std::int32_t which, const Frame& f, std::span<const double> inputs,
                         std::span<const Position> positions, const double* w, double* to) const {
  const Row& row = rows_[static_cast<std::size_t>(which)];
  std::fill_n(to, f.columns(), 0.0);
  if (row.state >= 0) {
    to[row.state] = row.factor < 0 ? 1 : inputs[static_cast<std::size_t>(row.factor)];
  } else if (row.flows.empty()) {
    voltage_row(f, w, row.a, row.b, to);
  }
  for (const Flow& flow : row.flows) add_flow(flow, f, inputs, positions, w, to);
}

void Readings::add_flow(const Flow& flow, const Frame& f, std::span<const double> inputs,
                        std::span<const Position> positions, const double* w, double* to) const {
  const auto at = static_cast<std::size_t>(flow.at);
  const auto columns = static_cast<std::size_t>(f.columns());
  const auto between = [&](int a, int b, double factor) {
    for (std::size_t k = 0; k < columns; ++k) {
      const double one = a > 0 ? w[static_cast<std::size_t>(a - 1) * columns + k] : 0.0;
      const double two = b > 0 ? w[static_cast<std::size_t>(b - 1) * columns + k] : 0.0;
      to[k] += factor * (one - two);
    }
  };
  const auto unknown = [&](int u) {
    for (std::size_t k = 0; k < columns; ++k) to[k] += flow.sign * w[static_cast<std::size_t>(u) * columns + k];
  };
  switch (flow.kind) {
    case Circuit::Of::Kind::conductor: {
      const Conductor& r = circuit_.conductors[at];
      between(r.a, r.b, flow.sign / inputs[static_cast<std::size_t>(r.resistance)]);
      break;
    }
    case Circuit::Of::Kind::coil:
      to[circuit_.coils[at].state] += flow.sign;
      break;
    case Circuit::Of::Kind::store:
      unknown(circuit_.stores[at].unknown);
      break;
    case Circuit::Of::Kind::voltage:
      unknown(circuit_.voltages[at].unknown);
      break;
    case Circuit::Of::Kind::winding:
      unknown(circuit_.windings[at].unknown);
      break;
    case Circuit::Of::Kind::current:
      to[static_cast<std::size_t>(f.states) + circuit_.voltages.size() + at] += flow.sign;
      break;
    case Circuit::Of::Kind::core: {
      const Core& core = circuit_.cores[at];
      add_flow({Circuit::Of::Kind::coil, core.coil, flow.sign}, f, inputs, positions, w, to);
      if (core.loss >= 0) add_flow({Circuit::Of::Kind::conductor, core.loss, flow.sign}, f, inputs, positions, w, to);
      const Piece& p = piece_of(circuit_.devices[static_cast<std::size_t>(core.device)],
                                positions[static_cast<std::size_t>(core.device)]);
      to[circuit_.coils[static_cast<std::size_t>(core.coil)].state] += flow.sign * p.conductance;
      to[columns - 1] += flow.sign * p.offset;
      break;
    }
    case Circuit::Of::Kind::device: {
      const Device& d = circuit_.devices[at];
      if (d.unknown >= 0) {
        unknown(d.unknown);
        break;
      }
      const Piece& p = piece_of(d, positions[at]);
      between(d.a, d.b, flow.sign * p.conductance);
      to[columns - 1] += flow.sign * p.offset;
      break;
    }
  }
}

}  // namespace isodyne::networks::electric
