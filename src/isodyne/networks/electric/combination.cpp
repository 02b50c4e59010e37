#include "isodyne/networks/electric/combination.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "isodyne/networks/electric/dense.h"

namespace isodyne::networks::electric {

bool Combination::make(const Circuit& circuit, const Frame& frame, std::span<const double> inputs,
                       std::span<const Position> at, std::vector<double>& room) {
  frame_ = &frame;
  positions.assign(at.begin(), at.end());
  const auto columns = static_cast<std::size_t>(frame.columns());
  w_.resize(static_cast<std::size_t>(frame.unknowns) * columns);
  room.resize(frame.room());
  if (!solve_nodes(circuit, frame, inputs, at, room.data(), w_.data())) return false;
  std::vector<double> row(columns);
  stand_.shape(circuit.devices.size(), columns);
  for (std::size_t d = 0; d < circuit.devices.size(); ++d) {
    const Device& device = circuit.devices[d];
    if (device.kind == Device::Kind::core) {
      std::fill(row.begin(), row.end(), 0.0);
      row[static_cast<std::size_t>(device.state)] = 1;
    } else if (device.unknown >= 0 && piece_of(device, at[d]).steep) {
      std::copy_n(w_.data() + static_cast<std::size_t>(device.unknown) * columns, columns, row.data());
    } else {
      voltage_row(frame, w_.data(), device.a, device.b, row.data());
    }
    for (std::size_t k = 0; k < columns; ++k) stand_.at(d, k) = row[k];
  }
  rates_.resize(static_cast<std::size_t>(frame.states) * columns);
  for (int s = 0; s < frame.states; ++s)
    rate_row(circuit, frame, inputs, w_.data(), s, &rates_[static_cast<std::size_t>(s) * columns]);
  return true;
}

void Combination::discretise(const Frame& f, double step) {
  const auto states = static_cast<std::size_t>(f.states), n = static_cast<std::size_t>(f.kept),
             columns = static_cast<std::size_t>(f.columns()), u = columns - states;
  step_ = step;
  discretised_ = true;
  // A = N' F N, B = N' G
  std::vector<double> rates(states * columns);  // column by column
  for (std::size_t r = 0; r < states; ++r) {
    for (std::size_t c = 0; c < columns; ++c) rates[c * states + r] = rates_[r * columns + c];
  }
  std::vector<double> turned(n * states);
  for (std::size_t r = 0; r < states; ++r) {
    for (std::size_t c = 0; c < n; ++c) turned[r * n + c] = f.from_kept[c * states + r];
  }
  std::vector<double> half(states * n);
  product(states, states, n, rates.data(), f.from_kept.data(), half.data());
  a_.resize(n * n);
  product(n, states, n, turned.data(), half.data(), a_.data());
  b_.resize(n * u);
  product(n, states, u, turned.data(), rates.data() + states * states, b_.data());

  // No eigenvalue of A turns more quickly than its skew part is large (Bendixson, 1902); the other part only decays.
  double turning = 0;
  for (std::size_t r = 0; r < n; ++r) {
    for (std::size_t c = 0; c < n; ++c) turning += std::pow((a_[c * n + r] - a_[r * n + c]) / 2, 2);
  }
  for (look_ = step; std::sqrt(turning) * look_ > 1;) look_ /= 2;
  double size = 0;
  for (const double value : a_) size += value * value;
  size = std::sqrt(size) * step;
  int halvings = 0;
  while (size > 0.25) {
    size /= 2;
    ++halvings;
  }
  // S(t) = integral of exp(A s) over 0 .. t, whose relative precision holds for what is slow beside what is quick.
  const double t = std::ldexp(step, -halvings);
  std::vector<double> s(n * n), next(n * n), as(n * n);
  for (std::size_t i = 0; i < n; ++i) s[i * n + i] = 1;
  for (int k = 14; k >= 2; --k) {  // 0.25^14 / 15! is nothing
    product(n, n, n, a_.data(), s.data(), next.data());
    for (std::size_t i = 0; i < n * n; ++i) s[i] = next[i] * (t / k);
    for (std::size_t i = 0; i < n; ++i) s[i * n + i] += 1;
  }
  for (double& value : s) value *= t;
  levels_.assign(static_cast<std::size_t>(halvings) + 1, {});
  levels_.back() = s;
  for (std::size_t level = static_cast<std::size_t>(halvings); level-- > 0;) {
    // S(2t) = 2 S + S A S
    product(n, n, n, a_.data(), s.data(), as.data());
    product(n, n, n, s.data(), as.data(), next.data());
    for (std::size_t i = 0; i < n * n; ++i) s[i] = 2 * s[i] + next[i];
    levels_[level] = s;
  }
  // The whole step in the states themselves: x' = N (1 + S A) N' E x + N S B u.
  product(n, n, n, s.data(), a_.data(), as.data());
  for (std::size_t i = 0; i < n; ++i) as[i * n + i] += 1;
  std::vector<double> middle(n * states);
  product(n, n, states, as.data(), f.to_kept.data(), middle.data());
  std::vector<double> whole(states * states);
  product(states, n, states, f.from_kept.data(), middle.data(), whole.data());
  std::vector<double> sb(n * u), from_sources(states * u);
  product(n, n, u, s.data(), b_.data(), sb.data());
  product(states, n, u, f.from_kept.data(), sb.data(), from_sources.data());
  whole_.shape(states, columns);
  for (std::size_t c = 0; c < columns; ++c) {
    const double* from = c < states ? whole.data() + c * states : from_sources.data() + (c - states) * states;
    for (std::size_t r = 0; r < states; ++r) whole_.at(r, c) = from[r];
  }
  q_.resize(n);
  r_.resize(n);
  t_.resize(n);
}

void Combination::part(const double* now, double span, double* after) {
  const auto states = static_cast<std::size_t>(frame_->states), n = static_cast<std::size_t>(frame_->kept),
             u = static_cast<std::size_t>(frame_->sources) + 1;
  std::fill(q_.begin(), q_.end(), 0.0);
  add_product(n, states, frame_->to_kept.data(), now, q_.data());
  // Halves of the step, as far as they fit; q(t) = q + S(t) (A q + B u).
  double left = span;
  const auto rate = [&] {
    std::fill(r_.begin(), r_.end(), 0.0);
    add_product(n, u, b_.data(), now + states, r_.data());
    add_product(n, n, a_.data(), q_.data(), r_.data());
  };
  for (std::size_t level = 1; level < levels_.size(); ++level) {
    const double t = std::ldexp(step_, -static_cast<int>(level));
    if (left < t) continue;
    rate();
    add_product(n, n, levels_[level].data(), r_.data(), q_.data());
    left -= t;
  }
  if (left > 0) {
    rate();
    for (std::size_t i = 0; i < n; ++i) r_[i] *= left;
    for (int k = 2; k <= 16; ++k) {
      double most = 0, most_q = 0;
      for (std::size_t i = 0; i < n; ++i) {
        q_[i] += r_[i];
        most = std::max(most, std::abs(r_[i]));
        most_q = std::max(most_q, std::abs(q_[i]));
      }
      if (most <= 1e-17 * most_q) break;
      std::fill(t_.begin(), t_.end(), 0.0);
      add_product(n, n, a_.data(), r_.data(), t_.data());
      for (std::size_t i = 0; i < n; ++i) r_[i] = t_[i] * (left / k);
    }
  }
  std::fill_n(after, states, 0.0);
  add_product(states, n, frame_->from_kept.data(), q_.data(), after);
}

double Combination::stand(std::size_t device, const double* now) const {
  double sum = 0;
  for (std::size_t c = 0; c < stand_.columns; ++c) sum += stand_.at(device, c) * now[c];
  return sum;
}

/// Currents of inductors that depend on each other have the errors of the largest.
double Combination::rounding(std::size_t device, const double* now) const {
  const auto states = static_cast<std::size_t>(frame_->states);
  double sum = 0, of_states[2] = {0, 0}, most[2] = {0, 0};
  for (std::size_t c = 0; c < stand_.columns; ++c) {
    const double factor = std::abs(stand_.at(device, c));
    if (c >= states) {
      sum += std::abs(factor * now[c]);
      continue;
    }
    const std::size_t kind = frame_->is_current[c] ? 0 : 1;
    of_states[kind] += factor;
    most[kind] = std::max(most[kind], std::abs(now[c]));
  }
  return 16 * std::numeric_limits<double>::epsilon() * (sum + of_states[0] * most[0] + of_states[1] * most[1]);
}

const Columns& Combination::rows(std::size_t slot, const Readings& readings, std::span<const std::int32_t> rows,
                                 std::span<const double> inputs) {
  Columns& made = rows_[slot];
  if (made.rows == rows.size()) return made;
  const auto columns = static_cast<std::size_t>(frame_->columns());
  made.shape(rows.size(), columns);
  std::vector<double> row(columns);
  for (std::size_t r = 0; r < rows.size(); ++r) {
    readings.write_row(rows[r], *frame_, inputs, positions, w_.data(), row.data());
    for (std::size_t k = 0; k < columns; ++k) made.at(r, k) = row[k];
  }
  return made;
}

}  // namespace isodyne::networks::electric
