// The start and the steps of a circuit: quiet ones, eventful ones, and many at once.

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>

#include <fmt/format.h>

#include "isodyne/networks/electric/circuit_solver.h"

namespace isodyne::networks::electric {

namespace {
/// A source may come to another place than was foreseen by what its states bend within a step: no jump.
constexpr double kGlide = 1e-6;
}  // namespace

bool CircuitSolver::start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) {
  why_.clear();
  if (!make_anew(inputs)) return false;
  const std::size_t slot = kAll;
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
    const bool ordered = device.gate >= 0 && (inputs[static_cast<std::size_t>(device.gate)] != 0) != device.opens;
    const bool middle = device.kind != Device::Kind::contact && device.kind != Device::Kind::diode &&
                        device.kind != Device::Kind::thyristor;
    move(d, {0, static_cast<std::uint8_t>(middle ? device.off.count / 2 : 0)});
    if (device.kind == Device::Kind::pole) {
      if (ordered) move(d, {1, 0});
    } else if (device.gate >= 0) {
      switch_device(d, ordered);
    }
  }
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    double* const of_pole = &state[poles_at() + 2 * p];
    of_pole[0] = positions_[poles_[p]].on;
    of_pole[1] = -1;
  }
  if (!settle()) return false;
  std::copy_n(now_.begin(), states(), state.begin());
  write_positions(state);
  state[thrown_at()] = -1;
  state[thrown_at() + 1] = parameters_;
  std::copy_n(now_.begin() + static_cast<std::ptrdiff_t>(states()), circuit_.sources(),
              state.end() - circuit_.sources());
  make_ready(slot);
  steps_ = eventful_ = first_visits_ = 0;
  losses_.clear();
  readers_[slot].show(current_->rows(slot), now_.data(), positions_, outputs);
  return true;
}

bool CircuitSolver::step(const engine::NetworkStep& step) {
  why_.clear();  // of a state that was gone back from
  failed_.reset();
  const std::size_t slot = slot_of(step.wanted);
  return step.to - step.from == period_ ? single_step(step, slot) : many_steps(step, slot);
}

bool CircuitSolver::single_step(const engine::NetworkStep& step, std::size_t slot) {
  read_positions(step.state);
  if (!find_combination()) return false;
  return quiet_step(step, slot) || (why_.empty() && eventful_step(step, slot));
}

/// One step after the other, as if each had been asked for.
bool CircuitSolver::many_steps(const engine::NetworkStep& step, std::size_t slot) {
  std::copy(step.inputs.begin(), step.inputs.end(), held_.begin());
  engine::NetworkStep one = step;
  one.inputs = held_;
  one.wanted = {};
  const std::size_t moving = step.moving.size(), width = step.seen.empty() ? 0 : between_.size();
  std::size_t edge = 0;
  while (one.from < step.to) {
    one.to = one.from + period_;
    const auto number = static_cast<std::size_t>((one.from - step.from) / period_);
    const std::size_t first = edge;
    while (edge < step.edges.size() && step.edges[edge].at <= one.to) ++edge;
    one.edges = step.edges.subspan(first, edge - first);
    const bool last = one.to == step.to;
    for (std::size_t k = 0; k < moving; ++k)
      held_[static_cast<std::size_t>(step.moving[k])] = step.rows[number * moving + k];
    one.seen = last || width == 0 ? std::span<double>{} : step.seen.subspan(number * width);
    if (!single_step(one, last ? slot : kBetween)) {
      failed_ = one.from;
      return false;
    }
    for (const engine::NetworkEdge& e : one.edges) held_[static_cast<std::size_t>(e.input)] = e.to ? 1 : 0;
    one.from = one.to;
    // The last one is made as any other: what is wanted is read there.
    const Time until = edge < step.edges.size() ? step.edges[edge].at : step.to;
    if (one.from >= until) continue;
    if (width > 0) one.seen = step.seen.subspan((number + 1) * width);
    one.from = moving == 0 ? on_their_own(one, until) : on_their_own(one, (number + 1) * moving, until);
  }
  return true;
}

