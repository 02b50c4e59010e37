#include "isodyne/networks/electric/equations.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <numeric>
#include <optional>
#include <utility>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/networks/electric/dense.h"

namespace isodyne::networks::electric {

namespace {

double value(std::span<const double> inputs, int place) {
  return place < 0 ? 0.0 : inputs[static_cast<std::size_t>(place)];
}

/// Writes M without devices into `put(row, column, value)`. `generic`: resistances are other numbers of a moderate
/// size, so that what is zero can be told from what is small.
template <typename Put>
void stamp(const Circuit& c, std::span<const double> inputs, bool generic, Put put) {
  const auto between = [&](int a, int b, double g) {
    if (a > 0) put(a - 1, a - 1, g);
    if (b > 0) put(b - 1, b - 1, g);
    if (a > 0 && b > 0) {
      put(a - 1, b - 1, -g);
      put(b - 1, a - 1, -g);
    }
  };
  const auto through = [&](int a, int b, int unknown) {
    if (a > 0) put(a - 1, unknown, 1.0), put(unknown, a - 1, 1.0);
    if (b > 0) put(b - 1, unknown, -1.0), put(unknown, b - 1, -1.0);
  };
  int number = 0;
  const auto other = [&] { return 1.0 + std::fmod(0.6180339887498949 * ++number, 1.0); };
  for (const Conductor& r : c.conductors) between(r.a, r.b, generic ? other() : 1 / value(inputs, r.resistance));
  for (const Store& s : c.stores) {
    through(s.a, s.b, s.unknown);
    const double resistance = value(inputs, s.resistance);
    if (resistance > 0) put(s.unknown, s.unknown, generic ? -other() : -resistance);
  }
  for (const Source& s : c.voltages) through(s.a, s.b, s.unknown);
  for (const Winding& w : c.windings) {
    through(w.a, w.b, w.unknown);
    const double turns = value(inputs, w.turns);
    put(w.unknown, w.flux, -turns);
    put(w.flux, w.unknown, -turns);
  }
  if (!generic) return;
  for (const Device& d : c.devices) {
    if (d.kind == Device::Kind::core) continue;
    between(d.a, d.b, other());
    if (d.unknown >= 0) put(d.unknown, d.unknown, 1.0);
  }
}

/// Writes K into `put(row, column, value)`, but for what devices add.
template <typename Put>
void right_side(const Circuit& c, int states, Put put) {
  const auto leaves = [&](int a, int b, int column) {
    if (a > 0) put(a - 1, column, -1.0);
    if (b > 0) put(b - 1, column, 1.0);
  };
  for (const Coil& l : c.coils) leaves(l.a, l.b, l.state);
  for (const Store& s : c.stores) put(s.unknown, s.state, 1.0);
  int column = states;
  for (const Source& s : c.voltages) put(s.unknown, column++, 1.0);
  for (const Source& s : c.currents) leaves(s.a, s.b, column++);
}

/// A matrix by columns, before the run.
struct Matrix {
  Matrix(int r, int c) : rows(r), columns(c), values(static_cast<std::size_t>(r) * static_cast<std::size_t>(c)) {}
  double& operator()(int r, int c) { return values[place(r, c)]; }
  double operator()(int r, int c) const { return values[place(r, c)]; }
  std::size_t place(int r, int c) const {
    return static_cast<std::size_t>(c) * static_cast<std::size_t>(rows) + static_cast<std::size_t>(r);
  }
  int rows = 0, columns = 0;
  std::vector<double> values;
};

Matrix operator*(const Matrix& a, const Matrix& b) {
  Matrix c(a.rows, b.columns);
  for (int column = 0; column < b.columns; ++column) {
    for (int k = 0; k < a.columns; ++k) {
      for (int r = 0; r < a.rows; ++r) c(r, column) += a(r, k) * b(k, column);
    }
  }
  return c;
}

Matrix transposed(const Matrix& a) {
  Matrix t(a.columns, a.rows);
  for (int r = 0; r < a.rows; ++r) {
    for (int c = 0; c < a.columns; ++c) t(c, r) = a(r, c);
  }
  return t;
}

/// Columns of length 1, at right angles to each other. Twice, because once leaves what rounding does.
void straighten(Matrix& m) {
  for (int c = 0; c < m.columns; ++c) {
    for (int before = 0; before < 2 * c; ++before) {
      double along = 0;
      for (int r = 0; r < m.rows; ++r) along += m(r, before % c) * m(r, c);
      for (int r = 0; r < m.rows; ++r) m(r, c) -= along * m(r, before % c);
    }
    double size = 0;
    for (int r = 0; r < m.rows; ++r) size += m(r, c) * m(r, c);
    for (int r = 0; r < m.rows; ++r) m(r, c) /= std::sqrt(size);
  }
}

/// A basis of what M times it is zero, by elimination with full exchanges.
Matrix nothing_of(Matrix m) {
  std::vector<int> column(static_cast<std::size_t>(m.columns));
  std::iota(column.begin(), column.end(), 0);
  double largest = 0;
  for (const double value : m.values) largest = std::max(largest, std::abs(value));
  int rank = 0;
  for (; rank < std::min(m.rows, m.columns); ++rank) {
    int row = rank, at = rank;
    for (int c = rank; c < m.columns; ++c) {
      for (int r = rank; r < m.rows; ++r) {
        if (std::abs(m(r, c)) > std::abs(m(row, at))) row = r, at = c;
      }
    }
    if (std::abs(m(row, at)) <= 1e-9 * largest) break;
    for (int c = 0; c < m.columns; ++c) std::swap(m(rank, c), m(row, c));
    for (int r = 0; r < m.rows; ++r) std::swap(m(r, rank), m(r, at));
    std::swap(column[static_cast<std::size_t>(rank)], column[static_cast<std::size_t>(at)]);
    for (int r = 0; r < m.rows; ++r) {
      const double factor = r == rank ? 0 : m(r, rank) / m(rank, rank);
      for (int c = rank; c < m.columns && factor != 0; ++c) m(r, c) -= factor * m(rank, c);
    }
  }
  Matrix basis(m.columns, m.columns - rank);
  for (int k = 0; k < basis.columns; ++k) {
    basis(column[static_cast<std::size_t>(rank + k)], k) = 1;
    for (int r = 0; r < rank; ++r) basis(column[static_cast<std::size_t>(r)], k) = -m(r, rank + k) / m(r, r);
  }
  straighten(basis);
  return basis;
}

/// L with L L' = M; nothing if M is not symmetric and positive.
std::optional<Matrix> root_of(const Matrix& m) {
  Matrix l(m.rows, m.rows);
  for (int c = 0; c < m.rows; ++c) {
    double left = m(c, c);
    for (int k = 0; k < c; ++k) left -= l(c, k) * l(c, k);
    if (!(left > 1e-12 * m(c, c))) return std::nullopt;
    l(c, c) = std::sqrt(left);
    for (int r = c + 1; r < m.rows; ++r) {
      if (std::abs(m(r, c) - m(c, r)) > 1e-9 * std::sqrt(m(r, r) * m(c, c))) return std::nullopt;
      double sum = m(r, c);
      for (int k = 0; k < c; ++k) sum -= l(r, k) * l(c, k);
      l(r, c) = sum / l(c, c);
    }
  }
  return l;
}

/// The inverse of L'.
Matrix turned_back(const Matrix& l) {
  Matrix back(l.rows, l.rows);
  for (int c = 0; c < l.rows; ++c) {
    for (int r = c; r >= 0; --r) {
      double sum = r == c ? 1 : 0;
      for (int k = r + 1; k <= c; ++k) sum -= l(k, r) * back(k, c);
      back(r, c) = sum / l(r, r);
    }
  }
  return back;
}

Matrix energy_of(const Circuit& c, std::span<const double> inputs) {
  Matrix e(c.states(), c.states());
  for (const Coil& l : c.coils) {
    if (l.windings == 1) {
      e(l.state, l.state) = value(inputs, l.inductance);
      continue;
    }
    // Row by row; `inductance` is the first of this winding's.
    for (int k = 0; k < l.windings; ++k) e(l.state, l.first_of + k) = value(inputs, l.inductance + k);
  }
  for (const Store& s : c.stores) e(s.state, s.state) = value(inputs, s.capacitance);
  return e;
}

/// The node in which a vector of unknowns is largest; empty: it has no voltage.
std::string node_in(const Circuit& c, const Matrix& vector) {
  int most = 0;
  for (int n = 1; n + 1 < c.nodes(); ++n) {
    if (std::abs(vector(n, 0)) > std::abs(vector(most, 0))) most = n;
  }
  if (c.nodes() < 2 || std::abs(vector(most, 0)) < 1e-9) return {};
  return c.network().nodes[static_cast<std::size_t>(most) + 1];
}

/// The elements whose states have a share in something.
std::string states_in(const Circuit& c, const std::function<double(int)>& share) {
  std::string names;
  for (std::size_t e = 0; e < c.of.size(); ++e) {
    const Circuit::Of& of = c.of[e];
    bool has = false;
    for (std::size_t k = static_cast<std::size_t>(of.first); k < static_cast<std::size_t>(of.first + of.count); ++k) {
      if (of.kind == Circuit::Of::Kind::coil) has = has || std::abs(share(c.coils[k].state)) > 1e-9;
      if (of.kind == Circuit::Of::Kind::store) has = has || std::abs(share(c.stores[k].state)) > 1e-9;
      if (of.kind == Circuit::Of::Kind::core)
        has = has || std::abs(share(c.coils[static_cast<std::size_t>(c.cores[k].coil)].state)) > 1e-9;
    }
    if (has) list_on(names, "`" + c.network().elements[e].path + "`");
  }
  return names;
}

std::string source_name(const Circuit& c, int source) {
  for (std::size_t e = 0; e < c.of.size(); ++e) {
    const Circuit::Of& of = c.of[e];
    const int at = of.kind == Circuit::Of::Kind::voltage   ? of.first
                   : of.kind == Circuit::Of::Kind::current ? static_cast<int>(c.voltages.size()) + of.first
                                                           : -1;
    if (at == source) return c.network().elements[e].path;
  }
  return "?";
}

/// N and E, so that what is kept has the energy of all.
std::string choose_states(const Circuit& c, std::span<const double> inputs, const Matrix& constraint, Frame& f) {
  const Matrix energy = energy_of(c, inputs);
  const auto root = root_of(energy);
  if (!root)
    return "the inductances of `Coupled` windings are those of no core: the matrix is not symmetric, or windings are "
           "coupled by more than all of their flux";
  // energy = L L', so y = L' x has the energy y' y / 2.
  const Matrix back = turned_back(*root), inverse = back * transposed(back);
  const Matrix n = f.idle_count == 0 ? back : back * nothing_of(constraint * back);
  f.kept = n.columns;
  f.from_kept = n.values;
  f.turned = transposed(n).values;
  f.independent = f.idle_count == 0;
  for (int row = 0; row < n.rows; ++row) {
    for (int column = 0; column < n.columns; ++column)
      f.independent = f.independent && (row == column || n(row, column) == 0);
  }
  f.energy = energy.values;
  f.to_kept = (transposed(n) * energy).values;
  if (f.idle_count == 0) return {};
  // The constraint holds all the time: its rate C E^-1 (rates + S C' a) is zero, where a is how much of Z there is. S:
  // an inductor leaves its node, which K has with a minus.
  Matrix turned = transposed(constraint);
  for (const Coil& l : c.coils) {
    for (int z = 0; z < turned.columns; ++z) turned(l.state, z) *= -1;
  }
  const Matrix rate = constraint * inverse;
  Matrix weight = transposed(rate * turned), amount = transposed(rate);  // row by row for solve()
  if (!solve(static_cast<std::size_t>(f.idle_count), static_cast<std::size_t>(f.states), weight.values.data(),
             amount.values.data()))
    return "its states contradict each other";
  f.idle_from_rates = transposed(amount).values;
  for (double& value : f.idle_from_rates) value = -value;
  return {};
}

}  // namespace

namespace {
/// C = A B, where A may have nothing beside its diagonal.
void times(bool diagonal, std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b,
           double* c) {
  if (!diagonal) return product(rows, inner, columns, a, b, c);
  for (std::size_t column = 0; column < columns; ++column) {
    for (std::size_t r = 0; r < rows; ++r) c[column * rows + r] = a[r * rows + r] * b[column * rows + r];
  }
}
}  // namespace

void Frame::times_n(std::size_t of, const double* b, double* c) const {
  const auto all = static_cast<std::size_t>(states), n = static_cast<std::size_t>(kept);
  times(independent, all, n, of, from_kept.data(), b, c);
}

void Frame::times_n_turned(std::size_t of, const double* b, double* c) const {
  const auto all = static_cast<std::size_t>(states), n = static_cast<std::size_t>(kept);
  times(independent, n, all, of, turned.data(), b, c);
}

std::string make_frame(const Circuit& c, std::span<const double> inputs, Frame& f) {
  f = {};
  f.states = c.states();
  f.unknowns = c.unknowns();
  f.sources = c.sources();
  f.is_current.assign(static_cast<std::size_t>(f.states), 0);
  for (const Coil& l : c.coils) f.is_current[static_cast<std::size_t>(l.state)] = 1;
  Matrix m(f.unknowns, f.unknowns), k(f.unknowns, f.columns());
  stamp(c, inputs, true, [&](int row, int column, double v) { m(row, column) += v; });
  right_side(c, f.states, [&](int row, int column, double v) { k(row, column) += v; });
  const Matrix z = nothing_of(m);
  f.idle_count = z.columns;
  f.idle = z.values;
  const Matrix said = transposed(z) * k;
  Matrix constraint(f.idle_count, f.states);
  for (int i = 0; i < f.idle_count; ++i) {
    for (int s = 0; s < f.states; ++s) {
      if (std::abs(said(i, s)) > 1e-12) constraint(i, s) = said(i, s);  // the rest is what rounding left
    }
    for (int s = 0; s < f.sources; ++s) {
      if (std::abs(said(i, f.states + s)) < 1e-9) continue;
      const std::string states = states_in(c, [&](int state) { return constraint(i, state); });
      return fmt::format("`{}` decides alone about {}: it needs a resistance beside it", source_name(c, s),
                         states.empty() ? "what other sources decide about" : states);
    }
  }
  f.constraint = constraint.values;
  if (f.idle_count == 0) return f.states == 0 ? std::string{} : choose_states(c, inputs, constraint, f);
  if (const Matrix unsaid = nothing_of(transposed(constraint)); unsaid.columns > 0) {
    const std::string node = node_in(c, z * unsaid);
    return node.empty() ? std::string(
                              "a current flows round and nothing says how much: windings without resistance lie "
                              "beside each other")
                        : fmt::format("nothing decides about the voltage of `{}`", node);
  }
  return choose_states(c, inputs, constraint, f);
}

std::string contradiction(const Frame& f, const Circuit& c, const double* states) {
  const auto count = static_cast<std::size_t>(f.states), idle = static_cast<std::size_t>(f.idle_count);
  for (std::size_t z = 0; z < idle; ++z) {
    double sum = 0, size = 0;
    for (std::size_t s = 0; s < count; ++s) {
      sum += f.constraint[s * idle + z] * states[s];
      size = std::max(size, std::abs(f.constraint[s * idle + z] * states[s]));
    }
    constexpr double kRounding = 1e-10;  // A or V: of currents that have died away rounding is all that is left
    if (std::abs(sum) <= 1e-9 * size + kRounding) continue;
    const auto share = [&](int state) { return f.constraint[static_cast<std::size_t>(state) * idle + z]; };
    const bool coils =
        std::any_of(c.coils.begin(), c.coils.end(), [&](const Coil& l) { return std::abs(share(l.state)) > 1e-9; });
    return fmt::format("{} of {} at the start do not add up to zero {}", coils ? "the currents" : "the voltages",
                       states_in(c, share), coils ? "where they meet" : "around their loop");
  }
  return {};
}

/// i = g v + offset, as a conductance or with the current as an unknown of its own.
template <typename Into, typename Right>
static void put_device(const Device& d, const Piece& p, const Frame& f, Into into, Right right) {
  const int last = f.columns() - 1;
  if (d.kind == Device::Kind::core) {
    if (d.a > 0) right(d.a - 1, d.state, -p.conductance), right(d.a - 1, last, -p.offset);
    if (d.b > 0) right(d.b - 1, d.state, p.conductance), right(d.b - 1, last, p.offset);
    return;
  }
  if (d.unknown < 0) {
    if (d.a > 0) into(d.a - 1, d.a - 1, p.conductance), right(d.a - 1, last, -p.offset);
    if (d.b > 0) into(d.b - 1, d.b - 1, p.conductance), right(d.b - 1, last, p.offset);
    if (d.a > 0 && d.b > 0) into(d.a - 1, d.b - 1, -p.conductance), into(d.b - 1, d.a - 1, -p.conductance);
    return;
  }
  const double v = p.steep ? 1 : p.conductance, i = p.steep ? -1 / p.conductance : -1;
  if (d.a > 0) into(d.a - 1, d.unknown, 1), into(d.unknown, d.a - 1, v);
  if (d.b > 0) into(d.b - 1, d.unknown, -1), into(d.unknown, d.b - 1, -v);
  into(d.unknown, d.unknown, i);
  right(d.unknown, last, p.steep ? -p.offset / p.conductance : -p.offset);
}

bool solve_nodes(const Circuit& c, const Frame& f, std::span<const double> inputs, std::span<const Position> positions,
                 double* m, double* w) {
  const auto u = static_cast<std::size_t>(f.unknowns), columns = static_cast<std::size_t>(f.columns());
  std::fill_n(m, u * u, 0.0);
  std::fill_n(w, u * columns, 0.0);
  const auto into = [&](int row, int column, double v) {
    m[static_cast<std::size_t>(row) * u + static_cast<std::size_t>(column)] += v;
  };
  const auto right = [&](int row, int column, double v) {
    w[static_cast<std::size_t>(row) * columns + static_cast<std::size_t>(column)] += v;
  };
  stamp(c, inputs, false, into);
  right_side(c, f.states, right);
  for (std::size_t i = 0; i < c.devices.size(); ++i)
    put_device(c.devices[i], piece_of(c.devices[i], positions[i]), f, into, right);
  for (int z = 0; z < f.idle_count; ++z) {
    const double* column = &f.idle[static_cast<std::size_t>(z) * u];
    for (std::size_t r = 0; r < u; ++r) {
      if (column[r] == 0) continue;
      for (std::size_t s = 0; s < u; ++s) m[r * u + s] += column[r] * column[s];
    }
  }
  if (!solve(u, columns, m, w)) return false;
  if (f.idle_count == 0) return true;
  // How much of Z there has to be, so that what depends on each other goes on doing so.
  const auto states = static_cast<std::size_t>(f.states), idle = static_cast<std::size_t>(f.idle_count);
  double* row = m;               // room that is free again
  double* amount = m + columns;  // idle by columns
  std::fill_n(amount, idle * columns, 0.0);
  for (std::size_t s = 0; s < states; ++s) {
    rate_row(c, f, inputs, w, static_cast<int>(s), row);
    for (std::size_t z = 0; z < idle; ++z) {
      const double factor = f.idle_from_rates[s * idle + z];
      for (std::size_t k = 0; k < columns; ++k) amount[z * columns + k] += factor * row[k];
    }
  }
  for (std::size_t z = 0; z < idle; ++z) {
    for (std::size_t r = 0; r < u; ++r) {
      const double factor = f.idle[z * u + r];
      for (std::size_t k = 0; k < columns; ++k) w[r * columns + k] += factor * amount[z * columns + k];
    }
  }
  return true;
}

void voltage_row(const Frame& f, const double* w, int a, int b, double* row) {
  const auto columns = static_cast<std::size_t>(f.columns());
  for (std::size_t k = 0; k < columns; ++k) {
    const double one = a > 0 ? w[static_cast<std::size_t>(a - 1) * columns + k] : 0.0;
    const double two = b > 0 ? w[static_cast<std::size_t>(b - 1) * columns + k] : 0.0;
    row[k] = one - two;
  }
}

void rate_row(const Circuit& c, const Frame& f, std::span<const double> inputs, const double* w, int state,
              double* row) {
  const auto columns = static_cast<std::size_t>(f.columns());
  for (const Coil& l : c.coils) {
    if (l.state != state) continue;
    voltage_row(f, w, l.a, l.b, row);
    row[state] -= value(inputs, l.resistance);
    return;
  }
  for (const Store& s : c.stores) {
    if (s.state != state) continue;
    std::copy_n(w + static_cast<std::size_t>(s.unknown) * columns, columns, row);
    return;
  }
}

}  // namespace isodyne::networks::electric
