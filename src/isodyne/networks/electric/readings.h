#pragma once
// What can be seen of a circuit: each output is a sum over what its equations give (voltages of nodes, currents of what
// decides about voltages), states and sources; or the product of two such sums, or a truth.

#include <array>
#include <span>
#include <vector>

#include "isodyne/networks/electric/circuit.h"
#include "isodyne/networks/electric/dense.h"
#include "isodyne/networks/electric/equations.h"

namespace isodyne::networks::electric {

class Readings {
 public:
  explicit Readings(const Circuit& circuit);

  std::size_t count() const { return all_.size(); }

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
  /// A row, the product of two, or whether a device conducts.
  struct Output {
    std::int32_t row = 0, times = -1, device = -1;
  };
  const Output& output(std::int32_t which) const { return all_[static_cast<std::size_t>(which)]; }
  const Row& row(std::int32_t which) const { return rows_[static_cast<std::size_t>(which)]; }
  bool conducts(std::int32_t device, Position position) const {
    const Device::Kind kind = circuit_.devices[static_cast<std::size_t>(device)].kind;
    if (kind == Device::Kind::pole) return position.on != 0 || position.piece != 1;
    return kind == Device::Kind::arrester ? position.piece != 1 : position.piece > 0;
  }

 private:
  std::int32_t add(Row row);

  const Circuit& circuit_;
  std::vector<Output> all_;
  std::vector<Row> rows_;
};

/// Some outputs, made ready to be read often. A combination gives rows over states, sources and 1: few outputs are rows
/// themselves; many are added up from the unknowns, of which there are fewer.
class Reader {
 public:
  /// For these values of parameters. Allocates.
  void prepare(const Circuit& circuit, const Readings& readings, const Frame& frame, std::span<const double> inputs,
               std::span<const std::int32_t> outputs);
  std::size_t count() const { return readings_.size(); }
  /// How many rows it reads.
  std::size_t rows() const { return direct_ ? sums_ : unknowns_.size(); }
  /// Those of a combination, of whose unknowns `w` has the rows, one after the other.
  void write_rows(const double* w, std::span<const Position> positions, Columns& to) const;
  /// From those rows and `now`: states, sources, 1.
  void show(const Columns& rows, const double* now, std::span<const Position> positions, std::span<double> values) {
    read(rows, now, positions,
         [&](const Reading& r, double value) { values[static_cast<std::size_t>(r.output)] = value; });
  }
  /// The same one beside the other, in the order in which they were asked for.
  void show_row(const Columns& rows, const double* now, std::span<const Position> positions, double* row) {
    if (plain_) return read_plain(rows, now, row);
    read(rows, now, positions, [&](const Reading&, double value) { *row++ = value; });
  }

 private:
  /// factor * (a - b), by their places in values_; of a device in the place of a - b what flows through it.
  struct Term {
    std::int32_t a = 0, b = 0;
    double factor = 1;
    std::int32_t device = -1;
  };
  struct Reading {
    std::int32_t output = 0, device = -1;
    std::array<std::int32_t, 2> first{}, count{};  ///< of terms: of a sum, and of what it is multiplied by
  };
  template <typename Put>
  void read(const Columns& rows, const double* now, std::span<const Position> positions, const Put& put);
  void read_plain(const Columns& rows, const double* now, double* row);
  void note_unknowns(const Readings::Row& row);
  void note(int unknown);
  std::int32_t place_of_node(int node) const { return node > 0 ? place_of(node - 1) : 0; }
  std::int32_t place_of(int unknown) const;
  std::int32_t place_of_column(int column) const;
  void add_terms(const Readings::Row& row, std::span<const double> inputs);
  void add_flow(const Readings::Flow& flow, std::span<const double> inputs);
  double sum(const Reading& r, std::size_t which, std::span<const Position> positions) const;
  void write_row(const Reading& r, std::size_t which, const double* w, std::span<const Position> positions, Columns& to,
                 std::size_t row) const;

  const Circuit* circuit_ = nullptr;
  const Readings* all_ = nullptr;
  std::vector<std::int32_t> unknowns_;
  std::vector<Term> terms_;
  std::vector<Reading> readings_;
  std::size_t states_ = 0, columns_ = 0, sums_ = 0;
  bool direct_ = false;         ///< each sum is a row
  bool plain_ = false;          ///< and each row an output
  std::vector<double> values_;  ///< sums; or 0, unknowns, a block that multiply() may need, states, sources, 1
};

template <typename Put>
void Reader::read(const Columns& rows, const double* now, std::span<const Position> positions, const Put& put) {
  multiply(rows, now, values_.data() + (direct_ ? 0 : 1));
  if (!direct_) std::copy_n(now, columns_, values_.end() - static_cast<std::ptrdiff_t>(columns_));
  const double* next = values_.data();
  for (const Reading& r : readings_) {
    if (r.device >= 0) {
      put(r, all_->conducts(r.device, positions[static_cast<std::size_t>(r.device)]) ? 1 : 0);
    } else if (direct_) {
      const double value = *next++;
      put(r, r.count[1] > 0 ? value * *next++ : value);
    } else {
      const double value = sum(r, 0, positions);
      put(r, r.count[1] > 0 ? value * sum(r, 1, positions) : value);
    }
  }
}

}  // namespace isodyne::networks::electric