/// From one.from on, whole steps in which nothing happens at all, none of them up to `until` itself. Gives where they
/// end.
Time CircuitSolver::on_their_own(engine::NetworkStep& one, Time until) {
  Time at = one.from;
  if (at + period_ >= until || !settled(one) || !nothing_waits(one)) return at;
  // now_ has the sources as they were; the states are those at the end of the step before.
  const std::size_t n = states();
  double* const now = now_.data();
  double* const after = after_.data();
  for (std::size_t k = 0; k < n; ++k) now[k] = one.state[k];
  set_march_ends();
  const auto most = static_cast<std::size_t>((until - at - Time{1}) / period_);
  current_->held_part(now, after);
  std::size_t done = 0;
  const auto march = [&](std::size_t steps) {
    return current_->march_on(after, now, march_low_.data(), march_high_.data(), steps);
  };
  if (one.seen.empty()) {
    done = march(most);
  } else {
    for (; done < most && march(1) == 1; ++done) show_on_the_way(one);
  }
  at += static_cast<std::int64_t>(done) * period_;
  count_quiet(static_cast<std::int64_t>(done));
  for (std::size_t k = 0; k < n; ++k) one.state[k] = now[k];
  return at;
}

/// The same with inputs that move, from `row` of them on.
Time CircuitSolver::on_their_own(engine::NetworkStep& one, std::size_t row, Time until) {
  Time at = one.from;
  if (at + period_ >= until || !settled(one)) return at;
  const std::size_t n = states(), all = one.moving.size(), blocks = Columns::stride_of(n + positions_.size()) / 4;
  const auto sources = static_cast<std::size_t>(circuit_.sources());
  double *const now = now_.data(), *const after = after_.data(), *const held = held_.data();
  double* const before = one.state.data() + one.state.size() - sources;
  const std::int32_t* const places = one.moving.data();
  for (std::size_t k = 0; k < n; ++k) now[k] = one.state[k];
  set_march_ends();
  const bool switches = std::any_of(one.moving.begin(), one.moving.end(), [&](std::int32_t input) {
    return !by_input_[static_cast<std::size_t>(input)].empty();
  });
  std::int64_t done = 0;
  for (const double* values = one.rows.data() + row; at + period_ < until; at += period_, values += all, ++done) {
    for (std::size_t k = 0; k < all; ++k) held[places[k]] = values[k];
    if ((switches || done == 0) && !nothing_waits(one)) break;
    read_sources(one.inputs);
    if (moving_ && jumped(before)) {
      current_->stand(now, where_.data());
      if (current_->quickest() < step_ || !within(where_.data())) break;
    }
    current_->whole_step(now, after);
    if (moving_ && !inside(blocks, march_low_.data(), after, march_high_.data())) break;
    std::memcpy(now, after, n * sizeof *now);
    end_sources(one.inputs);
    std::memcpy(before, now + n, sources * sizeof *now);
    if (!one.seen.empty()) show_on_the_way(one);
  }
  for (std::size_t k = 0; k < n; ++k) one.state[k] = now[k];
  count_quiet(done);
  return at;
}

/// Into the next row of what is seen.
void CircuitSolver::show_on_the_way(engine::NetworkStep& one) {
  show(kBetween, one);
  one.seen = one.seen.subspan(between_.size());
}

/// So many steps in which nothing happened: whoever chattered does so no more.
void CircuitSolver::count_quiet(std::int64_t steps) {
  steps_ += steps;
  current_->steps += steps;
  if (steps > 0 && all_moves_ > 0) std::fill(moves_.begin(), moves_.end(), 0);
  if (steps > 0) all_moves_ = 0;
}

/// Ends of states, which have none, and of where devices stand.
void CircuitSolver::set_march_ends() {
  for (std::size_t d = 0; moving_ && d < positions_.size(); ++d) {
    march_low_[states() + d] = low_[d];
    march_high_[states() + d] = high_[d];
  }
}

