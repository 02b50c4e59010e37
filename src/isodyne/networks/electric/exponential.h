#pragma once
// What the exponential of a small matrix is made of. Square matrices of n by n numbers, stored column by column.

#include <cstddef>

namespace isodyne::networks::electric {

/// A series is taken for times in which nothing changes by more than this, and to so many terms: 1/4^13 / 14! is
/// nothing.
inline constexpr double kShort = 0.25;
inline constexpr int kTerms = 13;

/// No eigenvalue of A turns by more radians a second than this. Its skew part bounds that (Bendixson, 1902), in any
/// coordinates: in those in which rows are as large as columns (Osborne, 1960) what only decays has none, also where a
/// core that saturates makes A lopsided. Of the skew part the least of three bounds is taken: its sum of squares, where
/// every oscillation counts twice; its largest row; and the root of the largest row of its square, which does not grow
/// with the number of oscillators that lie beside each other. A is changed; `room` is for n by n numbers.
double most_turning(std::size_t n, double* a, double* room);

/// S(t) = integral of exp(A s) over 0 .. t, for |A| t up to kShort: t (1 + A t / 2! + … + (A t)^12 / 13!), in powers of
/// (A t)^4 (Paterson and Stockmeyer, "On the number of nonscalar multiplications necessary to evaluate polynomials",
/// 1973): five products where one after the other would be eleven. `scaled` and `next` are room for n by n numbers,
/// `powers` for three times that.
void integral_series(std::size_t n, const double* a, double t, double* scaled, double* next, double* powers, double* s);

}  // namespace isodyne::networks::electric
