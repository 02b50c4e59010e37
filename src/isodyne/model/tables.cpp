#include "isodyne/model/tables.h"

#include <algorithm>
#include <cmath>

namespace isodyne::model {

namespace {

/// One-sided slope at an end from three points, limited so that the curve keeps the shape of the data.
double end_slope(double h0, double h1, double delta0, double delta1) {
  double d = ((2 * h0 + h1) * delta0 - h0 * delta1) / (h0 + h1);
  if ((d > 0) != (delta0 > 0)) d = 0;
  if ((delta0 > 0) != (delta1 > 0) && std::abs(d) > 3 * std::abs(delta0)) d = 3 * delta0;
  return d;
}

}  // namespace

void prepare(Table& t) {
  if (t.method != Table::Method::cubic || !t.y.empty()) return;
  const std::size_t n = t.x.size();
  std::vector<double> h(n - 1), delta(n - 1);
  for (std::size_t i = 0; i + 1 < n; ++i) {
    h[i] = t.x[i + 1] - t.x[i];
    delta[i] = (t.z[i + 1] - t.z[i]) / h[i];
  }
  t.slope.assign(n, 0.0);
  if (n == 2) {
    t.slope[0] = t.slope[1] = delta[0];
    return;
  }
  for (std::size_t i = 1; i + 1 < n; ++i) {
    if (delta[i - 1] * delta[i] <= 0) continue;
    const double w1 = 2 * h[i] + h[i - 1], w2 = h[i] + 2 * h[i - 1];
    t.slope[i] = (w1 + w2) / (w1 / delta[i - 1] + w2 / delta[i]);
  }
  t.slope[0] = end_slope(h[0], h[1], delta[0], delta[1]);
  t.slope[n - 1] = end_slope(h[n - 2], h[n - 3], delta[n - 2], delta[n - 3]);
}

iso_table plain(const Table& t) {
  return {t.x.data(),
          t.y.data(),
          t.z.data(),
          t.slope.data(),
          static_cast<std::int64_t>(t.x.size()),
          static_cast<std::int64_t>(t.y.size()),
          static_cast<int>(t.method),
          static_cast<int>(t.outside)};
}

double look_up(Op op, const iso_table& t, double a, double b) {
  switch (op) {
    case Op::table1:
      return iso_table1(&t, a);
    case Op::slope1:
      return iso_slope1(&t, a);
    case Op::table2:
      return iso_table2(&t, a, b);
    case Op::slope2x:
      return iso_slope2x(&t, a, b);
    default:
      return iso_slope2y(&t, a, b);
  }
}

}  // namespace isodyne::model
