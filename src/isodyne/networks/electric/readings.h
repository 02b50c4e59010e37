#pragma once
// What can be seen of a circuit: each output is one linear row of the states and sources, the product of two, or a
// truth.

#include <span>
#include <vector>

#include "isodyne/networks/electric/circuit.h"
#include "isodyne/networks/electric/equations.h"

namespace isodyne::networks::electric {

class Readings {
 public:
  explicit Readings(const Circuit& circuit);

  std::size_t count() const { return all_.size(); }
  std::size_t rows() const { return rows_.size(); }
  /// The rows that some outputs need, in rising order.
  std::vector<std::int32_t> rows_of(std::span<const std::int32_t> outputs) const;
  /// A row over states, sources and 1, where `w` is what solve_nodes() gave.
  void write_row(std::int32_t row, const Frame& frame, std::span<const double> inputs,
                 std::span<const Position> positions, const double* w, double* to) const;
  /// A row, the product of two, or whether a device conducts.
  struct Output {
    std::int32_t row = 0, times = -1, device = -1;
  };
  const Output& output(std::int32_t which) const { return all_[static_cast<std::size_t>(which)]; }
  bool conducts(std::int32_t device, Position position) const {
    const Device::Kind kind = circuit_.devices[static_cast<std::size_t>(device)].kind;
    if (kind == Device::Kind::pole) return position.on != 0 || position.piece != 1;
    return kind == Device::Kind::arrester ? position.piece != 1 : position.piece > 0;
  }

 private:
  /// What flows into an element, or one winding of it.
  struct Flow {
    Circuit::Of::Kind kind = Circuit::Of::Kind::conductor;
    int at = 0;
    double sign = 1;
  };
  struct Row {
    int a = 0, b = 0;             ///< a voltage between two nodes, if there are no flows and no state
    int state = -1, factor = -1;  ///< a state, times a parameter
    std::vector<Flow> flows;      ///< a current
  };
  std::int32_t add(Row row);
  void add_flow(const Flow& flow, const Frame& frame, std::span<const double> inputs,
                std::span<const Position> positions, const double* w, double* to) const;

  const Circuit& circuit_;
  std::vector<Output> all_;
  std::vector<Row> rows_;
};

}  // namespace isodyne::networks::electric
