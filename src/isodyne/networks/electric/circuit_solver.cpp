#include "isodyne/networks/electric/circuit_solver.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdlib>
#include <limits>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::networks::electric {

namespace {
/// A device that changes its piece more often than this between two looks chatters.
constexpr int kMostMoves = 60;
/// Diodes are looked at so often within a step at most.
constexpr int kMostLooks = 4096;
}  // namespace

CircuitSolver::CircuitSolver(const program::Plant& plant, const program::Network& network)
    : circuit_(plant, network), readings_(circuit_) {
  period_ = program::at(plant.groups, network.group).step;
  step_ = static_cast<double>(period_.count());
  const std::size_t devices = circuit_.devices.size(),
                    columns = states() + static_cast<std::size_t>(circuit_.sources()) + 1 + circuit_.moving().size();
  held_.resize(network.inputs.size());
  march_low_.assign(states() + devices + Columns::kBlock, -std::numeric_limits<double>::infinity());
  march_high_.assign(march_low_.size(), std::numeric_limits<double>::infinity());
  positions_.resize(devices);
  codes_.resize(devices);
  low_.resize(devices);
  high_.resize(devices);
  code_of_.resize(devices);
  by_input_.resize(network.inputs.size());
  for (std::size_t d = 0; d < devices; ++d) {
    const Device& device = circuit_.devices[d];
    if (device.kind == Device::Kind::pole) poles_.push_back(d);
    if (device.gate >= 0) by_input_[static_cast<std::size_t>(device.gate)].push_back(d);
    if (device.gate >= 0 && device.kind != Device::Kind::pole) gated_.push_back({device.gate, d, device.opens});
    moving_ = moving_ || device.kind != Device::Kind::contact;
  }
  find_coil_currents();
  written_.assign((devices + kPacked - 1) / kPacked, -1);
  moves_.resize(devices);
  now_.assign(columns, 1.0);
  after_.resize(std::max(columns, states() + devices) + Columns::kBlock);
  trial_ = after_;
  where_.resize(devices + Columns::kBlock);
  before_ = where_;
}

void CircuitSolver::find_coil_currents() {
  std::int32_t output = 0;
  for (std::size_t e = 0; e < circuit_.of.size(); ++e) {
    const Circuit::Of& of = circuit_.of[e];
    int winding = 0;
    for (const auto& q : circuit_.network().elements[e].outputs) {
      const bool current = q.name == "i" || q.name.starts_with("i[");
      const bool core = of.kind == Circuit::Of::Kind::core;
      if (current && (core || of.kind == Circuit::Of::Kind::coil)) {
        const int coil = core ? circuit_.cores[static_cast<std::size_t>(of.first)].coil : of.first + winding++;
        coil_currents_.push_back(
            {static_cast<std::size_t>(circuit_.coils[static_cast<std::size_t>(coil)].state), output});
      }
      ++output;
    }
  }
  losses_.reserve(coil_currents_.size());
}

/// States, then where devices stand, kPacked in a number; then per pole its order, and when it will move (ns; below 0:
/// it will not); when it was last thrown out of its course (ns; below 0: by the start), and the parameters by which it
/// goes, as a number; then the sources of the last step.
std::size_t CircuitSolver::state_size() const {
  return thrown_at() + 2 + static_cast<std::size_t>(circuit_.sources());
}

bool CircuitSolver::fail(std::string why) {
  why_ = std::move(why);
  return false;
}

const std::string& CircuitSolver::path_of(std::size_t device) const {
  return circuit_.network().elements[static_cast<std::size_t>(circuit_.devices[device].element)].path;
}

namespace {
/// A whole number that nearly always differs where one of the values does (Fowler, Noll, Vo).
double digest(std::span<const double> values) {
  std::uint64_t all = 14695981039346656037u;
  for (const double v : values) all = (all ^ std::bit_cast<std::uint64_t>(v)) * 1099511628211u, all ^= all >> 29;
  return static_cast<double>(all >> 12);
}
}  // namespace

// ---- values -----------------------------------------------------------------------------------------------

