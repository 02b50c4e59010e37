#include "isodyne/model/tables.h"

#include <algorithm>
#include <cmath>

namespace isodyne::model {

namespace {

/// Where x lies in a rising list: between points i and i + 1.
struct Place {
  std::size_t i = 0;
  double x = 0;          ///< after holding or repeating
  bool outside = false;  ///< held: nothing changes with x any more
};

Place place_of(const std::vector<double>& points, double x, Table::Outside outside) {
  Place p;
  p.x = x;
  const double first = points.front(), last = points.back();
  if (outside == Table::Outside::repeated && last > first) {
    const double length = last - first;
    p.x = first + (x - first) - length * std::floor((x - first) / length);
    if (!(p.x >= first && p.x <= last)) p.x = first;  // also for what is no number
  } else if (outside == Table::Outside::held && !(x > first && x < last)) {
    p.x = x >= last ? last : x <= first ? first : x;
    p.outside = x > last || x < first;
  }
  const auto above = std::upper_bound(points.begin(), points.end(), p.x);
  const auto i = static_cast<std::size_t>(above - points.begin());
  p.i = std::min(i == 0 ? 0 : i - 1, points.size() - 2);
  return p;
}

struct Cubic {
  double value, slope;
};

/// Hermite form on [x0, x0 + h].
Cubic hermite(double h, double z0, double z1, double d0, double d1, double s) {
  const double delta = (z1 - z0) / h;
  const double c2 = (3 * delta - 2 * d0 - d1) / h, c3 = (d0 + d1 - 2 * delta) / (h * h);
  return {z0 + s * (d0 + s * (c2 + s * c3)), d0 + s * (2 * c2 + 3 * s * c3)};
}

/// One-sided slope at an end from three points, limited so that the curve keeps the shape of the data.
double end_slope(double h0, double h1, double delta0, double delta1) {
  double d = ((2 * h0 + h1) * delta0 - h0 * delta1) / (h0 + h1);
  if ((d > 0) != (delta0 > 0)) d = 0;
  if ((delta0 > 0) != (delta1 > 0) && std::abs(d) > 3 * std::abs(delta0)) d = 3 * delta0;
  return d;
}

Cubic one(const Table& t, double x) {
  const Place p = place_of(t.x, x, t.outside);
  const double x0 = t.x[p.i], h = t.x[p.i + 1] - x0, z0 = t.z[p.i], z1 = t.z[p.i + 1], s = p.x - x0;
  const double flat = p.outside ? 0 : 1;
  switch (t.method) {
    case Table::Method::hold:
      return {p.x >= t.x[p.i + 1] ? z1 : z0, 0};
    case Table::Method::linear:
      return {z0 + (z1 - z0) * (s / h), flat * (z1 - z0) / h};
    case Table::Method::cubic:
      break;
  }
  const double d0 = t.slope[p.i], d1 = t.slope[p.i + 1];
  if (s < 0) return {z0 + d0 * s, d0};  // extended by the tangent
  if (s > h) return {z1 + d1 * (s - h), d1};
  const Cubic c = hermite(h, z0, z1, d0, d1, s);
  return {c.value, flat * c.slope};
}

struct Surface {
  double value, slope_x, slope_y;
};

Surface two(const Table& t, double x, double y) {
  const Place px = place_of(t.x, x, t.outside), py = place_of(t.y, y, t.outside);
  const std::size_t n = t.y.size();
  const auto z = [&](std::size_t i, std::size_t j) { return t.z[(px.i + i) * n + py.i + j]; };
  const double hx = t.x[px.i + 1] - t.x[px.i], hy = t.y[py.i + 1] - t.y[py.i];
  const double u = (px.x - t.x[px.i]) / hx, v = (py.x - t.y[py.i]) / hy;
  if (t.method == Table::Method::hold) return {z(u >= 1 ? 1 : 0, v >= 1 ? 1 : 0), 0, 0};
  const double low = z(0, 0) + (z(0, 1) - z(0, 0)) * v, high = z(1, 0) + (z(1, 1) - z(1, 0)) * v;
  const double left = z(0, 1) - z(0, 0), right = z(1, 1) - z(1, 0);
  return {low + (high - low) * u, px.outside ? 0 : (high - low) / hx,
          py.outside ? 0 : (left + (right - left) * u) / hy};
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

double table_value(const Table& t, double x) {
  return one(t, x).value;
}
double table_slope(const Table& t, double x) {
  return one(t, x).slope;
}
double table_value(const Table& t, double x, double y) {
  return two(t, x, y).value;
}
double table_slope_x(const Table& t, double x, double y) {
  return two(t, x, y).slope_x;
}
double table_slope_y(const Table& t, double x, double y) {
  return two(t, x, y).slope_y;
}

double look_up(Op op, const Table& t, double a, double b) {
  switch (op) {
    case Op::table1:
      return table_value(t, a);
    case Op::slope1:
      return table_slope(t, a);
    case Op::table2:
      return table_value(t, a, b);
    case Op::slope2x:
      return table_slope_x(t, a, b);
    default:
      return table_slope_y(t, a, b);
  }
}

}  // namespace isodyne::model
