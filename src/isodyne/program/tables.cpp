#include "isodyne/program/tables.h"

#include <algorithm>
#include <cmath>
#include <deque>
#include <limits>

namespace isodyne::program {

namespace {

/// One-sided slope at an end from three points, limited so that the curve keeps the shape of the data.
double end_slope(double h0, double h1, double delta0, double delta1) {
  double d = ((2 * h0 + h1) * delta0 - h0 * delta1) / (h0 + h1);
  if ((d > 0) != (delta0 > 0)) d = 0;
  if ((delta0 > 0) != (delta1 > 0) && std::abs(d) > 3 * std::abs(delta0)) d = 3 * delta0;
  return d;
}

}  // namespace

void prepare(LookupTable& t) {
  if (t.method != LookupTable::Method::cubic || !t.y.empty()) return;
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

iso_table plain(const LookupTable& t) {
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

namespace {

/// A straight piece of one of the candidates for the edge.
struct Piece {
  double a, b;  ///< values at both ends of the stretch
};

/// The greater of straight pieces over [from, to]: points where it bends, without the last.
void upper_edge(std::vector<Piece> pieces, double from, double to, std::vector<std::pair<double, double>>& out) {
  std::vector<double> cuts{0};
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    for (std::size_t j = 0; j < i; ++j) {
      const double d0 = pieces[i].a - pieces[j].a, d1 = pieces[i].b - pieces[j].b;
      if (d0 * d1 < 0) cuts.push_back(d0 / (d0 - d1));
    }
  }
  std::sort(cuts.begin(), cuts.end());
  for (const double c : cuts) {
    double most = -std::numeric_limits<double>::infinity();
    for (const Piece& p : pieces) most = std::max(most, p.a + c * (p.b - p.a));
    const double x = from + c * (to - from);
    if (out.empty() || x > out.back().first) out.emplace_back(x, most);
  }
}

}  // namespace

std::int32_t add_edge(Plant& program, std::int32_t table, double width, Time reach) {
  const LookupTable from = program.tables[static_cast<std::size_t>(table)];
  const double r = to_seconds(reach), sign = width < 0 ? -1 : 1;
  std::vector<double> z = from.z;
  for (double& v : z) v *= sign;  // the least is the greatest of the opposite
  const std::size_t n = from.x.size();
  const auto at = [&](double x) {
    if (x <= from.x.front()) return z.front();
    if (x >= from.x.back()) return z.back();
    const auto i = static_cast<std::size_t>(std::upper_bound(from.x.begin(), from.x.end(), x) - from.x.begin());
    return z[i - 1] + (x - from.x[i - 1]) / (from.x[i] - from.x[i - 1]) * (z[i] - z[i - 1]);
  };
  std::vector<double> bends;  // where a point of the table comes into reach or leaves it
  for (const double x : from.x) {
    bends.push_back(x - r);
    bends.push_back(x + r);
  }
  std::sort(bends.begin(), bends.end());
  bends.erase(std::unique(bends.begin(), bends.end()), bends.end());
  std::vector<std::pair<double, double>> points;
  std::deque<std::size_t> within;  // points in reach whose values fall: the first is the greatest
  std::size_t next = 0;
  for (std::size_t i = 0; i + 1 < bends.size(); ++i) {
    const double a = bends[i], b = bends[i + 1], middle = (a + b) / 2;
    for (; next < n && from.x[next] <= middle + r; ++next) {
      while (!within.empty() && z[within.back()] <= z[next]) within.pop_back();
      within.push_back(next);
    }
    while (!within.empty() && from.x[within.front()] < middle - r) within.pop_front();
    std::vector<Piece> pieces{{at(a - r), at(b - r)}, {at(a + r), at(b + r)}};
    if (!within.empty()) pieces.push_back({z[within.front()], z[within.front()]});
    upper_edge(std::move(pieces), a, b, points);
  }
  points.emplace_back(bends.back(), at(bends.back() - r));
  LookupTable made = from;
  made.x.clear();
  made.z.clear();
  for (const auto& [x, v] : points) {
    made.x.push_back(x);
    made.z.push_back(sign * v + width);
  }
  program.tables.push_back(std::move(made));
  return static_cast<std::int32_t>(program.tables.size() - 1);
}

}  // namespace isodyne::program