bool CircuitSolver::make_anew(std::span<const double> inputs) {
  inputs_.assign(inputs.begin(), inputs.end());
  current_ = nullptr;
  shop_.reset();
  if (std::string wrong = circuit_.wrong_with(inputs); !wrong.empty()) return fail(std::move(wrong));
  parameters_ = digest(inputs.subspan(circuit_.parameters_from));
  circuit_.take(inputs);
  find_codes();
  if (std::string wrong = make_frame(circuit_, inputs, frame_); !wrong.empty()) return fail(std::move(wrong));
  shop_.emplace(circuit_, frame_, step_);
  std::vector<std::int32_t> all(readings_.count());
  std::iota(all.begin(), all.end(), 0);
  readers_[kAll].prepare(circuit_, readings_, frame_, inputs, all);
  readers_[kBetween].prepare(circuit_, readings_, frame_, inputs, between_);
  for (const std::size_t slot : {kAll, kBetween}) shop_->readers[slot] = &readers_[slot];
  shop_->know_readers();
  known_.begin(*shop_, possible());
  return true;
}

/// Off and on have pieces in common: of a transistor, its diode.
void CircuitSolver::find_codes() {
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    const Device& device = circuit_.devices[d];
    const auto same = [](const Piece& a, const Piece& b) {
      return a.conductance == b.conductance && a.offset == b.offset && a.steep == b.steep;
    };
    for (std::uint8_t k = 0; k < Device::kMostPieces; ++k) {
      std::uint8_t& on = code_of_[d][Position{1, k}.code()];
      code_of_[d][Position{0, k}.code()] = Position{0, k}.code();
      on = Position{1, k}.code();
      for (std::uint8_t off = 0; off < device.off.count; ++off) {
        if (k < device.on.count && same(device.on.list[k], device.off.list[off])) on = Position{0, off}.code();
      }
    }
  }
  for (std::size_t d = 0; d < positions_.size(); ++d) move(d, positions_[d]);
}

/// How many combinations there can be: pieces that differ, of each device; as many as anybody would keep.
std::size_t CircuitSolver::possible() const {
  constexpr std::size_t kMany = 1u << 20;
  std::size_t all = 1;
  for (std::size_t d = 0; d < positions_.size() && all < kMany; ++d) {
    const Device& device = circuit_.devices[d];
    std::set<std::uint8_t> codes;
    for (std::uint8_t k = 0; k < device.off.count; ++k) codes.insert(code_of_[d][Position{0, k}.code()]);
    for (std::uint8_t k = 0; k < device.on.count; ++k) codes.insert(code_of_[d][Position{1, k}.code()]);
    all *= codes.size();
  }
  return std::min(all, kMany);
}

void CircuitSolver::move(std::size_t device, Position to) {
  const Piece& piece = piece_of(circuit_.devices[device], to);
  positions_[device] = to;
  codes_[device] = code_of_[device][to.code()];
  low_[device] = piece.low - piece.slack;
  high_[device] = piece.high + piece.slack;
}

bool CircuitSolver::parameters_changed(std::span<const double> inputs) {
  return make_anew(inputs);
}

void CircuitSolver::prepare(std::span<const double>) {
  known_.touch();
}

void CircuitSolver::read_sources(std::span<const double> inputs) {
  double* to = now_.data() + states();
  const double* const from = inputs.data();
  for (const Source& s : circuit_.voltages) *to++ = from[s.input];
  for (const Source& s : circuit_.currents) *to++ = from[s.input];
  ++to;
  const double* const source = now_.data() + states();
  for (const Circuit::Moving& m : shop_->moving) *to++ = (from[m.later] - source[m.source]) / shop_->step;
}

/// At the end of a step they are what they were to come to, to the last bit.
void CircuitSolver::end_sources(std::span<const double> inputs) {
  double* const source = now_.data() + states();
  for (const Circuit::Moving& m : shop_->moving) source[m.source] = inputs[static_cast<std::size_t>(m.later)];
}

void CircuitSolver::read_positions(std::span<const double> state) {
  const double* const stored = state.data() + states();
  bool same = true;
  for (std::size_t k = 0; k < written_.size(); ++k) same = same && stored[k] == written_[k];
  if (same) return;
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    const auto all = static_cast<std::uint64_t>(stored[d / kPacked]);
    const auto code = static_cast<std::uint8_t>(all >> (kBits * (d % kPacked)) & kAllBits);
    move(d, {static_cast<std::uint8_t>(code / Device::kMostPieces),
             static_cast<std::uint8_t>(code % Device::kMostPieces)});
  }
  std::copy_n(stored, written_.size(), written_.begin());
}

void CircuitSolver::write_positions(std::span<double> state) {
  for (std::size_t k = 0; k < written_.size(); ++k) {
    std::uint64_t all = 0;
    for (std::size_t d = std::min(positions_.size(), (k + 1) * kPacked); d-- > k * kPacked;)
      all = all << kBits | positions_[d].code();
    written_[k] = static_cast<double>(all);
  }
  std::copy(written_.begin(), written_.end(), state.begin() + static_cast<std::ptrdiff_t>(states()));
}

