#include "isodyne/networks/electric/combination.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "isodyne/networks/electric/dense.h"

namespace isodyne::networks::electric {

namespace {
/// A series is taken for times in which nothing changes by more than this, and to so many terms: 1/32^9 / 10! is
/// nothing.
constexpr double kShort = 0.25;
constexpr int kTerms = 13;

/// No eigenvalue of A turns by more radians a second than this. Its skew part bounds that (Bendixson, 1902), in any
/// coordinates: in those in which rows are as large as columns (Osborne, 1960) what only decays has none, also where a
/// core that saturates makes A lopsided. A is changed; stored column by column.
double most_turning(std::size_t n, double* a) {
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
  double turning = 0;
  for (std::size_t r = 0; r < n; ++r) {
    for (std::size_t c = 0; c < n; ++c) {
      const double skew = (a[c * n + r] - a[r * n + c]) / 2;
      turning += skew * skew;
    }
  }
  return std::sqrt(turning);
}
/// S(t) = t (1 + A t / 2! + … + (A t)^12 / 13!), in powers of (A t)^4 (Paterson and Stockmeyer, "On the number of
/// nonscalar multiplications necessary to evaluate polynomials", 1973): five products where one after the other would
/// be eleven. `scaled` and `next` are room for n by n numbers, `powers` for three times that.
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
}  // namespace

Workshop::Workshop(const Circuit& of, const Readings& what, const Frame& in, double step_s)
    : circuit(of),
      readings(what),
      frame(in),
      step(step_s),
      states(static_cast<std::size_t>(in.states)),
      kept(static_cast<std::size_t>(in.kept)),
      columns(static_cast<std::size_t>(in.columns())),
      devices(of.devices.size()),
      unknowns(static_cast<std::size_t>(in.unknowns)),
      moving(of.moving()),
      wide(columns + moving.size()) {
  const std::size_t u = columns - states, n = kept, all = what.rows();
  memory = unknowns * columns + Columns::size_of(states, wide) * (kMostLevels + 2) +
           Columns::size_of(devices, columns) + Columns::size_of(states + devices, wide) +
           kSlots * Columns::size_of(all, columns);
  const std::size_t making = in.room() + columns, through_time = 2 * states * columns + 2 * n * states + 7 * n * n +
                                                                 states * states + (2 + 3) * n * u + 2 * states * u +
                                                                 n * columns;
  room.resize(std::max({making, through_time, 2 * columns}));
  series.resize(3 * row());
}

Columns Combination::shaped(std::size_t rows, std::size_t columns) {
  Columns c;
  c.shape(rows, columns, take(Columns::size_of(rows, columns)));
  return c;
}

bool Combination::make(Workshop& shop, std::span<const double> inputs, std::span<const Position> at) {
  const Circuit& circuit = shop.circuit;
  const Frame& frame = shop.frame;
  frame_ = &frame;
  positions.assign(at.begin(), at.end());
  steps = 0;
  level_count_ = 0;
  for (Columns& rows : rows_) rows = {};
  const std::size_t columns = shop.columns;
  w_ = take(shop.unknowns * columns);
  if (!solve_nodes(circuit, frame, inputs, at, shop.room.data(), w_)) return false;
  double* const row = shop.room.data();
  stand_ = shaped(shop.devices, columns);
  for (std::size_t d = 0; d < shop.devices; ++d) {
    const Device& device = circuit.devices[d];
    const Piece& piece = piece_of(device, at[d]);
    if (device.kind == Device::Kind::core) {
      std::fill_n(row, columns, 0.0);
      row[static_cast<std::size_t>(device.state)] = 1;
    } else if (device.unknown >= 0 && piece.steep) {
      std::copy_n(w_ + static_cast<std::size_t>(device.unknown) * columns, columns, row);
    } else {
      voltage_row(frame, w_, device.a, device.b, row);
    }
    for (std::size_t k = 0; k < columns; ++k) stand_.at(d, k) = row[k];
  }
  rates_ = shaped(shop.states, columns);
  for (std::size_t s = 0; s < shop.states; ++s) {
    std::fill_n(row, columns, 0.0);
    rate_row(circuit, frame, inputs, w_, static_cast<int>(s), row);
    for (std::size_t k = 0; k < columns; ++k) rates_.at(s, k) = row[k];
  }
  return true;
}

void Combination::discretise(Workshop& shop) {
  const Frame& f = shop.frame;
  const std::size_t states = shop.states, n = shop.kept, columns = shop.columns, u = columns - states;
  const double step = shop.step;
  step_s_ = step;
  double* room = shop.room.data();
  const auto use = [&](std::size_t count) {
    double* const at = room;
    room += count;
    return at;
  };
  // F and G of all states: energy times rates; A = N' F N, B = N' G
  double* const rates = use(states * columns);  // column by column
  for (std::size_t c = 0; c < columns; ++c) {
    for (std::size_t r = 0; r < states; ++r) rates[c * states + r] = rates_.at(r, c);
  }
  double* const turned = use(n * states);
  for (std::size_t r = 0; r < states; ++r) {
    for (std::size_t c = 0; c < n; ++c) turned[r * n + c] = f.from_kept[c * states + r];
  }
  double *const half = use(n * states), *const a = use(n * n), *const b = use(n * u);
  product(states, states, n, rates, f.from_kept.data(), half);
  product(n, states, n, turned, half, a);
  product(n, states, u, turned, rates + states * states, b);

  double size = 0;
  for (std::size_t k = 0; k < n * n; ++k) size += a[k] * a[k];
  size = std::sqrt(size) * step;
  double *const s = use(n * n), *const next = use(n * n), *const as = use(n * n);
  std::copy_n(a, n * n, next);
  const double turning = most_turning(n, next);
  for (look_ = step; turning * look_ > 1;) look_ /= 2;
  int halvings = 0;
  while (size > kShort && halvings < 1000) {
    size /= 2;
    ++halvings;
  }
  // S(t) = integral of exp(A s) over 0 .. t, whose relative precision holds for what is slow beside what is quick.
  const double t = std::ldexp(step, -halvings);
  integral_series(n, a, t, as, next, use(3 * n * n), s);
  // R(t) B = integral of S(s) B over 0 .. t, of sources that move: t^2 / 2 + A t^3 / 6 + …
  const std::size_t m = shop.moving.size();
  double *const bm = use(n * m), *const r = use(n * m), *const r_next = use(n * m), *const ramp = use(states * m);
  for (std::size_t k = 0; k < m; ++k)
    std::copy_n(b + static_cast<std::size_t>(shop.moving[k].source) * n, n, bm + k * n);
  std::copy_n(bm, n * m, r);
  for (int k = kTerms + 1; k >= 3 && m > 0; --k) {
    product(n, n, m, a, r, r_next);
    for (std::size_t i = 0; i < n * m; ++i) r[i] = bm[i] + r_next[i] * (t / k);
  }
  for (std::size_t i = 0; i < n * m; ++i) r[i] *= t * t / 2;
  double span = t;
  const auto depth = static_cast<std::size_t>(halvings);
  deep_ = depth > Workshop::kMostLevels;
  level_count_ = std::min(depth, Workshop::kMostLevels) + 1;
  double *const whole = use(states * states), *const sb = use(n * u), *const from_sources = use(states * u);
  for (std::size_t level = depth + 1; level-- > 0;) {
    product(n, n, n, s, a, as);
    if (level < level_count_) {
      // In the states themselves: x' = N (1 + S A) N' E x + N S B u.
      double* const exponential = next;
      std::copy_n(as, n * n, exponential);
      for (std::size_t i = 0; i < n; ++i) exponential[i * n + i] += 1;
      product(n, n, states, exponential, f.to_kept.data(), half);
      product(states, n, states, f.from_kept.data(), half, whole);
      product(n, n, u, s, b, sb);
      product(states, n, u, f.from_kept.data(), sb, from_sources);
      product(states, n, m, f.from_kept.data(), r, ramp);
      levels_[level] = shaped(states, shop.wide);
      for (std::size_t c = 0; c < columns; ++c) {
        const double* from = c < states ? whole + c * states : from_sources + (c - states) * states;
        for (std::size_t row = 0; row < states; ++row) levels_[level].at(row, c) = from[row];
      }
      for (std::size_t k = 0; k < m; ++k) {
        for (std::size_t row = 0; row < states; ++row) levels_[level].at(row, columns + k) = ramp[k * states + row];
      }
    }
    if (level == 0) break;
    if (m > 0) {
      // R(2t) = 2 R + t S + A S R
      product(n, n, m, as, r, r_next);
      product(n, n, m, s, bm, sb);
      for (std::size_t i = 0; i < n * m; ++i) r[i] = 2 * r[i] + span * sb[i] + r_next[i];
      span *= 2;
    }
    // S(2t) = 2 S + S A S
    product(n, n, n, as, s, next);
    for (std::size_t i = 0; i < n * n; ++i) s[i] = 2 * s[i] + next[i];
  }
  // From here on the rates of the states themselves: N N' F.
  double *const inner = use(n * columns), *const outer = use(states * columns);
  product(n, states, columns, turned, rates, inner);
  product(states, n, columns, f.from_kept.data(), inner, outer);
  for (std::size_t c = 0; c < columns; ++c) {
    for (std::size_t row = 0; row < states; ++row) rates_.at(row, c) = outer[c * states + row];
  }
}

void Combination::make_ready(Workshop& shop, std::span<const double> inputs, std::size_t slot) {
  const std::size_t columns = shop.columns, states = shop.states;
  if (level_count_ == 0) {
    discretise(shop);
    step_ = shaped(states + shop.devices, shop.wide);
    for (std::size_t c = 0; c < shop.wide; ++c) {
      for (std::size_t r = 0; r < states; ++r) step_.at(r, c) = levels_[0].at(r, c);
      // Where devices stand at the end, from what is at the beginning.
      for (std::size_t d = 0; d < shop.devices; ++d) {
        double sum = c < states ? 0
                     : c < columns
                         ? stand_.at(d, c)
                         : shop.step * stand_.at(d, states + static_cast<std::size_t>(shop.moving[c - columns].source));
        for (std::size_t s = 0; s < states; ++s) sum += stand_.at(d, s) * levels_[0].at(s, c);
        step_.at(states + d, c) = sum;
      }
    }
    of_states_ = of_sources_ = step_;
    of_states_.columns = states;
    of_sources_.columns = shop.wide - states;
    of_sources_.values += states * step_.stride;
  }
  if (ready(slot)) return;
  const std::vector<std::int32_t>& wanted = shop.rows[slot];
  rows_[slot] = shaped(wanted.size(), columns);
  for (std::size_t r = 0; r < wanted.size(); ++r) {
    double* const row = shop.room.data();
    shop.readings.write_row(wanted[r], shop.frame, inputs, positions, w_, row);
    for (std::size_t k = 0; k < columns; ++k) rows_[slot].at(r, k) = row[k];
  }
}

void Combination::part(Workshop& shop, const double* now, double span, double* after) const {
  const std::size_t states = shop.states;
  // Halves of the step, as far as they fit.
  double left = span, half = step_s_;
  const double* from = now;
  double *const one = shop.series.data(), *const two = one + shop.row();
  for (std::size_t level = 1; level < level_count_; ++level) {
    half /= 2;
    if (left < half) continue;
    double* const to = from == one ? two : one;
    multiply(levels_[level], from, to);
    std::copy(from + states, from + shop.wide, to + states);
    shop.move_on(from, half, to);
    from = to;
    left -= half;
  }
  std::copy_n(from, states, after);
  if (left <= 0 || deep_) return;
  // A series for the rest: x' t + x'' t^2 / 2 + …
  double* term = from == one ? two : one;
  double* next = from == one ? one : shop.series.data() + 2 * shop.row();
  multiply(rates_, from, term);
  for (std::size_t k = 0; k < states; ++k) term[k] *= left;
  const double* const slopes = now + shop.columns;
  Columns of_states = rates_;
  of_states.columns = states;
  for (int k = 2; k <= kTerms + 3; ++k) {
    double most = 0, largest = 0;
    for (std::size_t i = 0; i < states; ++i) {
      after[i] += term[i];
      most = std::max(most, std::abs(term[i]));
      largest = std::max(largest, std::abs(after[i]));
    }
    if (most <= 1e-17 * largest && (k > 2 || shop.moving.empty())) break;
    // Of the sources that move the first term is all.
    if (k == 2 && !shop.moving.empty()) {
      std::fill(term + states, term + shop.columns, 0.0);
      for (std::size_t i = 0; i < shop.moving.size(); ++i)
        term[states + static_cast<std::size_t>(shop.moving[i].source)] = slopes[i] * left;
      multiply(rates_, term, next);
    } else {
      multiply(of_states, term, next);
    }
    const double factor = left / k;
    for (std::size_t i = 0; i < states; ++i) next[i] *= factor;
    std::swap(term, next);
  }
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

// ---- those that were met ------------------------------------------------------------------------------------

namespace {
constexpr std::size_t kMostBytes = 64u << 20, kFewest = 16, kMost = 8192;
}

std::uint64_t Combinations::key_of(std::span<const std::uint8_t> codes) {
  std::uint64_t key = 0xcbf29ce484222325u;  // FNV-1a
  for (const std::uint8_t code : codes) key = (key ^ code) * 0x100000001b3u;
  return key ^ (key >> 29);
}

void Combinations::begin(const Workshop& shop, std::size_t possible) {
  const std::size_t count = std::min(possible, kMost), fewest = std::min(count, kFewest),
                    fit = kMostBytes / sizeof(double) / std::max<std::size_t>(1, shop.memory),
                    wanted = (std::clamp(fit, fewest, count) + 1) * shop.memory;  // one is being made
  if (arena_.size != wanted) {
    arena_.numbers.reset(new double[wanted]);  // nothing of it is touched yet
    arena_.size = wanted;
  }
  if (all_.size() != count || all_.front().codes.capacity() < shop.devices) {
    all_.assign(count, {});
    for (Combination& one : all_) {
      one.settle_in(arena_);
      one.positions.reserve(shop.devices);
      one.codes.reserve(shop.devices);
    }
    keys_.assign(count, 0);
    std::size_t places = 4;
    while (places < 2 * count) places *= 2;
    places_.assign(places, -1);
  }
  clear();
}

void Combinations::forget() {
  forgotten_ += static_cast<std::int64_t>(count_);
  clear();
}

void Combinations::clear() {
  count_ = 0;
  arena_.used = 0;
  std::fill(places_.begin(), places_.end(), -1);
}

void Combinations::touch() {
  constexpr std::size_t kPage = 4096 / sizeof(double);
  for (std::size_t at = arena_.used; at < arena_.size; at += kPage) arena_.numbers[at] = 0;
}

Combination* Combinations::find(std::span<const std::uint8_t> codes) {
  const std::uint64_t key = key_of(codes);
  for (std::size_t at = key & (places_.size() - 1);; at = (at + 1) & (places_.size() - 1)) {
    const std::int32_t which = places_[at];
    if (which < 0) return nullptr;
    Combination& one = all_[static_cast<std::size_t>(which)];
    if (keys_[static_cast<std::size_t>(which)] == key &&
        std::equal(codes.begin(), codes.end(), one.codes.begin(), one.codes.end()))
      return &one;
  }
}

Combination& Combinations::fresh(std::span<const std::uint8_t> codes) {
  const std::size_t which = count_++;
  Combination& one = all_[which];
  keys_[which] = key_of(codes);
  one.codes.assign(codes.begin(), codes.end());
  std::size_t at = keys_[which] & (places_.size() - 1);
  while (places_[at] >= 0) at = (at + 1) & (places_.size() - 1);
  places_[at] = static_cast<std::int32_t>(which);
  return one;
}

}  // namespace isodyne::networks::electric
