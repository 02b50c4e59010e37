#include "isodyne/networks/electric/circuit_solver.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>

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
  step_ = to_seconds(program::at(plant.groups, network.group).step);
  const std::size_t devices = circuit_.devices.size(),
                    columns = states() + static_cast<std::size_t>(circuit_.sources()) + 1;
  positions_.resize(devices);
  for (std::size_t d = 0; d < devices; ++d) {
    const Device& device = circuit_.devices[d];
    if (device.kind == Device::Kind::pole) poles_.push_back(d);
    moving_ = moving_ || device.kind != Device::Kind::contact;
  }
  written_.assign(2 * devices, -1);
  moves_.resize(devices);
  now_.assign(columns, 1.0);
  after_.resize(std::max(columns, states() + Columns::kBlock));
  trial_ = after_;
  where_.resize(devices + Columns::kBlock);
  seen_.resize(readings_.rows() + Columns::kBlock);
}

/// States, then per device whether it is on and its piece; then per pole its order, and when it will move (ns; below 0:
/// it will not).
std::size_t CircuitSolver::state_size() const {
  return states() + 2 * circuit_.devices.size() + 2 * poles_.size();
}

bool CircuitSolver::fail(std::string why) {
  why_ = std::move(why);
  return false;
}

const std::string& CircuitSolver::path_of(std::size_t device) const {
  return circuit_.network().elements[static_cast<std::size_t>(circuit_.devices[device].element)].path;
}

// ---- values -----------------------------------------------------------------------------------------------

bool CircuitSolver::make_anew(std::span<const double> inputs) {
  inputs_.assign(inputs.begin(), inputs.end());
  known_.clear();
  current_ = nullptr;
  if (std::string wrong = circuit_.wrong_with(inputs); !wrong.empty()) return fail(std::move(wrong));
  circuit_.take(inputs);
  if (std::string wrong = make_frame(circuit_, inputs, frame_); !wrong.empty()) return fail(std::move(wrong));
  return true;
}

bool CircuitSolver::parameters_changed(std::span<const double> inputs) {
  return make_anew(inputs);
}

void CircuitSolver::read_sources(std::span<const double> inputs) {
  double* to = now_.data() + states();
  for (const Source& s : circuit_.voltages) *to++ = inputs[static_cast<std::size_t>(s.input)];
  for (const Source& s : circuit_.currents) *to++ = inputs[static_cast<std::size_t>(s.input)];
}

void CircuitSolver::read_positions(std::span<const double> state) {
  const auto stored = state.subspan(states(), written_.size());
  if (std::equal(stored.begin(), stored.end(), written_.begin())) return;
  for (std::size_t d = 0; d < positions_.size(); ++d)
    positions_[d] = {static_cast<std::uint8_t>(stored[2 * d]), static_cast<std::uint8_t>(stored[2 * d + 1])};
  std::copy(stored.begin(), stored.end(), written_.begin());
}

void CircuitSolver::write_positions(std::span<double> state) {
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    written_[2 * d] = positions_[d].on;
    written_[2 * d + 1] = positions_[d].piece;
  }
  std::copy(written_.begin(), written_.end(), state.begin() + static_cast<std::ptrdiff_t>(states()));
}

bool CircuitSolver::find_combination() {
  if (current_ != nullptr && current_->positions == positions_) return true;
  key_.clear();
  for (const Position p : positions_) key_.push_back(static_cast<char>(p.code()));
  auto& known = known_[key_];
  if (known == nullptr) {
    known = std::make_unique<Combination>();
    if (!known->make(circuit_, frame_, inputs_, positions_, room_)) {
      known_.erase(key_);
      current_ = nullptr;
      return fail("its equations have no solution in this position of its switches");
    }
  }
  current_ = known.get();
  ++current_->visits;
  return true;
}

// ---- events -----------------------------------------------------------------------------------------------