/// What is read in a slot, and the way through time.
void CircuitSolver::make_ready(std::size_t slot) {
  if (!current_->ready(slot)) current_->make_ready(*shop_, slot);
}

bool CircuitSolver::find_combination() {
  if (current_ != nullptr && current_->codes == codes_) return true;
  Combination* known = known_.find(codes_);
  if (current_ != nullptr) current_->recent = true;
  if (known != nullptr) known->recent = true;
  if (known == nullptr) {
    known = &known_.fresh(codes_);
    if (first_visits_ >= 0) ++first_visits_;
    if (!known->make(*shop_, inputs_, positions_)) {
      known_.drop(*known);
      current_ = nullptr;
      return fail("its equations have no solution in this position of its switches");
    }
  }
  current_ = known;
  return true;
}

// ---- events -----------------------------------------------------------------------------------------------

/// Where a device is once it is switched; poles have their own way.
Position CircuitSolver::switched(std::size_t device, bool on) const {
  const Device& d = circuit_.devices[device];
  const int most = (on ? d.on.count : d.off.count) - 1;
  return {static_cast<std::uint8_t>(on ? 1 : 0),
          static_cast<std::uint8_t>(std::min<int>(positions_[device].piece, most))};
}

/// Gives whether it was switched.
bool CircuitSolver::switch_device(std::size_t device, bool on) {
  const Position p = positions_[device];
  if ((p.on != 0) == on) return false;
  const Device& d = circuit_.devices[device];
  if (d.kind != Device::Kind::pole) {
    move(device, switched(device, on));
  } else if (on) {
    move(device, {1, 0});
  } else {
    const double where = current_->stand(device, now_.data());
    const double nothing = d.on.list[0].slack + current_->rounding(device, now_.data());
    move(device, {0, static_cast<std::uint8_t>(where > nothing ? 2 : where < -nothing ? 0 : 1)});
  }
  return true;
}

/// An edge that changes nothing as things are, and would not have done so before: what it switches stays on a piece
/// that is the same to the equations, with the same ends. A transistor whose diode conducts is switched on and off like
/// that.
bool CircuitSolver::unnoticed(const engine::NetworkEdge& edge) const {
  for (const std::size_t d : by_input_[static_cast<std::size_t>(edge.input)]) {
    if ((positions_[d].on != 0) == edge.to) continue;
    const Device& device = circuit_.devices[d];
    if (device.kind == Device::Kind::pole) return false;
    const Position to = switched(d, edge.to);
    const Piece &before = piece_of(device, positions_[d]), &after = piece_of(device, to);
    if (code_of_[d][to.code()] != codes_[d] || before.low != after.low || before.high != after.high) return false;
  }
  return true;
}

void CircuitSolver::order(std::size_t pole, bool close, Time at, std::span<double> state) {
  const std::size_t device = poles_[pole];
  double* const of_pole = &state[poles_at() + 2 * pole];
  if ((of_pole[0] != 0) == close) return;
  const Device& d = circuit_.devices[device];
  of_pole[0] = close ? 1 : 0;
  // An order that is taken back before the contacts have moved is as if there had been none.
  const double delay = inputs_[static_cast<std::size_t>(close ? d.closing : d.opening)];
  const bool there = (positions_[device].on != 0) == close;
  of_pole[1] = there ? -1 : static_cast<double>(at.count()) + std::round(delay * 1e9);
}

Time CircuitSolver::next_move(std::span<const double> state) const {
  double next = -1;
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    const double at = state[poles_at() + 2 * p + 1];
    if (at >= 0 && (next < 0 || at < next)) next = at;
  }
  return next < 0 ? Time::max() : Time{static_cast<std::int64_t>(next)};
}

/// Gives whether any did.
bool CircuitSolver::move_poles(Time now, std::span<double> state) {
  bool moved = false;
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    double* const of_pole = &state[poles_at() + 2 * p];
    if (of_pole[1] < 0 || of_pole[1] > static_cast<double>(now.count())) continue;
    of_pole[1] = -1;
    moved = switch_device(poles_[p], of_pole[0] != 0) || moved;
  }
  return moved;
}

/// By how much a device that stands at `where` is beyond the upper (1) or lower end (-1) of its piece.
double CircuitSolver::excess(std::size_t device, double where, int direction) const {
  const Piece& p = piece_of(circuit_.devices[device], positions_[device]);
  return direction > 0 ? where - p.high : p.low - where;
}

