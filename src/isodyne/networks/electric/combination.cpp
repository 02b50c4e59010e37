#include "isodyne/networks/electric/combination.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "isodyne/networks/electric/combinations.h"
#include "isodyne/networks/electric/exponential.h"

namespace isodyne::networks::electric {

namespace {

/// Hands out what a block of memory is made of, from its front.
struct Front {
  double* at;
  double* take(std::size_t count) {
    double* const here = at;
    at += count;
    return here;
  }
  Columns shaped(std::size_t rows, std::size_t columns) {
    Columns c;
    c.shape(rows, columns, take(Columns::size_of(rows, columns)));
    return c;
  }
};

/// Small circuits have room for long digits.
constexpr std::size_t kSmall = 16, kLongDigit = 5, kShortDigit = 3;

}  // namespace

Workshop::Workshop(const Circuit& of, const Frame& in, double step_ns_)
    : circuit(of),
      frame(in),
      step_ns(step_ns_),
      step(step_ns_ * 1e-9),
      states(static_cast<std::size_t>(in.states)),
      kept(static_cast<std::size_t>(in.kept)),
      columns(static_cast<std::size_t>(in.columns())),
      devices(of.devices.size()),
      unknowns(static_cast<std::size_t>(in.unknowns)),
      moving(of.moving()),
      wide(columns + moving.size()),
      digit_bits(states <= kSmall ? kLongDigit : kShortDigit),
      digits(1) {
  while (std::ldexp(1.0, static_cast<int>(digits * digit_bits)) <= step_ns) ++digits;
  const std::size_t u = columns - states, n = kept, m = moving.size();
  algebra = unknowns * columns + Columns::size_of(devices, columns) + Columns::size_of(states, columns);
  way = n * n + n * u + devices + Columns::size_of(states + devices, wide);
  part = std::max<std::size_t>(1, Columns::size_of(states, wide));
  // solve_nodes(); or discretise() and, within it or later, over().
  const std::size_t making = in.room() + columns, through_time = 2 * states * columns + n * states + n * columns + part,
                    time = n * states + 6 * n * n + 3 * n * m + states * states + n * u + states * u + states * m;
  room.resize(std::max({making, through_time + time, 2 * columns}));
  series.resize(3 * row());
  bool alone = true;  // nothing but a diagonal
  for (std::size_t k = 0; k < states * states; ++k) alone = alone && (k % (states + 1) == 0 || in.energy[k] == 0);
  for (std::size_t k = 0; alone && k < states; ++k) energies.push_back(in.energy[k * (states + 1)]);
  to_kept_memory.resize(Columns::size_of(n, states));
  to_kept.shape(n, states, to_kept_memory.data());
  for (std::size_t c = 0; c < states; ++c) {
    for (std::size_t r = 0; r < n; ++r) to_kept.at(r, c) = in.to_kept[c * n + r];
  }
}

void Workshop::know_readers() {
  for (const Reader* reader : readers) way += Columns::size_of(reader->rows(), columns);
}

void Combination::settle_in(Combinations& owner, const Workshop& shop) {
  owner_ = &owner;
  positions.reserve(shop.devices);
  codes.reserve(shop.devices);
  parts_.assign(shop.most_parts(), nullptr);
}

void Combination::forget_parts() {
  if (part_count_ > 0) std::fill(parts_.begin(), parts_.end(), nullptr);
  part_count_ = 0;
}

bool Combination::make(Workshop& shop, std::span<const double> inputs, std::span<const Position> at) {
  const Circuit& circuit = shop.circuit;
  const Frame& frame = shop.frame;
  frame_ = &frame;
  positions.assign(at.begin(), at.end());
  steps = 0;
  look_ = quickest_ = 0;  // not known yet
  for (Columns& rows : rows_) rows = {};
  const std::size_t columns = shop.columns;
  algebra_ = owner_->take(Combinations::kAlgebra, *this);
  Front front{algebra_};
  w_ = front.take(shop.unknowns * columns);
  if (!solve_nodes(circuit, frame, inputs, at, shop.room.data(), w_)) return false;
  double* const row = shop.room.data();
  stand_ = front.shaped(shop.devices, columns);
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
  rates_ = front.shaped(shop.states, columns);
  for (std::size_t s = 0; s < shop.states; ++s) {
    std::fill_n(row, columns, 0.0);
    rate_row(circuit, frame, inputs, w_, static_cast<int>(s), row);
    for (std::size_t k = 0; k < columns; ++k) rates_.at(s, k) = row[k];
  }
  return true;
}

/// Its states by themselves, and a whole step. From here on rates are those of the states themselves.
void Combination::discretise(Workshop& shop) {
  const Frame& f = shop.frame;
  const std::size_t states = shop.states, n = shop.kept, columns = shop.columns, u = columns - states;
  way_ = owner_->take(Combinations::kWay, *this);
  Front front{way_};
  a_ = front.take(n * n);
  b_ = front.take(n * u);
  reach_ = front.take(shop.devices);
  step_ = front.shaped(states + shop.devices, shop.wide);
  // F and G of all states: energy times rates; A = N' F N, B = N' G. Behind what over() needs of the room.
  Front room{shop.room.data() + shop.room.size() - (2 * states * columns + n * states + n * columns + shop.part)};
  double* const rates = room.take(states * columns);  // column by column
  for (std::size_t c = 0; c < columns; ++c) {
    for (std::size_t r = 0; r < states; ++r) rates[c * states + r] = rates_.at(r, c);
  }
  double* const half = room.take(n * states);
  product(states, states, n, rates, f.from_kept.data(), half);
  f.times_n_turned(n, half, a_);
  f.times_n_turned(u, rates + states * states, b_);

  size_ = 0;
  for (std::size_t k = 0; k < n * n; ++k) size_ += a_[k] * a_[k];
  size_ = std::sqrt(size_);
  halvings_ = 0;
  while (size_ * 1e-9 > std::ldexp(kShort, static_cast<int>(halvings_)) && halvings_ <= Workshop::kMostHalvings)
    ++halvings_;
  deep_ = halvings_ > Workshop::kMostHalvings;
  halvings_ = std::min(halvings_, Workshop::kMostHalvings);
  std::copy_n(a_, n * n, shop.room.data());
  const double turning = most_turning(n, shop.room.data(), shop.room.data() + n * n);
  for (look_ = shop.step_ns; turning * look_ * 1e-9 > 1;) look_ /= 2;
  for (std::size_t d = 0; d < shop.devices; ++d) {
    double squares = 0;
    for (std::size_t k = 0; k < n; ++k) {
      double of_one = 0;
      for (std::size_t r = 0; r < states; ++r) of_one += stand_.at(d, r) * f.from_kept[k * states + r];
      squares += of_one * of_one;
    }
    reach_[d] = std::sqrt(squares);
  }
  // A power of two, so that one part leads there.
  quickest_ = shop.step_ns;
  for (int k = -static_cast<int>(Workshop::kMostHalvings); size_ * shop.step > 1 && quickest_ == shop.step_ns; ++k) {
    if (const double twice = std::ldexp(2.0, k); size_ * twice * 1e-9 > 1)
      quickest_ = std::min(shop.step_ns, twice / 2);
  }

  Columns whole = room.shaped(states, shop.wide);
  over(shop, shop.step_ns, true, whole);
  for (std::size_t c = 0; c < shop.wide; ++c) {
    for (std::size_t r = 0; r < states; ++r) step_.at(r, c) = whole.at(r, c);
    // Where devices stand at the end, from what is at the beginning.
    for (std::size_t d = 0; d < shop.devices; ++d) {
      double sum = c < states ? 0
                   : c < columns
                       ? stand_.at(d, c)
                       : shop.step * stand_.at(d, states + static_cast<std::size_t>(shop.moving[c - columns].source));
      for (std::size_t s = 0; s < states; ++s) sum += stand_.at(d, s) * whole.at(s, c);
      step_.at(states + d, c) = sum;
    }
  }
  of_states_ = of_sources_ = step_;
  of_states_.columns = states;
  of_sources_.columns = shop.wide - states;
  of_sources_.values += states * step_.stride;

  // N N' F
  double *const inner = room.take(n * columns), *const outer = rates;
  f.times_n_turned(columns, rates, inner);
  f.times_n(columns, inner, outer);
  for (std::size_t c = 0; c < columns; ++c) {
    for (std::size_t row = 0; row < states; ++row) rates_.at(row, c) = outer[c * states + row];
  }
}

/// The states after so many nanoseconds, or by how much they change, from states and sources: a series for a short part
/// of the time, doubled.
void Combination::over(Workshop& shop, double span_ns, bool whole_states, Columns& to) {
  const Frame& f = shop.frame;
  const std::size_t states = shop.states, n = shop.kept, columns = shop.columns, u = columns - states,
                    m = shop.moving.size();
  Front room{shop.room.data()};
  int doublings = 0;
  while (size_ * span_ns * 1e-9 > std::ldexp(kShort, doublings) && doublings < 1000) ++doublings;
  // S(t) = integral of exp(A s) over 0 .. t, whose relative precision holds for what is slow beside what is quick.
  const double t = std::ldexp(span_ns * 1e-9, -doublings);
  double *const s = room.take(n * n), *const next = room.take(n * n), *const as = room.take(n * n);
  integral_series(n, a_, t, as, next, room.at, s);
  room.take(3 * n * n);
  // R(t) B = integral of S(s) B over 0 .. t, of sources that move: t^2 / 2 + A t^3 / 6 + …
  double *const bm = room.take(n * m), *const r = room.take(n * m), *const r_next = room.take(n * m);
  for (std::size_t k = 0; k < m; ++k)
    std::copy_n(b_ + static_cast<std::size_t>(shop.moving[k].source) * n, n, bm + k * n);
  std::copy_n(bm, n * m, r);
  for (int k = kTerms + 1; k >= 3 && m > 0; --k) {
    product(n, n, m, a_, r, r_next);
    for (std::size_t i = 0; i < n * m; ++i) r[i] = bm[i] + r_next[i] * (t / k);
  }
  for (std::size_t i = 0; i < n * m; ++i) r[i] *= t * t / 2;
  double span = t;
  for (; doublings > 0; --doublings) {
    product(n, n, n, s, a_, as);
    if (m > 0) {
      // R(2t) = 2 R + t S + A S R
      double* const sb = r_next + n * m;
      product(n, n, m, as, r, r_next);
      product(n, n, m, s, bm, sb);
      for (std::size_t i = 0; i < n * m; ++i) r[i] = 2 * r[i] + span * sb[i] + r_next[i];
      span *= 2;
    }
    // S(2t) = 2 S + S A S
    product(n, n, n, as, s, next);
    for (std::size_t i = 0; i < n * n; ++i) s[i] = 2 * s[i] + next[i];
  }
  // In the states themselves: x' = N (1 + S A) N' E x + N S B u, where N N' E x is x.
  product(n, n, n, s, a_, next);
  for (std::size_t i = 0; whole_states && i < n; ++i) next[i * n + i] += 1;
  double *const half = room.take(n * states), *const whole = room.take(states * states), *const sb = room.take(n * u),
                *const from_sources = room.take(states * u), *const ramp = room.take(states * m);
  product(n, n, states, next, f.to_kept.data(), half);
  f.times_n(states, half, whole);
  product(n, n, u, s, b_, sb);
  f.times_n(u, sb, from_sources);
  f.times_n(m, r, ramp);
  for (std::size_t c = 0; c < shop.wide; ++c) {
    const double* const from = c < states    ? whole + c * states
                               : c < columns ? from_sources + (c - states) * states
                                             : ramp + (c - columns) * states;
    for (std::size_t row = 0; row < states; ++row) to.at(row, c) = from[row];
  }
}

/// First the one change, which takes so long, then the other. Of what changes little the precision is kept.
void Combination::compose(const Workshop& shop, const Columns& first, double first_s, const Columns& second,
                          Columns& to) const {
  const std::size_t states = shop.states, columns = shop.columns;
  Columns of_states = second;
  of_states.columns = states;
  for (std::size_t c = 0; c < shop.wide; ++c) {
    double* const sum = to.values + c * to.stride;
    const double *const one = first.values + c * first.stride, *const two = second.values + c * second.stride;
    for (std::size_t r = 0; r < states; ++r) sum[r] = one[r] + two[r];
    if (c >= columns) {
      const std::size_t source = states + static_cast<std::size_t>(shop.moving[c - columns].source);
      for (std::size_t r = 0; r < states; ++r) sum[r] += second.at(r, source) * first_s;
    }
    multiply_onto(of_states, one, sum);
  }
}

Columns Combination::part_at(const Workshop& shop, std::size_t place) const {
  Columns c;
  c.rows = shop.states;
  c.stride = Columns::stride_of(c.rows);
  c.columns = shop.wide;
  c.values = parts_[place];
  return c;
}

/// What changes in so many nanoseconds: the shortest part by a series, a power of two from the one below it, others
/// from those of their bits.
void Combination::make_part(Workshop& shop, std::size_t digit, std::size_t value) {
  const std::size_t lowest = value & (~value + 1), rest = value - lowest;
  const auto known = [&](std::size_t at_digit, std::size_t of) {
    const std::size_t place = place_of(shop, at_digit, of);
    if (parts_[place] == nullptr) make_part(shop, at_digit, of);
    return place;
  };
  const double unit = std::ldexp(1.0, static_cast<int>(digit * shop.digit_bits));
  if (rest != 0) {
    keep(shop, place_of(shop, digit, value), static_cast<double>(rest) * unit, known(digit, rest),
         known(digit, lowest));
  } else if (value > 1 || digit > 0) {
    const std::size_t half =
        value > 1 ? known(digit, value / 2) : known(digit - 1, std::size_t{1} << (shop.digit_bits - 1));
    keep(shop, place_of(shop, digit, value), static_cast<double>(value) * unit / 2, half, half);
  } else {
    make_half(shop, 0);
  }
}

/// The same for a nanosecond, halved so often.
void Combination::make_half(Workshop& shop, std::size_t halvings) {
  const auto place = [&](std::size_t often) {
    return often == 0 ? place_of(shop, 0, 1) : parts_.size() - Workshop::kMostHalvings + often - 1;
  };
  if (halvings < halvings_) {
    const std::size_t half = place(halvings + 1);
    if (parts_[half] == nullptr) make_half(shop, halvings + 1);
    keep(shop, place(halvings), std::ldexp(0.5, -static_cast<int>(halvings)), half, half);
    return;
  }
  Columns c;
  c.shape(shop.states, shop.wide, owner_->take(Combinations::kPart, *this));
  over(shop, std::ldexp(1.0, -static_cast<int>(halvings)), false, c);
  parts_[place(halvings)] = c.values;
  ++part_count_;
}

/// One that is made of two others, the first of which takes so many nanoseconds.
void Combination::keep(const Workshop& shop, std::size_t place, double first_ns, std::size_t first,
                       std::size_t second) {
  Columns c;
  c.shape(shop.states, shop.wide, owner_->take(Combinations::kPart, *this));
  compose(shop, part_at(shop, first), first_ns * 1e-9, part_at(shop, second), c);
  parts_[place] = c.values;
  ++part_count_;
}

void Combination::make_ready(Workshop& shop, std::size_t slot) {
  if (way_ == nullptr) discretise(shop);
  if (ready(slot)) return;
  const Reader& reader = *shop.readers[slot];
  Front front{step_.values + step_.stride * step_.columns +
              (slot == 0 ? 0 : Columns::size_of(shop.readers[0]->rows(), shop.columns))};
  rows_[slot] = front.shaped(reader.rows(), shop.columns);
  reader.write_rows(w_, positions, rows_[slot]);
}

void Combination::part(Workshop& shop, const double* now, double span, double* after) {
  const std::size_t states = shop.states;
  const double* from = now;
  double *const one = shop.series.data(), *const two = one + shop.row();
  const auto go = [&](std::size_t place, double ns) {
    double* const to = from == one ? two : one;
    std::copy_n(from, states, to);
    multiply_onto(part_at(shop, place), from, to);
    std::copy(from + states, from + shop.wide, to + states);
    shop.move_on(from, ns * 1e-9, to);
    from = to;
  };
  const auto whole = static_cast<std::uint64_t>(span);
  for (std::size_t digit = shop.digits; digit-- > 0;) {
    const std::size_t values = (std::size_t{1} << shop.digit_bits) - 1, shift = digit * shop.digit_bits,
                      value = whole >> shift & values;
    if (value == 0) continue;
    const std::size_t place = place_of(shop, digit, value);
    if (parts_[place] == nullptr) make_part(shop, digit, value);
    go(place, static_cast<double>(value << shift));
  }
  double left = span - static_cast<double>(whole), half = 1;
  for (std::size_t k = 1; left > 0 && k <= halvings_; ++k) {
    half /= 2;
    if (left < half) continue;
    const std::size_t place = parts_.size() - Workshop::kMostHalvings + k - 1;
    if (parts_[place] == nullptr) make_half(shop, k);
    go(place, half);
    left -= half;
  }
  std::copy_n(from, states, after);
  if (left > 0 && !deep_) go_on(shop, from, left * 1e-9, after);
}

/// A series: x' t + x'' t^2 / 2 + …
void Combination::go_on(Workshop& shop, const double* from, double span, double* after) const {
  const std::size_t states = shop.states;
  double *const one = shop.series.data(), *const two = one + shop.row();
  double* term = from == one ? two : one;
  double* next = from == one ? one : two + shop.row();
  multiply(rates_, from, term);
  for (std::size_t k = 0; k < states; ++k) term[k] *= span;
  const double* const slopes = from + shop.columns;
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
        term[states + static_cast<std::size_t>(shop.moving[i].source)] = slopes[i] * span;
      multiply(rates_, term, next);
    } else {
      multiply(of_states, term, next);
    }
    const double factor = span / k;
    for (std::size_t i = 0; i < states; ++i) next[i] *= factor;
    std::swap(term, next);
  }
}

double Combination::off_course(Workshop& shop, const double* now, const double* after, double span) const {
  double *const off = shop.series.data(), *const kept = off + shop.row();
  multiply(rates_, now, off);
  for (std::size_t k = 0; k < shop.states; ++k) off[k] -= (after[k] - now[k]) / span;
  double squares = 0;
  if (!shop.energies.empty()) {
    for (std::size_t k = 0; k < shop.states; ++k) squares += shop.energies[k] * off[k] * off[k];
  } else {
    multiply(shop.to_kept, off, kept);
    for (std::size_t k = 0; k < shop.kept; ++k) squares += kept[k] * kept[k];
  }
  return 2 * span * std::sqrt(squares);
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

}  // namespace isodyne::networks::electric