/// Gives whether it was switched.
bool CircuitSolver::switch_device(std::size_t device, bool on) {
  Position& p = positions_[device];
  if ((p.on != 0) == on) return false;
  const Device& d = circuit_.devices[device];
  if (d.kind == Device::Kind::pole) {
    const double where = on ? 0 : current_->stand(device, now_.data());
    const double nothing = d.on.list[0].slack + (on ? 0 : current_->rounding(device, now_.data()));
    p = {static_cast<std::uint8_t>(on ? 1 : 0), static_cast<std::uint8_t>(on                 ? 0
                                                                          : where > nothing  ? 2
                                                                          : where < -nothing ? 0
                                                                                             : 1)};
    return true;
  }
  p.on = on ? 1 : 0;
  p.piece = static_cast<std::uint8_t>(std::min<int>(p.piece, (on ? d.on.count : d.off.count) - 1));
  return true;
}

void CircuitSolver::order(std::size_t pole, bool close, Time at, std::span<double> state) {
  const std::size_t device = poles_[pole];
  double* const of_pole = &state[states() + written_.size() + 2 * pole];
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
    const double at = state[states() + written_.size() + 2 * p + 1];
    if (at >= 0 && (next < 0 || at < next)) next = at;
  }
  return next < 0 ? Time::max() : Time{static_cast<std::int64_t>(next)};
}