/// 1: beyond the upper end of its piece, -1: beyond the lower one. `at`: the states that it follows from.
int CircuitSolver::beyond(std::size_t device, double where, const std::vector<double>& at) const {
  const Piece& p = piece_of(circuit_.devices[device], positions_[device]);
  const int direction = where > p.high + p.slack ? 1 : where < p.low - p.slack ? -1 : 0;
  if (direction == 0) return 0;
  return excess(device, where, direction) > p.slack + current_->rounding(device, at.data()) ? direction : 0;
}

/// The piece beside the one that a device is on. Of a core the one that holds: its flux is what it is, whatever the
/// others do.
Position CircuitSolver::next_towards(std::size_t device, double where, int direction) const {
  const Device& d = circuit_.devices[device];
  const Position p = positions_[device];
  int piece = p.piece + direction;
  if (d.kind == Device::Kind::core) {
    const auto& all = d.off.list;
    const auto at = [&] { return all[static_cast<std::size_t>(piece)]; };
    while (direction > 0 ? where > at().high : where < at().low) piece += direction;
  }
  return {p.on, static_cast<std::uint8_t>(piece)};
}

/// Devices go from piece to piece until each is on one that holds, with the states as they are. First all at once;
/// where that goes in circles one at a time, the first in the list, which comes to an end in a passive circuit (Murty,
/// 1974).
bool CircuitSolver::settle() {
  const std::size_t together = 10, most = 200 + 20 * positions_.size();
  for (std::size_t round = 0; round < most; ++round) {
    if (!find_combination()) return false;
    current_->stand(now_.data(), where_.data());
    if (within(where_.data())) return true;
    bool any = false;
    for (std::size_t d = 0; d < positions_.size(); ++d) {
      const int direction = beyond(d, where_[d], now_);
      if (direction == 0) continue;
      move(d, next_towards(d, where_[d], direction));
      any = true;
      if (round >= together) break;
    }
    if (!any) return true;
  }
  return fail("its devices find no state that they agree on");
}

/// When a device leaves its piece: between 0 and `span`, at whose end it is beyond. Chandrupatla (1997): as sure as
/// halving, and as quick as a parabola through three points where that is one.
double CircuitSolver::crossing(std::size_t device, int direction, double span) {
  const double slack = piece_of(circuit_.devices[device], positions_[device]).slack;
  std::copy(now_.begin() + static_cast<std::ptrdiff_t>(states()), now_.end(),
            trial_.begin() + static_cast<std::ptrdiff_t>(states()));
  const auto excess_at = [&](double at) {
    current_->part(*shop_, now_.data(), at, trial_.data());
    shop_->move_on(now_.data(), at * 1e-9, trial_.data());
    return excess(device, current_->stand(device, trial_.data()), direction) - slack;
  };
  constexpr double kManyNanoseconds = 8;
  // `high` is where it is beyond; `third` is the point that went before.
  double low = 0, below = excess(device, current_->stand(device, now_.data()), direction) - slack;
  if (below >= 0) return 0;
  double high = span, above = excess_at(span), third = high, at_third = above, share = below / (below - above);
  for (int i = 0; i < 60 && high - low > 1e-14 * step_; ++i) {
    if (!(share > 0 && share < 1)) share = 0.5;
    double at = low + share * (high - low);
    // Whole ones are reached quickly.
    if (const double whole = std::round(at); high - low > kManyNanoseconds && whole > low && whole < high) at = whole;
    if (!(at > low && at < high)) break;
    const double there = excess_at(at);
    if (there > 0) {
      third = high;
      at_third = above;
      high = at;
      above = there;
      if (there < 0.1 * slack) break;
    } else {
      third = low;
      at_third = below;
      low = at;
      below = there;
    }
    // From the point just found towards the other end, by the parabola if it does not turn round between them.
    const bool from_high = there > 0;
    const double one = from_high ? high : low, two = from_high ? low : high, f1 = from_high ? above : below,
                 f2 = from_high ? below : above;
    const double xi = (one - two) / (third - two), phi = (f1 - f2) / (at_third - f2);
    double t = 0.5;
    if (phi * phi < xi && (1 - phi) * (1 - phi) < 1 - xi)
      t = f1 / (f2 - f1) * at_third / (f2 - at_third) +
          (third - one) / (two - one) * f1 / (at_third - f1) * f2 / (at_third - f2);
    t = std::clamp(t, 1e-6, 1 - 1e-6);
    share = from_high ? 1 - t : t;
  }
  return high;
}

