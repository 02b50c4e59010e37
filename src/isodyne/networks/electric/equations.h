#pragma once
// From a circuit to the equations of its states: x' = A x + B u, y = C x + D u, for one combination of the pieces that
// its devices are on.
//
// Modified nodal analysis: inductors are current sources and capacitances voltage sources of their states; what that
// leaves is a linear system M w = K s, with w the voltages of the nodes and the currents of whatever decides about
// voltages, and s the states, the sources and 1. Where it is singular (three inductors that meet, capacitances in a
// loop), states depend on each other; which, depends on what is connected and on no value. The states that remain are
// chosen so that the energy is half the sum of their squares: q = N' E x, x = N q, N' E N = 1. Without losses A is
// then skew-symmetric, and neither energy nor precision goes astray.

#include <algorithm>
#include <string>

#include "isodyne/networks/electric/circuit.h"

namespace isodyne::networks::electric {

/// What holds for all combinations, as long as parameters stay as they are.
struct Frame {
  int states = 0, kept = 0;  ///< all, and those that remain
  int unknowns = 0, sources = 0;
  std::vector<char> is_current;  ///< per state; else a voltage
  int columns() const { return states + sources + 1; }
  /// Numbers that solve_nodes() needs room for beside its result.
  std::size_t room() const {
    const auto u = static_cast<std::size_t>(unknowns);
    return std::max(u * u, static_cast<std::size_t>(columns()) * static_cast<std::size_t>(1 + idle_count));
  }
  std::vector<double> energy;     ///< E, states by states, column by column
  std::vector<double> from_kept;  ///< N: states by kept, column by column
  std::vector<double> to_kept;    ///< N' E: kept by states, column by column
  bool independent = false;       ///< N has nothing beside its diagonal: no state depends on another
  /// C = N B and C = N' B, of so many columns, column by column.
  void times_n(std::size_t of, const double* b, double* c) const;
  void times_n_turned(std::size_t of, const double* b, double* c) const;
  std::vector<double> turned;  ///< N', column by column
  std::vector<double> idle;    ///< Z: unknowns by idle_count, column by column: what M says nothing about
  int idle_count = 0;
  std::vector<double>
      idle_from_rates;             ///< idle_count by states: how much of Z, from v of inductors and i of capacitances
  std::vector<double> constraint;  ///< idle_count by states: times the states it is zero
};

/// Gives the reason if the circuit cannot be solved at all. Allocates.
std::string make_frame(const Circuit& circuit, std::span<const double> inputs, Frame& frame);

/// What states contradict each other at the start, in a line; empty: they do not.
std::string contradiction(const Frame& frame, const Circuit& circuit, const double* states);

/// On which piece a device is.
struct Position {
  std::uint8_t on = 0, piece = 0;
  bool operator==(const Position&) const = default;
  std::uint8_t code() const { return static_cast<std::uint8_t>(on * Device::kMostPieces + piece); }
};

inline const Piece& piece_of(const Device& d, Position p) {
  return (p.on != 0 ? d.on : d.off).list[p.piece];
}

/// Solves M W = K and corrects what M says nothing about: `w` becomes unknowns by columns, row by row. `m` is room for
/// Frame::room() numbers. False: singular.
bool solve_nodes(const Circuit& circuit, const Frame& frame, std::span<const double> inputs,
                 std::span<const Position> positions, double* m, double* w);

/// The row of what drives the k-th state: v of an inductor, i of a capacitance.
void rate_row(const Circuit& circuit, const Frame& frame, std::span<const double> inputs, const double* w, int state,
              double* row);

/// Row of the voltage between two nodes.
void voltage_row(const Frame& frame, const double* w, int a, int b, double* row);

}  // namespace isodyne::networks::electric