/// Whether a source in now_ is another than what it had come to.
bool CircuitSolver::jumped(const double* before) const {
  const double* const source = now_.data() + states();
  bool any = false;
  for (std::size_t k = 0; k < static_cast<std::size_t>(circuit_.sources()); ++k)
    any |= std::abs(source[k] - before[k]) > kGlide * std::abs(before[k]);
  return any;
}

bool CircuitSolver::within(const double* where) const {
  const double *const low = low_.data(), *const high = high_.data();
  bool all = true;
  for (std::size_t d = 0; d < positions_.size(); ++d) all &= (where[d] >= low[d]) & (where[d] <= high[d]);
  return all;
}

/// Whether all is switched as the inputs say, and no pole is on its way.
bool CircuitSolver::nothing_waits(const engine::NetworkStep& step) const {
  // Bare pointers: this is where a circuit spends its time.
  const double* const inputs = step.inputs.data();
  const Position* const positions = positions_.data();
  bool as_they_are = true;
  for (const Gated& g : gated_) as_they_are &= ((inputs[g.input] != 0) != g.opens) == (positions[g.device].on != 0);
  if (!as_they_are) return false;
  for (std::size_t p = 0; p < poles_.size(); ++p) {
    const double* const of_pole = &step.state[poles_at() + 2 * p];
    const bool close = inputs[static_cast<std::size_t>(circuit_.devices[poles_[p]].gate)] != 0;
    if (of_pole[1] >= 0 || (of_pole[0] != 0) != close) return false;
  }
  return true;
}

/// Whether a whole step may be made without looking in between: nothing turns quickly, and what decays quickly has
/// done so, or never was.
bool CircuitSolver::settled(const engine::NetworkStep& step) const {
  if (!moving_) return true;
  if (current_->look() < step_) return false;
  if (current_->quickest() >= step_) return true;
  return of_these_parameters(step.state.data()) &&
         static_cast<double>(step.from.count()) - step.state[thrown_at()] >= step_;
}

/// Whether it has begun, and went by the same parameters until now.
bool CircuitSolver::of_these_parameters(const double* state) const {
  return state[thrown_at()] >= 0 && state[thrown_at() + 1] == parameters_;
}

void CircuitSolver::note_thrown(double* state, double at) const {
  state[thrown_at()] = at;
  state[thrown_at() + 1] = parameters_;
}

/// Most steps: nothing is switched, and nothing changes its piece. False: something may. Whether it is one follows from
/// the state and the inputs alone, never from what was done before: a copied state goes the same way.
bool CircuitSolver::quiet_step(const engine::NetworkStep& step, std::size_t slot) {
  if ((moving_ && current_->look() < step_) || !nothing_waits(step)) return false;
  for (const engine::NetworkEdge& edge : step.edges) {
    if (!unnoticed(edge)) return false;
  }
  const std::size_t n = states();
  double* const state = step.state.data();
  double* const now = now_.data();
  for (std::size_t k = 0; k < n; ++k) now[k] = state[k];
  read_sources(step.inputs);
  const auto sources = static_cast<std::size_t>(circuit_.sources());
  double* const before = state + step.state.size() - sources;
  const bool thrown = moving_ && jumped(before);
  if (thrown) {
    current_->stand(now, where_.data());
    if (!within(where_.data())) return false;
  }
  make_ready(slot);
  double* const after = after_.data();
  current_->whole_step(now, after);
  if (moving_ && !within(after + n)) return false;
  const bool sure = settled(step) && !(thrown && current_->quickest() < step_);
  if (!sure) {
    std::copy_n(after + n, positions_.size(), where_.begin());
    if (!foreseen({step_, positions_.size(), 0})) return false;
  }
  if (thrown || !of_these_parameters(state)) note_thrown(state, static_cast<double>(step.from.count()));
  for (std::size_t k = 0; k < n; ++k) state[k] = after[k];
  end_sources(step.inputs);
  count_quiet(1);
  for (std::size_t k = 0; k < sources; ++k) before[k] = now[n + k];
  if (!step.edges.empty()) {
    for (const engine::NetworkEdge& edge : step.edges) {
      for (const std::size_t d : by_input_[static_cast<std::size_t>(edge.input)]) switch_device(d, edge.to);
    }
    write_positions(step.state);
  }
  for (std::size_t k = 0; k < n; ++k) now[k] = after[k];
  show(slot, step);
  return true;
}