/// How far one may go from `at` without more ado, so that whatever comes and goes is seen: what turns, by a radian;
/// what decays, as far again as it is since the circuit was thrown out of its course, because a sum of what decays
/// quickly and slowly can take a device beyond its end and back.
double CircuitSolver::farthest(double at) const {
  double span = current_->look();
  if (current_->quickest() < step_) {
    const double since = std::max(at - thrown_, current_->quickest());
    span = std::min(span, std::exp2(std::floor(std::log2(since))));
  }
  return span;
}

/// Whether no device can have left its piece on the way from now_ to after_, nothing turning by more than a radian. Of
/// the one that does so at its end it is asked that it goes there evenly.
bool CircuitSolver::foreseen(const Way& way) {
  constexpr double kEvenly = 0.01;
  const double off = current_->off_course(*shop_, now_.data(), after_.data(), way.span * 1e-9);
  current_->stand(now_.data(), before_.data());
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    const double most = off * current_->reach(d), from = before_[d], to = where_[d];
    const bool sure = d == way.who ? most <= kEvenly * std::abs(to - from)
                                   : std::min(from, to) - most >= low_[d] && std::max(from, to) + most <= high_[d];
    if (!sure) return false;
  }
  return true;
}

/// Goes to `span` nanoseconds after now_, which it leaves as it is: states in after_, and where devices stand then.
void CircuitSolver::go(double span) {
  if (span == step_) {
    current_->whole_step(now_.data(), after_.data());
  } else {
    current_->part(*shop_, now_.data(), span, after_.data());
  }
  std::copy(now_.begin() + static_cast<std::ptrdiff_t>(states()), now_.end(),
            after_.begin() + static_cast<std::ptrdiff_t>(states()));
  shop_->move_on(now_.data(), span * 1e-9, after_.data());
  current_->stand(after_.data(), where_.data());
}

/// Whoever is beyond its end at an instant was there before. One of them is looked for; where that was, others may have
/// been there before it. Who came to its end at the same instant is seen to by settle(). Leaves after_ at the end of
/// the way.
CircuitSolver::Way CircuitSolver::go_as_far_as(double span) {
  go(span);
  Way way{span, positions_.size(), 0};
  for (int round = 0; round < 1000 && way.span > 0 && !within(where_.data()); ++round) {
    std::size_t next = positions_.size();
    double most = 0;
    for (std::size_t d = 0; d < positions_.size(); ++d) {
      const int direction = d == way.who ? 0 : beyond(d, where_[d], after_);
      if (direction == 0) continue;
      const double now = excess(d, where_[d], direction),
                   before = excess(d, current_->stand(d, now_.data()), direction);
      const double share = now / std::max(now - before, 1e-300);  // how long ago, if it moved evenly
      if (next < positions_.size() && share <= most) continue;
      next = d;
      most = share;
    }
    if (next == positions_.size()) break;
    const int direction = beyond(next, where_[next], after_);
    const double when = crossing(next, direction, way.span);
    if (way.direction != 0 && when >= way.span) break;
    way = {when, next, direction};
    go(when);
  }
  return way;
}

/// From `at` towards `until`, nanoseconds since the beginning of the step; stops where a device changes its piece.
bool CircuitSolver::advance(double& at, double until) {
  make_ready(0);
  if (moving_ && current_->look() * kMostLooks < step_)
    return fail(fmt::format(
        "part of it turns by a radian within {} ns, and it is stepped every {} ns: too rarely for its diodes",
        format_number(current_->look()), format_number(step_)));
  double span = until - at;
  const double watched = moving_ ? farthest(at) : span;
  if (moving_) span = std::min(span, current_->look());
  Way way = go_as_far_as(span);
  while (way.span > watched && !foreseen(way)) {
    span = std::max(watched, std::exp2(std::floor(std::log2(way.span / 4))));
    way = go_as_far_as(span);
  }
  std::copy_n(after_.begin(), now_.size(), now_.begin());
  if (way.direction == 0) {
    at = span < until - at ? at + span : until;
    if (all_moves_ > 0) std::fill(moves_.begin(), moves_.end(), 0);
    all_moves_ = 0;
    return true;
  }
  at += way.span;
  move(way.who, {positions_[way.who].on, static_cast<std::uint8_t>(positions_[way.who].piece + way.direction)});
  thrown_ = at;
  ++all_moves_;
  if (++moves_[way.who] > kMostMoves)
    return fail(fmt::format("`{}` begins and ends conducting without end", path_of(way.who)));
  return settle();
}

}  // namespace isodyne::networks::electric
