#include "isodyne/networks/electric/exponential.h"

#include <algorithm>
#include <cmath>

#include "isodyne/networks/electric/dense.h"

namespace isodyne::networks::electric {

double most_turning(std::size_t n, double* a, double* room) {
  for (int sweep = 0; sweep < 20; ++sweep) {
    bool changed = false;
    for (std::size_t i = 0; i < n; ++i) {
      double row = 0, column = 0;
      for (std::size_t k = 0; k < n; ++k) {
        if (k == i) continue;
        row += a[k * n + i] * a[k * n + i];
        column += a[i * n + k] * a[i * n + k];
      }
      if (row == 0 || column == 0) continue;
      const double factor = std::sqrt(std::sqrt(row / column));
      changed = changed || std::abs(factor - 1) > 1e-3;
      for (std::size_t k = 0; k < n; ++k) {
        a[i * n + k] *= factor;
        a[k * n + i] /= factor;
      }
    }
    if (!changed) break;
  }
  double squares = 0;
  for (std::size_t r = 0; r < n; ++r) {
    for (std::size_t c = 0; c <= r; ++c) {
      const double skew = (a[c * n + r] - a[r * n + c]) / 2;
      a[c * n + r] = skew;
      a[r * n + c] = -skew;
      squares += skew * skew;  // of each pair once
    }
  }
  const auto largest_row = [n](const double* m) {
    double most = 0;
    for (std::size_t c = 0; c < n; ++c) {  // columns are rows, but for their sign
      double sum = 0;
      for (std::size_t r = 0; r < n; ++r) sum += std::abs(m[c * n + r]);
      most = std::max(most, sum);
    }
    return most;
  };
  product(n, n, n, a, a, room);
  return std::min({std::sqrt(squares), largest_row(a), std::sqrt(largest_row(room))});
}

void integral_series(std::size_t n, const double* a, double t, double* scaled, double* next, double* powers,
                     double* s) {
  static_assert(kTerms == 13);
  double c[kTerms], factorial = 1;
  for (int k = 0; k < kTerms; ++k) {
    factorial *= k + 1;
    c[k] = 1 / factorial;
  }
  const std::size_t all = n * n;
  double *const two = powers, *const three = two + all, *const four = three + all;
  for (std::size_t i = 0; i < all; ++i) scaled[i] = a[i] * t;
  product(n, n, n, scaled, scaled, two);
  product(n, n, n, two, scaled, three);
  product(n, n, n, two, two, four);
  for (std::size_t i = 0; i < all; ++i) next[i] = c[12] * four[i];
  for (int group = 2;; --group) {
    const double* const of = c + 4 * group;
    for (std::size_t i = 0; i < all; ++i) s[i] = next[i] + of[1] * scaled[i] + of[2] * two[i] + of[3] * three[i];
    for (std::size_t i = 0; i < n; ++i) s[i * n + i] += of[0];
    if (group == 0) break;
    product(n, n, n, s, four, next);
  }
  for (std::size_t i = 0; i < all; ++i) s[i] *= t;
}

}  // namespace isodyne::networks::electric
