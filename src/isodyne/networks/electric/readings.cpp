#include "isodyne/networks/electric/readings.h"

#include <algorithm>
#include <cstdlib>

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

// ---- reading --------------------------------------------------------------------------------------------------

using Kind = Circuit::Of::Kind;

namespace {
/// A row is quicker than a sum, and takes more memory in each combination: so much more is worth it, or so many
/// numbers.
constexpr std::size_t kRowsForTerms = 2;
}  // namespace

void Reader::prepare(const Circuit& circuit, const Readings& readings, const Frame& frame,
                     std::span<const double> inputs, std::span<const std::int32_t> outputs) {
  circuit_ = &circuit;
  all_ = &readings;
  states_ = static_cast<std::size_t>(frame.states);
  columns_ = static_cast<std::size_t>(frame.columns());
  unknowns_.clear();
  terms_.clear();
  readings_.clear();
  sums_ = 0;
  const auto rows_of = [&](const Readings::Output& o, const auto& act) {
    if (o.device >= 0) return;
    act(0U, readings.row(o.row));
    if (o.times >= 0) act(1U, readings.row(o.times));
  };
  for (const std::int32_t which : outputs)
    rows_of(readings.output(which), [&](unsigned, const Readings::Row& row) { note_unknowns(row); });
  std::sort(unknowns_.begin(), unknowns_.end());
  unknowns_.erase(std::unique(unknowns_.begin(), unknowns_.end()), unknowns_.end());
  for (const std::int32_t which : outputs) {
    Reading r;
    r.output = which;
    r.device = readings.output(which).device;
    rows_of(readings.output(which), [&](unsigned side, const Readings::Row& row) {
      r.first[side] = static_cast<std::int32_t>(terms_.size());
      add_terms(row, inputs);
      r.count[side] = static_cast<std::int32_t>(terms_.size()) - r.first[side];
      ++sums_;
    });
    readings_.push_back(r);
  }
  direct_ = sums_ <= kRowsForTerms * unknowns_.size();
  plain_ = direct_ && std::all_of(readings_.begin(), readings_.end(),
                                  [](const Reading& r) { return r.device < 0 && r.count[1] == 0; });
  values_.assign(direct_ ? Columns::stride_of(sums_) : 1 + Columns::stride_of(unknowns_.size()) + columns_, 0.0);
}

std::int32_t Reader::place_of(int unknown) const {
  return static_cast<std::int32_t>(1 +
                                   (std::lower_bound(unknowns_.begin(), unknowns_.end(), unknown) - unknowns_.begin()));
}

std::int32_t Reader::place_of_column(int column) const {
  return static_cast<std::int32_t>(1 + Columns::stride_of(unknowns_.size())) + column;
}

void Reader::note(int unknown) {
  if (unknown >= 0) unknowns_.push_back(unknown);
}

void Reader::note_unknowns(const Readings::Row& row) {
  const auto nodes = [&](int a, int b) { note(a - 1), note(b - 1); };
  if (row.state < 0 && row.flows.empty()) nodes(row.a, row.b);
  for (const Readings::Flow& flow : row.flows) {
    const auto at = static_cast<std::size_t>(flow.at);
    switch (flow.kind) {
      case Kind::conductor:
        nodes(circuit_->conductors[at].a, circuit_->conductors[at].b);
        break;
      case Kind::store:
        note(circuit_->stores[at].unknown);
        break;
      case Kind::voltage:
        note(circuit_->voltages[at].unknown);
        break;
      case Kind::winding:
        note(circuit_->windings[at].unknown);
        break;
      case Kind::device:
        note(circuit_->devices[at].unknown);
        if (circuit_->devices[at].unknown < 0) nodes(circuit_->devices[at].a, circuit_->devices[at].b);
        break;
      case Kind::core:
        if (const int loss = circuit_->cores[at].loss; loss >= 0) {
          const Conductor& r = circuit_->conductors[static_cast<std::size_t>(loss)];
          nodes(r.a, r.b);
        }
        break;
      case Kind::coil:
      case Kind::current:
        break;
    }
  }
}

void Reader::add_terms(const Readings::Row& row, std::span<const double> inputs) {
  if (row.state >= 0) {
    terms_.push_back(
        {place_of_column(row.state), 0, row.factor < 0 ? 1 : inputs[static_cast<std::size_t>(row.factor)], -1});
  } else if (row.flows.empty()) {
    terms_.push_back({place_of_node(row.a), place_of_node(row.b), 1, -1});
  }
  for (const Readings::Flow& flow : row.flows) add_flow(flow, inputs);
}

