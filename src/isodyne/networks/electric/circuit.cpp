#include "isodyne/networks/electric/circuit.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

namespace isodyne::networks::electric {

Circuit::Circuit(const program::Plant& plant, const program::Network& network) : plant_(&plant), network_(&network) {
  for (const auto& e : network.elements) parameters_from += e.inputs.size();
  unknowns_ = nodes() - 1;
  for (std::size_t i = 0; i < network.elements.size(); ++i) add(network.elements[i], static_cast<std::int32_t>(i));
}

int Circuit::place_of(const program::Network::Element& e, std::string_view name) const {
  for (const auto* list : {&e.inputs, &e.parameters}) {
    for (const auto& q : *list) {
      if (q.name != name) continue;
      const auto at = std::find(network_->inputs.begin(), network_->inputs.end(), q.id);
      return static_cast<int>(at - network_->inputs.begin());
    }
  }
  return -1;
}

namespace {
Device::Kind device_kind(std::string_view model) {
  return model == "Switch" || model.starts_with("Fault") ? Device::Kind::contact
         : model == "Diode"                              ? Device::Kind::diode
         : model == "Thyristor"                          ? Device::Kind::thyristor
         : model == "Arrester"                           ? Device::Kind::arrester
         : model == "BreakerPole"                        ? Device::Kind::pole
                                                         : Device::Kind::transistor;
}
}  // namespace

void Circuit::add(const program::Network::Element& e, std::int32_t index) {
  const std::size_t half = e.nodes.size() / 2;
  const int a = e.nodes.empty() ? 0 : e.nodes[0], b = half == 0 ? 0 : e.nodes[half];
  const auto numbered = [](const char* name, std::size_t k) { return fmt::format("{}[{}]", name, k + 1); };
  if (e.model == "Resistor") {
    of.push_back({Of::Kind::conductor, static_cast<int>(conductors.size())});
    conductors.push_back({a, b, place_of(e, "resistance")});
  } else if (e.model == "Inductor") {
    of.push_back({Of::Kind::coil, static_cast<int>(coils.size())});
    coils.push_back({a, b, states_, place_of(e, "inductance"), place_of(e, "resistance"), states_, 1});
    ++states_;
  } else if (e.model == "Coupled") {
    of.push_back({Of::Kind::coil, static_cast<int>(coils.size()), static_cast<int>(half)});
    const int first = states_;
    for (std::size_t k = 0; k < half; ++k) {
      coils.push_back({e.nodes[k], e.nodes[half + k], states_, place_of(e, numbered("inductance", k * half)),
                       place_of(e, numbered("resistance", k)), first, static_cast<int>(half)});
      ++states_;
    }
  } else if (e.model == "Capacitor") {
    of.push_back({Of::Kind::store, static_cast<int>(stores.size())});
    stores.push_back({a, b, states_++, unknowns_++, place_of(e, "capacitance"), place_of(e, "resistance")});
  } else if (e.model == "VoltageSource") {
    of.push_back({Of::Kind::voltage, static_cast<int>(voltages.size())});
    voltages.push_back({a, b, place_of(e, "voltage"), unknowns_++, place_of(e, "voltage later")});
  } else if (e.model == "CurrentSource") {
    of.push_back({Of::Kind::current, static_cast<int>(currents.size())});
    currents.push_back({a, b, place_of(e, "current"), -1, place_of(e, "current later")});
  } else if (e.model == "Ideal") {
    of.push_back({Of::Kind::winding, static_cast<int>(windings.size()), static_cast<int>(half)});
    const int flux = unknowns_++;
    for (std::size_t k = 0; k < half; ++k)
      windings.push_back({e.nodes[k], e.nodes[half + k], place_of(e, numbered("turns", k)), unknowns_++, flux});
  } else if (e.model == "Saturable" || e.model == "KneeCore") {
    const int losses = place_of(e, "loss_resistance");
    of.push_back({Of::Kind::core, static_cast<int>(cores.size())});
    cores.push_back({static_cast<int>(coils.size()), static_cast<int>(devices.size()),
                     losses < 0 ? -1 : static_cast<int>(conductors.size())});
    Device d;
    d.kind = Device::Kind::core;
    d.a = a;
    d.b = b;
    d.element = index;
    d.inductance = place_of(e, "inductance");
    d.saturated = place_of(e, "saturated");
    d.knee = place_of(e, "knee");
    d.state = states_;
    d.curve = e.curve;
    devices.push_back(d);
    coils.push_back({a, b, states_, d.inductance, -1, states_, 1});
    if (losses >= 0) conductors.push_back({a, b, losses});
    ++states_;
  } else {
    of.push_back({Of::Kind::device, static_cast<int>(devices.size())});
    Device d;
    d.kind = device_kind(e.model);
    d.a = a;
    d.b = b;
    d.element = index;
    const bool contacts = d.kind == Device::Kind::contact || d.kind == Device::Kind::pole;
    d.gate = place_of(e, contacts ? "close" : "gate");
    d.closed = place_of(e, contacts ? "closed_resistance" : "resistance");
    d.open = place_of(e, "open_resistance");
    d.drop = place_of(e, d.kind == Device::Kind::arrester ? "voltage" : "drop");
    d.diode_drop = place_of(e, "diode_drop");
    d.closing = place_of(e, "closing");
    d.opening = place_of(e, "opening");
    d.opens = e.model == "FaultOpen";
    // What has no resistance while it is closed is told by its current.
    if (d.kind != Device::Kind::contact || d.opens) d.unknown = unknowns_++;
    devices.push_back(d);
  }
}

std::vector<Circuit::Moving> Circuit::moving() const {
  std::vector<Moving> all;
  int source = 0;
  for (const auto* list : {&voltages, &currents}) {
    for (const Source& s : *list) {
      if (s.later >= 0) all.push_back({source, s.later});
      ++source;
    }
  }
  return all;
}

std::string Circuit::wrong_with(std::span<const double> inputs) const {
  std::size_t at = parameters_from;
  for (const auto& e : network_->elements) {
    for (const auto& q : e.parameters) {
      const double value = inputs[at++];
      const bool may_be_zero =
          q.name.starts_with("first") || q.name.ends_with("drop") || q.name == "windings" || q.name == "closing" ||
          q.name == "opening" || (e.model == "FaultOpen" && q.name == "closed_resistance") ||
          (q.name.starts_with("resistance") && e.model != "Resistor" && e.model != "Diode" && e.model != "Transistor");
      const bool any = q.name.starts_with("first") || q.name.starts_with("inductance[");
      const bool good = std::isfinite(value) && (any || value > 0 || (may_be_zero && value == 0));
      if (good) continue;
      return fmt::format("`{}` is {}", plant_->variable(q.id).name, plant_->format(q.id, value));
    }
  }
  return {};
}

namespace {
/// What a pole carries, A, may be beyond zero by this before it is over.
constexpr double kZeroCurrent = 1e-11;
constexpr double kEver = std::numeric_limits<double>::infinity();

/// Pieces that go on where the one before ends, beginning from one with a known offset.
void go_on(Device::Pieces& p, int from, double conductance, double begin, double high) {
  const Piece& before = p.list[static_cast<std::size_t>(from)];
  Piece& next = p.list[static_cast<std::size_t>(p.count++)];
  next.conductance = conductance;
  next.offset = before.offset + (before.conductance - conductance) * begin;
  next.until = high;
}
/// Ends of pieces as a current or a voltage, and by how much one has to be beyond: less than what is between two ends,
/// or a device would pass from one conducting piece to the other for ever.
void find_ends(Device::Pieces& p) {
  constexpr double kAmperes = 1e-11, kVolts = 1e-6, kSteep = 1;
  double current = 0, narrowest = kEver;
  for (std::size_t k = 0; k < static_cast<std::size_t>(p.count); ++k) {
    Piece& piece = p.list[k];
    piece.steep = piece.conductance > kSteep;
    piece.low = k == 0 ? -kEver : piece.steep ? current : p.list[k - 1].until;
    piece.high = kEver;
    if (k + 1 == static_cast<std::size_t>(p.count)) break;
    // The flatter of the two has it to more digits.
    const Piece& flat = p.list[k + 1].conductance < piece.conductance ? p.list[k + 1] : piece;
    const double end = flat.conductance * piece.until + flat.offset;
    if (k > 0) narrowest = std::min(narrowest, end - current);
    current = end;
    piece.high = piece.steep ? current : piece.until;
  }
  for (Piece& piece : p.list)
    piece.slack = piece.steep ? std::min(kAmperes, 0.01 * narrowest) : std::min(kAmperes / piece.conductance, kVolts);
}

/// What flows through a core beside its inductance, over the current in that: pieces between the points of its curve.
void along(const program::LookupTable& curve, double inductance, Device::Pieces& p) {
  p.count = static_cast<int>(curve.x.size()) - 1;
  p.list.assign(curve.x.size() - 1, {});
  double narrowest = kEver;
  for (std::size_t i = 0; i < p.list.size(); ++i) {
    const double low = curve.z[i] / inductance, high = curve.z[i + 1] / inductance;
    Piece& piece = p.list[i];
    piece.conductance = (curve.x[i + 1] - curve.x[i]) / (high - low) - 1;
    piece.offset = curve.x[i] - low - piece.conductance * low;
    piece.low = i == 0 ? -kEver : low;
    piece.high = i + 1 == p.list.size() ? kEver : high;
    narrowest = std::min(narrowest, high - low);
  }
  for (Piece& piece : p.list) piece.slack = 1e-10 * narrowest;
}
}  // namespace

void Circuit::take(std::span<const double> inputs) {
  const auto value = [&](int place) { return place < 0 ? 0.0 : inputs[static_cast<std::size_t>(place)]; };
  for (Device& d : devices) {
    const double on = 1 / value(d.closed), off = 1 / value(d.open), drop = value(d.drop);
    d.off = d.on = {};
    switch (d.kind) {
      case Device::Kind::contact:
        d.off.list[0] = {off, 0, kEver};
        d.on.list[0] = {on, 0, kEver};
        break;
      case Device::Kind::diode:
        d.off.list[0] = {off, 0, drop};
        go_on(d.off, 0, on, drop, kEver);
        d.on = d.off;
        break;
      case Device::Kind::thyristor:
        // Without a gate it does not begin, but goes on.
        d.off.list[0] = {off, 0, drop};
        go_on(d.off, 0, on, drop, kEver);
        d.on = d.off;
        break;
      case Device::Kind::arrester:
        d.off.list[0] = {on, (on - off) * drop, -drop};
        d.off.list[1] = {off, 0, drop};
        d.off.count = 2;
        go_on(d.off, 1, on, drop, kEver);
        d.on = d.off;
        break;
      case Device::Kind::pole:
        // Parted contacts carry on what flows, one way or the other, until it is zero.
        d.on.list[0] = {on, 0, kEver};
        d.off.list[0] = {on, 0, 0};
        d.off.list[1] = {off, 0, 0};
        d.off.list[2] = {on, 0, kEver};
        d.off.count = 3;
        break;
      case Device::Kind::core: {
        if (d.curve >= 0) {
          along(program::at(plant_->tables, d.curve), value(d.inductance), d.off);
          d.on = d.off;
          continue;
        }
        const double factor = value(d.inductance) / value(d.saturated) - 1, knee = value(d.knee) / value(d.inductance);
        d.off.list[0] = {factor, factor * knee, 0};
        d.off.list[1] = {0, 0, 0};
        d.off.list[2] = {factor, -factor * knee, 0};
        d.off.count = 3;
        for (Piece& piece : d.off.list) piece.slack = 1e-10 * knee;
        d.off.list[0].low = -kEver;
        d.off.list[0].high = d.off.list[1].low = -knee;
        d.off.list[1].high = d.off.list[2].low = knee;
        d.off.list[2].high = kEver;
        d.on = d.off;
        continue;
      }
      case Device::Kind::transistor: {
        // From the piece around 0 V downwards to that of the diode.
        const double reverse = -value(d.diode_drop);
        const auto below = [&](double middle) { return Piece{middle + on, on * -reverse, reverse}; };
        d.off.list[0] = Piece{on, (off - on) * reverse, reverse};
        d.off.list[1] = {off, 0, kEver};
        d.off.count = 2;
        if (drop > 0) {
          d.on.list[0] = d.off.list[0];
          d.on.list[1] = {off, 0, drop};
          d.on.count = 2;
          go_on(d.on, 1, on, drop, kEver);
        } else {
          d.on.list[0] = below(on);
          d.on.list[1] = {on, 0, kEver};
          d.on.count = 2;
        }
        break;
      }
    }
    find_ends(d.off);
    find_ends(d.on);
    if (d.kind == Device::Kind::thyristor) d.off.list[0].high = kEver;
    if (d.kind == Device::Kind::pole) {
      d.off.list[1].low = -kEver;
      d.off.list[0].high = d.off.list[2].low = 0;
      d.off.list[1].high = kEver;
      for (Piece& piece : d.off.list) piece.slack = kZeroCurrent * (piece.steep ? 1 : 1 / piece.conductance);
    }
  }
}

}  // namespace isodyne::networks::electric
