#pragma once
// Values of tables: linear, monotone cubic and stepwise interpolation, and what holds outside.
//
// The cubic is the shape-preserving Hermite spline of Fritsch and Carlson ("Monotone piecewise cubic
// interpolation", SIAM J. Numer. Anal. 17, 1980) with the harmonic-mean slopes of Fritsch and Butland (1984)
// and one-sided three-point slopes at the ends: the method known as PCHIP. Where the data rise, it rises.

#include "isodyne/model/program.h"

namespace isodyne::model {

/// Computes what a cubic table needs beside its values. Call once, after x and z are in place.
void prepare(Table& table);

/// The value at x (SI), and its derivative (where it jumps, the one to the right).
double table_value(const Table& table, double x);
double table_slope(const Table& table, double x);

/// The same with two arguments: bilinear, or the value of the lower left corner for `hold`.
double table_value(const Table& table, double x, double y);
double table_slope_x(const Table& table, double x, double y);
double table_slope_y(const Table& table, double x, double y);

/// A look-up operation by its number.
double look_up(Op op, const Table& table, double a, double b);

}  // namespace isodyne::model