void Reader::add_flow(const Readings::Flow& flow, std::span<const double> inputs) {
  const auto at = static_cast<std::size_t>(flow.at);
  const auto unknown = [&](int u) { terms_.push_back({place_of(u), 0, flow.sign, -1}); };
  const auto conductor = [&](std::size_t which) {
    const Conductor& r = circuit_->conductors[which];
    terms_.push_back(
        {place_of_node(r.a), place_of_node(r.b), flow.sign / inputs[static_cast<std::size_t>(r.resistance)], -1});
  };
  const auto coil = [&](std::size_t which) {
    terms_.push_back({place_of_column(circuit_->coils[which].state), 0, flow.sign, -1});
  };
  switch (flow.kind) {
    case Kind::conductor:
      conductor(at);
      break;
    case Kind::coil:
      coil(at);
      break;
    case Kind::store:
      unknown(circuit_->stores[at].unknown);
      break;
    case Kind::voltage:
      unknown(circuit_->voltages[at].unknown);
      break;
    case Kind::winding:
      unknown(circuit_->windings[at].unknown);
      break;
    case Kind::current:
      terms_.push_back({place_of_column(static_cast<int>(states_ + circuit_->voltages.size() + at)), 0, flow.sign, -1});
      break;
    case Kind::core: {
      const Core& core = circuit_->cores[at];
      const auto own = static_cast<std::size_t>(core.coil);
      coil(own);
      if (core.loss >= 0) conductor(static_cast<std::size_t>(core.loss));
      terms_.push_back({place_of_column(circuit_->coils[own].state), 0, flow.sign, core.device});
      break;
    }
    case Kind::device: {
      const Device& d = circuit_->devices[at];
      if (d.unknown >= 0) return unknown(d.unknown);
      terms_.push_back({place_of_node(d.a), place_of_node(d.b), flow.sign, flow.at});
      break;
    }
  }
}

double Reader::sum(const Reading& r, std::size_t which, std::span<const Position> positions) const {
  double all = 0;
  const Term* t = terms_.data() + r.first[which];
  for (const Term* const end = t + r.count[which]; t != end; ++t) {
    double between = values_[static_cast<std::size_t>(t->a)] - values_[static_cast<std::size_t>(t->b)];
    if (t->device >= 0) {
      const auto device = static_cast<std::size_t>(t->device);
      const Piece& p = piece_of(circuit_->devices[device], positions[device]);
      between = p.conductance * between + p.offset;
    }
    all += t->factor * between;
  }
  return all;
}

void Reader::write_rows(const double* w, std::span<const Position> positions, Columns& to) const {
  std::size_t row = 0;
  for (const Reading& r : readings_) {
    for (std::size_t side = 0; direct_ && side < 2; ++side) {
      if (r.count[side] > 0) write_row(r, side, w, positions, to, row++);
    }
  }
  for (; row < unknowns_.size() && !direct_; ++row) {
    for (std::size_t k = 0; k < columns_; ++k)
      to.at(row, k) = w[static_cast<std::size_t>(unknowns_[row]) * columns_ + k];
  }
}

/// What sum() adds up, once for all states and sources.
void Reader::write_row(const Reading& r, std::size_t which, const double* w, std::span<const Position> positions,
                       Columns& to, std::size_t row) const {
  const auto behind = static_cast<std::int32_t>(1 + Columns::stride_of(unknowns_.size()));
  const auto is_unknown = [&](std::int32_t place) { return place > 0 && place < behind; };
  const auto row_of = [&](std::int32_t place) {
    return w + static_cast<std::size_t>(unknowns_[static_cast<std::size_t>(place - 1)]) * columns_;
  };
  const Term* t = terms_.data() + r.first[which];
  for (const Term* const end = t + r.count[which]; t != end; ++t) {
    double factor = t->factor;
    if (t->device >= 0) {
      const auto device = static_cast<std::size_t>(t->device);
      const Piece& p = piece_of(circuit_->devices[device], positions[device]);
      to.at(row, columns_ - 1) += factor * p.offset;
      factor *= p.conductance;
    }
    // Two that are nearly the same are subtracted before anything else.
    if (is_unknown(t->a) && is_unknown(t->b)) {
      const double *const a = row_of(t->a), *const b = row_of(t->b);
      for (std::size_t k = 0; k < columns_; ++k) to.at(row, k) += factor * (a[k] - b[k]);
      continue;
    }
    for (const auto& [place, scale] : {std::pair{t->a, factor}, std::pair{t->b, -factor}}) {
      if (place >= behind) to.at(row, static_cast<std::size_t>(place - behind)) += scale;
      if (!is_unknown(place)) continue;
      const double* const of = row_of(place);
      for (std::size_t k = 0; k < columns_; ++k) to.at(row, k) += scale * of[k];
    }
  }
}

void Reader::read_plain(const Columns& rows, const double* now, double* row) {
  multiply(rows, now, values_.data());
  std::copy_n(values_.data(), sums_, row);
}

}  // namespace isodyne::networks::electric