/// Gives whether any did.
bool CircuitSolver::move_poles(Time now, std::span<double> state) {
  bool moved = false;
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    double* const of_pole = &state[states() + written_.size() + 2 * p];
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

/// Devices go from piece to piece until each is on one that holds, with the states as they are. First all at once;
/// where that goes in circles one at a time, the first in the list, which comes to an end in a passive circuit (Murty,
/// 1974).
bool CircuitSolver::settle() {
  const std::size_t together = 10, most = 200 + 20 * positions_.size();
  for (std::size_t round = 0; round < most; ++round) {
    if (!find_combination()) return false;
    current_->stand(now_.data(), where_.data());
    bool any = false;
    for (std::size_t d = 0; d < positions_.size(); ++d) {
      const int direction = beyond(d, where_[d], now_);
      if (direction == 0) continue;
      positions_[d].piece = static_cast<std::uint8_t>(positions_[d].piece + direction);
      any = true;
      if (round >= together) break;
    }
    if (!any) return true;
  }
  return fail("its devices find no state that they agree on");
}

/// When a device leaves its piece: between 0 and `span`, at whose end it is beyond.
double CircuitSolver::crossing(std::size_t device, int direction, double span) {
  const double slack = piece_of(circuit_.devices[device], positions_[device]).slack;
  std::copy(now_.begin(), now_.end(), trial_.begin());
  const auto excess_at = [&](double at) {
    current_->part(now_.data(), at, trial_.data());
    std::copy(now_.begin() + static_cast<std::ptrdiff_t>(states()), now_.end(),
              trial_.begin() + static_cast<std::ptrdiff_t>(states()));
    return excess(device, current_->stand(device, trial_.data()), direction) - slack;
  };
  double low = 0, high = span;
  double below = excess(device, current_->stand(device, now_.data()), direction) - slack, above = excess_at(span);
  if (below >= 0) return 0;
  for (int i = 0; i < 100 && high - low > 1e-15 * step_; ++i) {
    double at = low + (high - low) * (-below / (above - below));
    if (i % 3 == 2 || at <= low || at >= high) at = (low + high) / 2;
    const double there = excess_at(at);
    (there > 0 ? high : low) = at;
    (there > 0 ? above : below) = there;
    if (there > 0 && there < 0.1 * slack) break;
  }
  return high;
}

/// From `at` towards `until`, seconds since the beginning of the step; stops where a device changes its piece.
bool CircuitSolver::advance(double& at, double until) {
  if (!current_->discretised()) current_->discretise(frame_, step_);
  double span = until - at;
  if (moving_ && span > current_->look()) {
    span = current_->look();
    if (span * kMostLooks < step_)
      return fail(fmt::format(
          "part of it turns by a radian within {} ns, and it is stepped every {} ns: too rarely for its diodes",
          format_number(span * 1e9), format_number(step_ * 1e9)));
    until = at + span;
  }
  const std::size_t n = states();
  const auto go = [&](double time) {
    if (time == step_) {
      current_->whole_step(now_.data(), after_.data());
    } else {
      current_->part(now_.data(), time, after_.data());
    }
    std::copy(now_.begin() + static_cast<std::ptrdiff_t>(n), now_.end(),
              after_.begin() + static_cast<std::ptrdiff_t>(n));
    current_->stand(after_.data(), where_.data());
  };
  go(span);
  double first = span;
  std::size_t who = positions_.size();
  int way = 0;
  for (bool earlier = true; earlier && first > 0;) {  // who is beyond its end at an earlier instant was there before
    earlier = false;
    double next = first;
    std::size_t next_who = who;
    for (std::size_t d = 0; d < positions_.size(); ++d) {
      const int direction = d == who ? 0 : beyond(d, where_[d], after_);
      if (direction == 0) continue;
      const double when = crossing(d, direction, first);
      if (way != 0 && when >= next) continue;  // at the same instant: settle() sees to it
      earlier = true;
      next = when;
      next_who = d;
      way = direction;
    }
    if (!earlier) break;
    first = next;
    who = next_who;
    go(first);
  }
  std::copy_n(after_.begin(), n, now_.begin());
  at = way == 0 ? until : at + first;
  if (way == 0) {
    if (all_moves_ > 0) std::fill(moves_.begin(), moves_.end(), 0);
    all_moves_ = 0;
    return true;
  }
  positions_[who].piece = static_cast<std::uint8_t>(positions_[who].piece + way);
  ++all_moves_;
  if (++moves_[who] > kMostMoves) return fail(fmt::format("`{}` begins and ends conducting without end", path_of(who)));
  return settle();
}

// ---- a step -----------------------------------------------------------------------------------------------

bool CircuitSolver::start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) {
  why_.clear();
  if (!make_anew(inputs)) return false;
  read_sources(inputs);
  // Outputs come as they were given at the start.
  std::size_t out = 0;
  for (std::size_t e = 0; e < circuit_.of.size(); ++e) {
    const Circuit::Of& of = circuit_.of[e];
    const auto first = static_cast<std::size_t>(of.first);
    for (const auto& q : circuit_.network().elements[e].outputs) {
      const double given = outputs[out++];
      if (of.kind == Circuit::Of::Kind::store && q.name == "v")
        now_[static_cast<std::size_t>(circuit_.stores[first].state)] = given;
      if (of.kind == Circuit::Of::Kind::core && q.name == "flux") {
        const Device& core = circuit_.devices[static_cast<std::size_t>(circuit_.cores[first].device)];
        now_[static_cast<std::size_t>(core.state)] = given / inputs[static_cast<std::size_t>(core.inductance)];
      }
      if (of.kind == Circuit::Of::Kind::coil && q.name[0] == 'i') {
        const int winding = q.name == "i" ? 0 : std::atoi(q.name.c_str() + 2) - 1;
        now_[static_cast<std::size_t>(circuit_.coils[first + static_cast<std::size_t>(winding)].state)] = given;
      }
    }
  }
  std::copy_n(now_.begin(), states(), state.begin());  // for who asks how it stands
  if (std::string wrong = contradiction(frame_, circuit_, now_.data()); !wrong.empty()) return fail(std::move(wrong));
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    const Device& device = circuit_.devices[d];
    const bool ordered = device.gate >= 0 && inputs[static_cast<std::size_t>(device.gate)] != 0;
    const bool middle = device.kind != Device::Kind::contact && device.kind != Device::Kind::diode &&
                        device.kind != Device::Kind::thyristor;
    positions_[d] = {0, static_cast<std::uint8_t>(middle ? 1 : 0)};
    if (device.kind == Device::Kind::pole) {
      if (ordered) positions_[d] = {1, 0};
    } else if (device.gate >= 0) {
      switch_device(d, ordered);
    }
  }
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    double* const of_pole = &state[states() + written_.size() + 2 * p];
    of_pole[0] = positions_[poles_[p]].on;
    of_pole[1] = -1;
  }
  if (!settle()) return false;
  std::copy_n(now_.begin(), states(), state.begin());
  write_positions(state);
  std::vector<std::int32_t> all(readings_.count());
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = static_cast<std::int32_t>(i);
  show(all, outputs);
  return true;
}

