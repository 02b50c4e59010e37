// From one instant to the next: every group by its own method.

#include <algorithm>
#include <cmath>

#include "isodyne/engine/interpreter.h"

namespace isodyne::engine {

using program::kNone;
using program::Method;

PlantTrouble Interpreter::trouble_of(const StateView& state) const {
  if (*state.unsolved != kNone) {
    const program::VarId x = program_->solves[static_cast<std::size_t>(*state.unsolved)].x;
    return {PlantTrouble::Kind::no_solution, *state.unsolved, state[x]};
  }
  if (*state.endless != 0) return {PlantTrouble::Kind::endless_events, 0, 0};
  for (const std::int32_t m : own_machines_) {
    if (state.reversals[static_cast<std::size_t>(m)] > kMostReversals)
      return {PlantTrouble::Kind::endless_reversal, m, 0};
  }
  return {};
}

/// On a bound and pushed outwards.
bool Interpreter::at_limit(const GroupCode&, const StateView& state, const Limits& l, const double* x,
                           double slope) const {
  return (x[l.state] <= state.values[static_cast<std::size_t>(l.lowest)] && slope < 0) ||
         (x[l.state] >= state.values[static_cast<std::size_t>(l.highest)] && slope > 0);
}

void Interpreter::limited(const GroupCode& g, const StateView& state, const double* x, double* dx) const {
  for (const Limits& l : g.limits) {
    if (at_limit(g, state, l, x, dx[l.state])) dx[l.state] = 0;
  }
}

namespace {
/// Gathers what belongs to each state of a group; at once if it lies side by side.
void copy_row(const std::vector<std::int32_t>& row, std::int32_t first, const double* values, double* to) {
  const std::size_t n = row.size();
  if (first != kNone) {
    for (std::size_t i = 0; i < n; ++i) to[i] = values[first + static_cast<std::int32_t>(i)];
  } else {
    for (std::size_t i = 0; i < n; ++i) to[i] = values[row[i]];
  }
}
}  // namespace

void Interpreter::evaluate(GroupCode& g, const StateView& state, double t, const double* x, double* dx) {
  double* r = state.values.data();
  const std::size_t n = g.x.size();
  r[g.time] = t;
  double* const states = r + g.first_state;
  if (x != states) std::copy(x, x + n, states);
  for (const auto& [to, from] : g.guesses) r[to] = r[from];
  for (const Segment& s : g.between) {
    run(code_.data() + s.begin, r, tables_.data());
    if (s.has_item) after_segment(s, state, t, Sampled::nothing);
  }
  copy_row(g.derivatives, g.first_derivative, r, dx);
  limited(g, state, x, dx);
}

/// A state held at its limit depends on nothing.
void Interpreter::linearise(GroupCode& g, const StateView& state, const double* x) {
  const program::Group& group = *g.plan->group;
  const std::size_t n = g.x.size();
  run_code(g.linear, state);
  std::fill(g.jacobian.begin(), g.jacobian.end(), 0.0);
  for (std::size_t i = 0; i < group.jacobian.size(); ++i) {
    const program::Group::Slope& s = group.jacobian[i];
    g.jacobian[static_cast<std::size_t>(s.row) * n + static_cast<std::size_t>(s.column)] =
        state.values[static_cast<std::size_t>(g.jacobian_registers[i])];
  }
  for (std::size_t i = 0; i < n; ++i)
    g.df_dt[i] = g.df_dt_registers[i] == kNone ? 0 : state.values[static_cast<std::size_t>(g.df_dt_registers[i])];
  for (const Limits& l : g.limits) {
    const double slope = state[g.slopes_at[l.state]];
    if (!at_limit(g, state, l, x, slope)) continue;
    std::fill_n(g.jacobian.begin() + static_cast<std::ptrdiff_t>(l.state * n), n, 0.0);
    g.df_dt[l.state] = 0;
  }
}

void Interpreter::slopes_of(std::size_t group, const StateView& state, double* jacobian, double* df_dt) {
  GroupCode& g = groups_[group];
  run_code(g.held, state);
  for (std::size_t i = 0; i < g.x.size(); ++i) g.x[i] = state[g.values[i]];
  linearise(g, state, g.x.data());
  std::copy(g.jacobian.begin(), g.jacobian.end(), jacobian);
  std::copy(g.df_dt.begin(), g.df_dt.end(), df_dt);
}

/// One step of the method: x becomes the new states. On trouble it is of no use any more.
PlantTrouble Interpreter::advance(GroupCode& g, const StateView& state, double* x, const double* k1) {
  const program::Group& group = *g.plan->group;
  const auto n = static_cast<int>(group.states.size());
  const double t = state[program::kTime], h = to_seconds(group.step);
  double* const r = state.values.data();
  double* const work = r + g.first_state;
  // Most groups are one stretch of code; the others have more to look after.
  Context context{
      this, &g, &state, code_.data() + (g.plain ? g.between.front().begin : 0), r, work, r + g.first_derivative};
  const iso_derivative plain = [](void* c, double when, const double* at, double* dx) {
    const auto& it = *static_cast<const Context*>(c);
    const std::size_t count = it.group->x.size();
    it.registers[it.group->time] = when;
    if (at != it.states) std::copy(at, at + count, it.states);
    run(it.code, it.registers, it.self->tables_.data());
    for (std::size_t i = 0; i < count; ++i) dx[i] = it.derivatives[i];
  };
  const iso_derivative with_more = [](void* c, double when, const double* at, double* dx) {
    const auto& it = *static_cast<const Context*>(c);
    it.self->evaluate(*it.group, *it.state, when, at, dx);
  };
  const iso_derivative f = g.plain ? plain : with_more;
  switch (group.method) {
    case Method::euler:
      iso_euler(n, h, x, k1);
      break;
    case Method::heun:
      iso_heun(n, t, h, x, k1, f, &context, work);
      break;
    case Method::rk4:
      iso_rk4(n, t, h, x, k1, f, &context, work);
      break;
    case Method::implicit:
      linearise(g, state, x);
      if (iso_implicit(n, t, h, x, k1, g.jacobian.data(), g.df_dt.data(), f, &context, work, g.rows.data(),
                       static_cast<int>(&g - groups_.data()), state.doubt) == 0) {
        return {PlantTrouble::Kind::singular, static_cast<std::int32_t>(&g - groups_.data()), 0};
      }
      break;
    case Method::exact:
      linearise(g, state, x);
      iso_exact(n, h, x, k1, g.jacobian.data(), g.df_dt.data(), g.known.data());
      break;
  }
  if (*state.unsolved != kNone) return trouble_of(state);
  for (const Limits& l : g.limits) {
    const double lowest = state.values[static_cast<std::size_t>(l.lowest)];
    const double highest = state.values[static_cast<std::size_t>(l.highest)];
    if (x[l.state] < lowest) x[l.state] = lowest;
    if (x[l.state] > highest) x[l.state] = highest;
  }
  const int bad = iso_first_bad(n, x);
  return bad < n ? PlantTrouble{PlantTrouble::Kind::not_finite, bad, 0} : PlantTrouble{};
}

/// The only group of a bench is stepped where its states are; others on copies, which become valid at their next
/// instant, because groups that step from the same instant must not see each other's results.
PlantTrouble Interpreter::step_group(GroupCode& g, const StateView& state) {
  const std::size_t n = g.x.size();
  if (n == 0) return {};
  run_code(g.held, state);
  double* const v = state.values.data();
  const double* k1 = v + g.first_slope;
  if (g.first_slope == kNone || !g.limits.empty()) {
    copy_row(g.slopes_at, g.first_slope, v, g.k1.data());
    k1 = g.k1.data();
  }
  const bool in_place = plan_.single && g.first_value != kNone;
  double* const x = in_place ? v + g.first_value : g.x.data();
  double* const before = in_place ? g.before.data() : x;
  copy_row(g.values, g.first_value, v, before);
  if (!g.limits.empty()) limited(g, state, x, g.k1.data());
  PlantTrouble trouble = advance(g, state, x, k1);
  if (trouble.kind != PlantTrouble::Kind::none) {
    if (in_place) std::copy(before, before + n, x);
    if (trouble.kind != PlantTrouble::Kind::not_finite) return trouble;
    const auto bad = static_cast<std::size_t>(trouble.index);
    return {trouble.kind, g.plan->group->states[bad], v[g.values[bad]]};
  }
  if (in_place) return {};
  for (std::size_t i = 0; i < n; ++i) state.next[static_cast<std::size_t>(g.plan->group->states[i])] = x[i];
  return {};
}

PlantTrouble Interpreter::step(const StateView& state, ModeChanges& changes) {
  const IsoFlushed flushed;
  const std::int64_t instants = plan_.instants_per_step;
  const bool passes_over = state.passes_over();
  for (std::int64_t i = 0; i < instants; ++i) {
    if (const PlantTrouble before = trouble_of(state); before.kind != PlantTrouble::Kind::none) return before;
    const int due = plan_.due(*state.now);
    // Before the states move, which are stepped where they are in a bench of one group.
    for (const std::int32_t g : network_groups_) {
      if (plan_.rate_of_group(g) >= due) continue;
      const std::int32_t stuck = state.networks->step(g, *state.now, state.values, *state.network);
      if (stuck != kNone) return {PlantTrouble::Kind::network, stuck, 0};
    }
    for (GroupCode& g : groups_) {
      if (!g.plan->here || g.plan->rate >= due) continue;
      if (const PlantTrouble now = step_group(g, state); now.kind != PlantTrouble::Kind::none) return now;
    }
    *state.now += plan_.rates.front();
    if (passes_over && i + 2 < instants) {
      *state.now += (instants - 2 - i) * plan_.rates.front();
      i = instants - 2;
      continue;
    }
    const int arrived = plan_.due(*state.now);
    for (const GroupCode& g : groups_) {
      if (!g.plan->here || g.plan->rate >= arrived || (plan_.single && g.first_value != kNone)) continue;
      for (std::size_t k = 0; k < g.values.size(); ++k)
        state[g.values[k]] = state.next[static_cast<std::size_t>(g.plan->group->states[k])];
    }
    for (const std::int32_t g : network_groups_) {
      if (plan_.rate_of_group(g) < arrived) state.networks->arrive(g, *state.now, state.values, *state.network);
    }
    if (i + 1 == instants) break;
    settle_due(state, arrived, arrived, changes);
    if (state.quick != nullptr) state.quick->instant(state.core, *state.now, state.values.data());
  }
  return {};
}

}  // namespace isodyne::engine
