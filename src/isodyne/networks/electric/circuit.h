#pragma once
// A circuit as its solver sees it: what lies between which nodes, with which values.
//
// Nodes are counted from 0, which is `ground`. Currents count from a terminal a to its terminal b. States are the
// currents of inductors (A) and the voltages of capacitances (V).

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::networks::electric {

/// A characteristic of straight pieces: i = conductance * v + offset, for v up to `until`.
//
// Where it stands is told by the current where the piece is steep, else by the voltage: of a transistor that conducts,
// a microampere is less than rounding leaves of its nanovolts. Of a core that saturates it is what flows beside its
// inductance: conductance * state + offset, and where it stands is that state.
struct Piece {
  double conductance = 0, offset = 0, until = 0;
  bool steep = false;
  double low = 0, high = 0;  ///< ends, in A or V
  double slack = 0;          ///< by how much a device has to be beyond an end before it leaves
};

/// What lies between two nodes and has a characteristic that depends on whether it is on.
struct Device {
  enum class Kind { contact, diode, transistor, thyristor, pole, arrester, core };
  static constexpr int kMostPieces = 31;
  Kind kind = Kind::contact;
  int a = 0, b = 0;
  std::int32_t element = 0;
  int unknown = -1;                                            ///< its current, if it has more than one piece
  bool opens = false;                                          ///< its gate opens it
  int gate = -1;                                               ///< place among the inputs; -1: nothing switches it
  int closed = -1, open = -1, drop = -1, diode_drop = -1;      ///< places of its parameters
  int closing = -1, opening = -1;                              ///< of a pole
  int inductance = -1, saturated = -1, knee = -1, state = -1;  ///< of a core, and its state
  std::int32_t curve = -1;                                     ///< of a core: index into Plant::tables

  struct Pieces {
    int count = 1;
    std::vector<Piece> list = std::vector<Piece>(3);  ///< more of a core; side by side with those of other devices
  };
  Pieces off, on;
};

struct Coil {
  int a = 0, b = 0, state = 0;
  int inductance = -1, resistance = -1;  ///< places of the parameters; -1: none
  int first_of = 0, windings = 1;        ///< of one core: the first state, and how many
};

struct Store {  ///< a capacitance and its resistance in series
  int a = 0, b = 0, state = 0, unknown = 0;
  int capacitance = -1, resistance = -1;
};

struct Source {
  int a = 0, b = 0, input = -1, unknown = -1;  ///< unknown: of a voltage source, its current
  int later = -1;                              ///< place of the input that it comes to within a step; -1: it is held
};

struct Conductor {
  int a = 0, b = 0, resistance = -1;
};

/// What a core is made of: an inductor, what saturates of it, and its losses (-1: none), one beside the other.
struct Core {
  int coil = 0, device = 0, loss = -1;
};

struct Winding {
  int a = 0, b = 0, turns = -1, unknown = 0, flux = 0;
};

class Circuit {
 public:
  Circuit(const program::Plant& plant, const program::Network& network);

  /// What is wrong with the numbers, in a line; empty: nothing.
  std::string wrong_with(std::span<const double> inputs) const;
  /// Characteristics of the devices, from the values of parameters.
  void take(std::span<const double> inputs);

  const program::Network& network() const { return *network_; }
  int nodes() const { return static_cast<int>(network_->nodes.size()); }
  int states() const { return states_; }
  int unknowns() const { return unknowns_; }
  int sources() const { return static_cast<int>(voltages.size() + currents.size()); }
  /// Sources that move within a step: which of all, voltages first, and the input that is what it comes to.
  struct Moving {
    int source = 0, later = 0;
  };
  std::vector<Moving> moving() const;

  std::vector<Conductor> conductors;
  std::vector<Coil> coils;
  std::vector<Store> stores;
  std::vector<Source> voltages, currents;
  std::vector<Winding> windings;
  std::vector<Device> devices;
  std::vector<Core> cores;
  /// Per element: what of the lists above it is.
  struct Of {
    enum class Kind { conductor, coil, store, voltage, current, winding, device, core };
    Kind kind = Kind::conductor;
    int first = 0, count = 1;
  };
  std::vector<Of> of;
  std::size_t parameters_from = 0;  ///< place of the first parameter among the inputs

 private:
  int place_of(const program::Network::Element& e, std::string_view name) const;
  void add(const program::Network::Element& e, std::int32_t index);

  const program::Plant* plant_;
  const program::Network* network_;
  int states_ = 0, unknowns_ = 0;
};

}  // namespace isodyne::networks::electric