/// A terminal has come off: which currents are gone a moment later. Faults come at the beginning of a step.
void CircuitSolver::note_losses(Time at) {
  constexpr double kMoment = 100;                  // ns: 10 Gohm ends the current of 100 H within less
  constexpr double kLeft = 1e-3, kNothing = 1e-6;  // a share; A
  make_ready(0);
  current_->part(*shop_, now_.data(), std::min(kMoment, step_), after_.data());
  for (const CoilCurrent& c : coil_currents_) {
    const double before = now_[c.state];
    const bool gone = std::abs(before) > kNothing && std::abs(after_[c.state]) < kLeft * std::abs(before);
    if (gone && losses_.size() < losses_.capacity()) losses_.push_back({at, c.output, before});
  }
}

bool CircuitSolver::eventful_step(const engine::NetworkStep& step, std::size_t slot) {
  read_sources(step.inputs);
  std::copy_n(step.state.begin(), states(), now_.begin());
  const auto from = static_cast<double>(step.from.count());
  thrown_ = of_these_parameters(step.state.data()) ? step.state[thrown_at()] - from : 0;
  // What it came to was settled.
  bool changed = jumped(step.state.data() + step.state.size() - circuit_.sources());
  bool came_off = false;
  for (const Gated& g : gated_) {
    const bool switched = switch_device(g.device, (step.inputs[static_cast<std::size_t>(g.input)] != 0) != g.opens);
    came_off = came_off || (switched && g.opens && positions_[g.device].on == 0);
    changed = switched || changed;
  }
  if (changed) thrown_ = 0;
  if (changed && !settle()) return false;
  if (came_off) note_losses(step.from);
  for (std::size_t p = 0; p < poles_.size(); ++p)
    order(p, step.inputs[static_cast<std::size_t>(circuit_.devices[poles_[p]].gate)] != 0, step.from, step.state);
  double at = 0;
  for (std::size_t e = 0;;) {
    // As far as nothing is noticed; whoever changes its piece before that stops it.
    std::size_t noticed = e;
    while (noticed < step.edges.size() && unnoticed(step.edges[noticed])) ++noticed;
    const Time edge = noticed < step.edges.size() ? step.edges[noticed].at : Time::max();
    const Time next = std::min({edge, next_move(step.state), step.to});
    const auto until = static_cast<double>((next - step.from).count());
    if (at < until && !advance(at, until)) return false;
    // All that change at one instant do so together.
    changed = false;
    for (; e < step.edges.size() && static_cast<double>((step.edges[e].at - step.from).count()) <= at; ++e) {
      for (const std::size_t d : by_input_[static_cast<std::size_t>(step.edges[e].input)]) {
        if (circuit_.devices[d].kind != Device::Kind::pole) changed = switch_device(d, step.edges[e].to) || changed;
      }
      for (std::size_t p = 0; p < poles_.size(); ++p) {
        if (circuit_.devices[poles_[p]].gate == step.edges[e].input)
          order(p, step.edges[e].to, step.edges[e].at, step.state);
      }
    }
    const bool there = at >= until;
    if (there) changed = move_poles(next, step.state) || changed;
    if (changed) thrown_ = at;
    if (changed && !settle()) return false;
    if (there && next == step.to) break;
  }
  end_sources(step.inputs);
  std::copy_n(now_.begin(), states(), step.state.begin());
  write_positions(step.state);
  std::copy_n(now_.begin() + static_cast<std::ptrdiff_t>(states()), circuit_.sources(),
              step.state.end() - circuit_.sources());
  note_thrown(step.state.data(), from + thrown_);
  make_ready(slot);
  ++steps_;
  ++eventful_;
  ++current_->steps;
  show(slot, step);
  return true;
}

}  // namespace isodyne::networks::electric
