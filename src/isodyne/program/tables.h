#pragma once
// Values of tables: linear, monotone cubic and stepwise interpolation, and what holds outside.
//
// The cubic is the shape-preserving Hermite spline of Fritsch and Carlson ("Monotone piecewise cubic
// interpolation", SIAM J. Numer. Anal. 17, 1980) with the harmonic-mean slopes of Fritsch and Butland (1984)
// and one-sided three-point slopes at the ends: the method known as PCHIP. Where the data rise, it rises.

#include "isodyne/core/numerics.h"
#include "isodyne/program/plant.h"

namespace isodyne::program {

/// Computes what a cubic table needs beside its values. Call once, after x and z are in place.
void prepare(LookupTable& table);

/// The table as numerics.h looks things up in; valid as long as `table` is.
iso_table plain(const LookupTable& table);

/// A new table of the program: of a linear one with one argument the greatest value within `reach` of each argument,
/// plus `width`; for a negative width the least, and `width` with it. Straight between its points, and exact. Its
/// index.
std::int32_t add_edge(Plant& program, std::int32_t table, double width, Time reach);

/// A look-up operation by its number.
double look_up(Op op, const iso_table& table, double a, double b);

}  // namespace isodyne::program