bool CircuitSolver::step(const engine::NetworkStep& step) {
  read_sources(step.inputs);
  std::copy_n(step.state.begin(), states(), now_.begin());
  read_positions(step.state);
  for (std::size_t d = 0; d < positions_.size(); ++d) {
    const Device& device = circuit_.devices[d];
    if (device.gate >= 0 && device.kind != Device::Kind::pole)
      switch_device(d, step.inputs[static_cast<std::size_t>(device.gate)] != 0);
  }
  if (!settle()) return false;
  for (std::size_t p = 0; p < poles_.size(); ++p)
    order(p, step.inputs[static_cast<std::size_t>(circuit_.devices[poles_[p]].gate)] != 0, step.from, step.state);
  double at = 0;
  for (std::size_t e = 0;;) {
    const Time edge = e < step.edges.size() ? step.edges[e].at : Time::max();
    const Time next = std::min({edge, next_move(step.state), step.to});
    for (const double until = to_seconds(next - step.from); at < until;) {
      if (!advance(at, until)) return false;
    }
    // All that change at one instant do so together.
    bool switched = false;
    for (; e < step.edges.size() && step.edges[e].at == next; ++e) {
      for (std::size_t d = 0; d < positions_.size(); ++d) {
        if (circuit_.devices[d].gate == step.edges[e].input && circuit_.devices[d].kind != Device::Kind::pole)
          switched = switch_device(d, step.edges[e].to) || switched;
      }
      for (std::size_t p = 0; p < poles_.size(); ++p) {
        if (circuit_.devices[poles_[p]].gate == step.edges[e].input) order(p, step.edges[e].to, next, step.state);
      }
    }
    switched = move_poles(next, step.state) || switched;
    if (switched && !settle()) return false;
    if (next == step.to) break;
  }
  std::copy_n(now_.begin(), states(), step.state.begin());
  write_positions(step.state);
  show(step.wanted, step.outputs);
  return true;
}

// ---- what is seen -----------------------------------------------------------------------------------------

void CircuitSolver::show(std::span<const std::int32_t> outputs, std::span<double> values) {
  const std::size_t slot = outputs.size() == readings_.count() ? 0 : 1;
  Wanted& w = wanted_[slot];
  if (w.outputs.size() != outputs.size() || !std::equal(outputs.begin(), outputs.end(), w.outputs.begin())) {
    for (auto& [key, known] : known_) known->forget_rows(slot);
    w.outputs.assign(outputs.begin(), outputs.end());
    w.rows = readings_.rows_of(outputs);
    w.place.assign(readings_.rows(), -1);
    for (std::size_t r = 0; r < w.rows.size(); ++r)
      w.place[static_cast<std::size_t>(w.rows[r])] = static_cast<std::int32_t>(r);
  }
  multiply(current_->rows(slot, readings_, w.rows, inputs_), now_.data(), seen_.data());
  const auto value = [&](std::int32_t row) {
    return seen_[static_cast<std::size_t>(w.place[static_cast<std::size_t>(row)])];
  };
  for (const std::int32_t o : outputs) values[static_cast<std::size_t>(o)] = readings_.output(o, positions_, value);
}

std::vector<std::string> CircuitSolver::describe(std::span<const double> state) const {
  std::vector<std::string> lines;
  const auto number = [&](int place) { return format_number(state[static_cast<std::size_t>(place)]); };
  for (std::size_t e = 0; e < circuit_.of.size(); ++e) {
    const Circuit::Of& of = circuit_.of[e];
    const auto first = static_cast<std::size_t>(of.first);
    const std::string& path = circuit_.network().elements[e].path;
    for (std::size_t k = 0; of.kind == Circuit::Of::Kind::coil && k < static_cast<std::size_t>(of.count); ++k)
      lines.push_back(fmt::format("{}.i = {} A", path, number(circuit_.coils[first + k].state)));
    if (of.kind == Circuit::Of::Kind::store)
      lines.push_back(fmt::format("{}.v = {} V", path, number(circuit_.stores[first].state)));
    if (of.kind == Circuit::Of::Kind::core) {
      const Device& core = circuit_.devices[static_cast<std::size_t>(circuit_.cores[first].device)];
      lines.push_back(fmt::format("{}.flux = {} Wb", path,
                                  format_number(state[static_cast<std::size_t>(core.state)] *
                                                inputs_[static_cast<std::size_t>(core.inductance)])));
    }
    if (of.kind == Circuit::Of::Kind::device && circuit_.devices[first].gate >= 0)
      lines.push_back(fmt::format("{} is {}", path, state[states() + 2 * first] != 0 ? "on" : "off"));
  }
  return lines;
}

}  // namespace isodyne::networks::electric
