#include "isodyne/engine/network.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/step_times.h"
#include "isodyne/program/groups.h"

namespace isodyne::engine {

using program::kNone;

namespace {
/// Numbers that may be noted down between two instants of the bench.
constexpr std::size_t kMostNoted = 1u << 20;
}  // namespace

Networks::Networks(const program::Plant& program, const NetworkMaker& make)
    : program_(program), gates_(program), makers_(program.groups.size()), others_(program.groups.size()) {
  std::size_t number = 0, output = 0;
  if (program.networks.empty() && program.gates.empty()) return;
  moving_ = program::moving_between(program);
  const std::vector<bool> read = program::needed_between(program, {});
  for (const program::Network& n : program.networks) {
    One one;
    one.of = &n;
    if (make) one.solver = make(program, n);
    one.period = program::at(program.groups, n.group).step;
    one.number = number;
    one.output = output;
    one.size = one.solver == nullptr ? 0 : one.solver->state_size();
    one.inputs.resize(n.inputs.size());
    one.signals = n.inputs.size();
    for (const auto& e : n.elements) one.signals -= e.parameters.size();
    for (std::size_t k = 0; k < n.outputs.size(); ++k) {
      one.all.push_back(static_cast<std::int32_t>(k));
      if (read[static_cast<std::size_t>(n.outputs[k])]) one.between.push_back(static_cast<std::int32_t>(k));
    }
    for (std::size_t k = 0; k < one.signals; ++k) {
      const std::int32_t gate = gates_.of(n.inputs[k]);
      if (gate != kNone) one.gates.push_back({static_cast<std::int32_t>(k), gate});
    }
    if (!n.outputs.empty()) {
      const std::int32_t gate = gates_.of(n.outputs.front());
      if (gate != kNone && program::at(program.gates, gate).kind == program::Gate::Kind::made) one.made = gate;
    }
    find_moving(one);
    (one.made != kNone ? makers_ : others_)[static_cast<std::size_t>(n.group)].push_back(
        static_cast<std::int32_t>(all_.size()));
    number += one.size;
    output += n.outputs.size();
    all_.push_back(std::move(one));
  }
  find_glides();
  find_rests(read);
}

/// `needed`: per variable, between two instants of the bench.
void Networks::find_rests(const std::vector<bool>& needed) {
  rests_.assign(program_.groups.size(), {});
  for (std::size_t g = 0; g < rests_.size(); ++g) {
    Rest& r = rests_[g];
    r.period = program_.groups[g].step;
    r.may = r.skims = r.period < program_.step && makers_[g].empty() && !gates_.owns(g);
    for (const std::int32_t i : others_[g]) {
      const One& one = all_[static_cast<std::size_t>(i)];
      r.may = r.may && one.at_once() && one.moving.empty();
      r.skims = r.skims && one.at_once();
    }
    // Networks that go at once get all edges with their instants.
    r.skims = r.skims && !gates_.any_needed(g, needed);
  }
  still_ = any() && nothing_between();
  const std::vector<bool> idle = program::idle_between(program_);
  idle_wanted_ = false;
  for (std::size_t i = 0; i < idle.size(); ++i) idle_wanted_ = idle_wanted_ || (idle[i] && needed[i]);
}

/// Whether it may go over many steps, and what of its inputs moves on the way.
void Networks::find_moving(One& one) const {
  one.many = may_go_over_many(one);
  for (std::size_t k = 0; one.many && k < one.signals; ++k) {
    const program::VarId id = one.of->inputs[k];
    if (gates_.of(id) != kNone || !moving_[static_cast<std::size_t>(id)]) continue;
    one.moving.push_back(static_cast<std::int32_t>(k));
    one.moving_ids.push_back(id);
  }
  // What is noted down has to have its room, so a very slow bench goes step by step.
  const auto steps = static_cast<std::size_t>(program_.step / one.period);
  if (!one.moving.empty() && steps > kMostNoted / one.moving.size()) {
    one.many = false;
    one.moving.clear();
    one.moving_ids.clear();
  }
  if (one.many) one.rows.resize(one.moving.size() * steps);
}

void Networks::find_glides() {
  const auto glides = program::gliding_between(program_);
  for (std::size_t i = 0; i < all_.size(); ++i) {
    One& one = all_[i];
    one.glides = glides[i];
    one.came_to.resize(one.glides.size());
    for (const program::Glide& g : one.glides) {
      const auto place = [&](std::int32_t input) {
        return static_cast<std::int32_t>(std::find(one.moving.begin(), one.moving.end(), input) - one.moving.begin());
      };
      if (!one.moving.empty()) one.moving_glides.push_back({place(g.input), place(g.end)});
    }
  }
}

bool Networks::may_go_over_many(const One& one) const {
  if (one.made != kNone || one.solver == nullptr || !one.solver->takes_many() || one.period >= program_.step)
    return false;
  // Its edges are known for the whole step of the bench when that begins.
  return std::all_of(one.gates.begin(), one.gates.end(), [&](const One::Input& input) {
    return program_.group_of(program::at(program_.gates, input.gate).id).step == program_.step;
  });
}

bool Networks::nothing_between() const {
  const auto quick = [&](std::int32_t group) { return program::at(program_.groups, group).step < program_.step; };
  const auto quick_one = [&](const auto& one) { return quick(one.group); };
  Time step{};
  for (std::size_t g = 0; g < rests_.size(); ++g) {
    const program::Group& group = program_.groups[g];
    if (group.step >= program_.step) continue;
    if (!rests_[g].may || !rests_[g].skims || !group.states.empty() || (step > Time{} && group.step != step))
      return false;
    step = group.step;
  }
  if (std::any_of(program_.events.begin(), program_.events.end(), quick_one)) return false;
  for (const program::StateMachine& m : program_.machines) {
    if (quick(program_.variable(m.mode).group)) return false;
  }
  return std::all_of(program_.order.begin(), program_.order.end(), [&](const program::Item& item) {
    if (!quick(program::group_of(program_, item))) return true;
    if (item.kind != program::Item::Kind::equation) return false;
    const program::VarId target = program_.equations[static_cast<std::size_t>(item.index)].target;
    // A gate that is the same as another is what that is at the next instant of the bench.
    return !moving_[static_cast<std::size_t>(target)] ||
           (program_.variable(target).gate && program_.gate_of(target) != kNone);
  });
}

/// What observers alone want of a network that goes at once is noted down on its way. What equations there need as
/// well it has to give at each instant, and so it goes step by step.
void Networks::look_at(std::span<const program::VarId> ids) {
  if (!any()) return;
  copied_ = program::copied_by(program_);
  std::vector<char> given(program_.variables.size(), 0);
  for (const One& one : all_) {
    for (const program::VarId id : one.of->outputs) given[static_cast<std::size_t>(id)] = one.many ? 1 : 0;
  }
  std::vector<program::VarId> others;
  std::vector<bool> looked_at(program_.variables.size(), false);
  for (const program::VarId id : ids) {
    const auto copied = static_cast<std::size_t>(copied_[static_cast<std::size_t>(id)]);
    if (given[copied] != 0) {
      looked_at[copied] = true;
    } else {
      others.push_back(id);
    }
  }
  see_on_the_way(program::needed_between(program_, others), looked_at);
  for (const program::VarId id : ids) {
    if (seen_at(id).network == kNone) others.push_back(id);
  }
  const std::vector<bool> needed = program::needed_between(program_, others);
  for (One& one : all_) {
    if (one.seen_on_the_way) continue;
    one.between.clear();
    for (const std::int32_t k : one.all) {
      if (needed[static_cast<std::size_t>(one.of->outputs[static_cast<std::size_t>(k)])]) one.between.push_back(k);
    }
  }
  find_rests(needed);
}

void Networks::see_on_the_way(const std::vector<bool>& needed, const std::vector<bool>& looked_at) {
  for (One& one : all_) {
    const auto has = [&](const std::vector<bool>& which, std::int32_t k) {
      return which[static_cast<std::size_t>(one.of->outputs[static_cast<std::size_t>(k)])];
    };
    std::vector<std::int32_t> seen;
    std::copy_if(one.all.begin(), one.all.end(), std::back_inserter(seen),
                 [&](std::int32_t k) { return has(looked_at, k); });
    const auto steps = static_cast<std::size_t>(program_.step / one.period);
    if (!one.many || seen.empty() || steps > kMostNoted / seen.size()) continue;
    if (std::any_of(one.all.begin(), one.all.end(), [&](std::int32_t k) { return has(needed, k); })) continue;
    one.between = std::move(seen);
    one.seen_on_the_way = true;
    one.seen.resize(one.between.size() * (steps - 1));
  }
}

Networks::Place Networks::seen_at(program::VarId id) const {
  if (copied_.empty()) return {};
  const program::VarId of = copied_[static_cast<std::size_t>(id)];
  for (std::size_t i = 0; i < all_.size(); ++i) {
    const One& one = all_[i];
    for (std::size_t k = 0; one.seen_on_the_way && k < one.between.size(); ++k) {
      if (one.of->outputs[static_cast<std::size_t>(one.between[k])] == of)
        return {static_cast<std::int32_t>(i), static_cast<std::int32_t>(k)};
    }
  }
  return {};
}

Networks::Seen Networks::seen(std::int32_t network) const {
  const One& one = all_[static_cast<std::size_t>(network)];
  return {one.seen.data(), one.between.size(), one.seen_count, one.seen_from, one.period};
}

void Networks::make_room(PlantState& state) const {
  NetworkState& n = state.network;
  n.edges.resize(all_.size());
  for (std::size_t i = 0; i < all_.size(); ++i)
    n.edges[i].reserve((all_[i].gates.size() + 1) * static_cast<std::size_t>(GateEdges::kMost));
  gates_.make_room(n);
  std::size_t numbers = 1, outputs = 1;  // one that nobody uses, so that there is a first
  for (const One& one : all_) {
    numbers += one.size;
    outputs += one.of->outputs.size();
  }
  n.numbers.assign(numbers, 0);
  n.next.assign(outputs, 0);
}

/// Parameters change at instants of the bench only, and only there do inputs that glide have to be asked for. Gives
/// whether a parameter has another value than it had.
bool Networks::gather(One& one, std::span<const double> values, bool of_the_bench) const {
  const double* const from = values.data();
  const program::VarId* const ids = one.of->inputs.data();
  double* const to = one.inputs.data();
  const auto value = [&](std::size_t i) { return from[ids[i]]; };
  const std::size_t glides = of_the_bench ? 0 : one.glides.size();
  for (std::size_t k = 0; k < glides; ++k) one.came_to[k] = to[one.glides[k].end];
  for (std::size_t i = 0; i < one.signals; ++i) to[i] = value(i);
  for (std::size_t k = 0; k < glides; ++k) to[one.glides[k].input] = one.came_to[k];
  bool changed = false;
  for (std::size_t i = one.signals; of_the_bench && i < one.inputs.size(); ++i) {
    changed = changed || one.inputs[i] != value(i);
    one.inputs[i] = value(i);
  }
  return changed;
}

bool Networks::finite(One& one, std::span<const double> outputs) const {
  const double* const all = outputs.data();
  bool good = true;
  one.bad = -1;
  for (const std::int32_t i : one.wanted()) good &= std::isfinite(all[i]);
  if (good) return true;
  one.bad =
      *std::find_if(one.wanted().begin(), one.wanted().end(), [&](std::int32_t k) { return !std::isfinite(all[k]); });
  return false;
}

/// Rows from the first on that has no number are none.
bool Networks::finite_on_the_way(One& one) const {
  const double* const all = one.seen.data();
  const std::size_t width = one.between.size(), count = one.seen_count * width;
  bool good = true;
  for (std::size_t i = 0; i < count; ++i) good &= std::isfinite(all[i]);
  if (good) return true;
  const auto bad = static_cast<std::size_t>(
      std::find_if(all, all + count, [](double value) { return !std::isfinite(value); }) - all);
  one.bad = one.between[bad % width];
  one.seen_count = bad / width;
  return false;
}

bool Networks::start(One& one, PlantState& state) {
  const auto out = outputs(one, state.network);
  gather(one, state.values, true);
  for (std::size_t k = 0; k < out.size(); ++k) out[k] = state[one.of->outputs[k]];
  one.whole = true;
  if (one.solver != nullptr) one.solver->wanted_between(one.between);
  if (one.solver == nullptr || !one.solver->start(one.inputs, numbers(one, state.network), out) || !finite(one, out))
    return false;
  one.solver->prepare(one.inputs);
  arrive(one, state.values, state.network);
  return true;
}

std::int32_t Networks::start(PlantState& state) {
  for (const bool makers : {true, false}) {
    for (std::size_t i = 0; i < all_.size(); ++i) {
      if ((all_[i].made != kNone) == makers && !start(all_[i], state)) return static_cast<std::int32_t>(i);
    }
    if (makers) gates_.start(state.values, state.network);
  }
  return kNone;
}

/// Of the gates that it takes, those edges that lie within its step.
void Networks::add_edges(const One& one, Time from, Time to, const NetworkState& state,
                         std::vector<NetworkEdge>& edges) const {
  for (const One::Input& input : one.gates) {
    const GateEdges& e = state.gates[static_cast<std::size_t>(input.gate)];
    if (e.count == 0) continue;
    Gates::each(e, from, to, [&](Time at, bool on) {
      // It has room for all that may come; edges at one instant keep the order of the inputs.
      std::size_t place = edges.size();
      edges.push_back({input.place, at, on});
      for (; place > 0 && edges[place - 1].at > at; --place) std::swap(edges[place - 1], edges[place]);
    });
  }
}

bool Networks::solve(One& one, const NetworkStep& step) const {
  if (!timed_) return one.solver->step(step);
  const auto begin = Stopwatch::now();
  const bool good = one.solver->step(step);
  one.spent_ns += std::chrono::duration_cast<Time>(Stopwatch::now() - begin).count();
  return good;
}

NetworkAccount Networks::account(std::int32_t network) const {
  const One& one = all_[static_cast<std::size_t>(network)];
  NetworkAccount a = one.solver == nullptr ? NetworkAccount{} : one.solver->account();
  if (a.steps > 0) a.step_ns = static_cast<double>(one.spent_ns) / static_cast<double>(a.steps);
  return a;
}

bool Networks::step(One& one, Time from, std::span<const double> values, std::vector<NetworkEdge>& edges,
                    NetworkState& state) {
  if (one.at_once()) return step_at_once(one, from, values, edges, state);
  const auto out = outputs(one, state);
  one.whole = of_bench(one, from + one.period);
  // A state that was gone back to begins at an instant of the bench, too.
  const bool changed = gather(one, values, of_bench(one, from));
  if (!one.gates.empty() && state.stirred[static_cast<std::size_t>(one.of->group)] != 0)
    add_edges(one, from, from + one.period, state, edges);
  NetworkStep step{from, from + one.period, one.inputs, edges, one.wanted(), numbers(one, state), out};
  if (one.made != kNone) step.made = {&state.gates[static_cast<std::size_t>(one.made)], out.size()};
  const bool good = (!changed || one.solver->parameters_changed(one.inputs)) && solve(one, step) && finite(one, out);
  edges.clear();
  return good;
}

/// At the first of its steps its inputs are known, but for those that move, and at the last one the way is made.
bool Networks::step_at_once(One& one, Time from, std::span<const double> values, std::vector<NetworkEdge>& edges,
                            NetworkState& state) {
  if (of_bench(one, from)) {
    one.filled = one.seen_count = 0;
    stuck_on_the_way_.reset();
    one.seen_from = from;
    if (gather(one, values, true) && !one.solver->parameters_changed(one.inputs)) return false;
  }
  one.note_moving(values.data());
  const Time to = from + one.period;
  one.whole = of_bench(one, to);
  return !one.whole || go_all_the_way(one, to - program_.step, to, edges, state);
}

bool Networks::go_all_the_way(One& one, Time from, Time to, std::vector<NetworkEdge>& edges, NetworkState& state) {
  const auto out = outputs(one, state);
  add_edges(one, from, to, state, edges);
  NetworkStep all{from, to, one.inputs, edges, one.all, numbers(one, state), out};
  all.moving = one.moving;
  all.rows = one.rows;
  const auto steps = static_cast<std::size_t>((to - from) / one.period);
  if (!one.seen.empty()) all.seen = std::span(one.seen).first((steps - 1) * one.between.size());
  const bool went = solve(one, all);
  edges.clear();
  if (!one.seen.empty())
    one.seen_count = went ? steps - 1 : static_cast<std::size_t>((one.solver->stuck_from() - from) / one.period);
  const bool on_the_way = finite_on_the_way(one), good = went && on_the_way && finite(one, out);
  if (!good)
    stuck_on_the_way_ = !on_the_way ? from + static_cast<std::int64_t>(one.seen_count) * one.period
                        : went      ? to - one.period
                                    : one.solver->stuck_from();
  return good;
}

/// Those that go all the way at once have not begun yet where something else stops halfway. They are brought up to
/// there, so that what was seen of the others is seen of them too.
void Networks::catch_up(PlantState& state) {
  for (std::size_t i = 0; i < all_.size(); ++i) {
    One& one = all_[i];
    const Time begin = state.now - Time{state.now.count() % program_.step.count()};
    if (!one.at_once() || one.whole || begin != one.bench) continue;
    const std::size_t width = one.between.size(),
                      noted = one.moving.empty() ? SIZE_MAX : one.filled / one.moving.size();
    const std::size_t steps = std::min(noted, static_cast<std::size_t>((state.now - begin) / one.period));
    if (steps == 0) continue;
    one.whole = true;
    if (!go_all_the_way(one, begin, begin + static_cast<std::int64_t>(steps) * one.period, state.network.edges[i],
                        state.network))
      continue;
    arrive(one, state.values, state.network);
    if (one.seen.empty()) continue;
    for (std::size_t k = 0; k < width; ++k)
      one.seen[(steps - 1) * width + k] = outputs(one, state.network)[static_cast<std::size_t>(one.between[k])];
    one.seen_count = steps;
  }
}

/// After a step that was made: until the next edge, or the last step before the next instant of the bench.
void Networks::rest(std::size_t group, Time from, const NetworkState& state) {
  Rest& r = rests_[group];
  const bool gates = gates_.any() && !r.skims;
  if (!r.may || (gates && state.stirred[group] != 0)) return;
  r.after = from;
  const Time next = from - Time{from.count() % program_.step.count()} + program_.step;
  r.until = (gates ? std::min(next, state.next_edge[group]) : next) - r.period;
}

std::int32_t Networks::step(std::int32_t of_group, Time from, std::span<double> values, NetworkState& state) {
  const auto group = static_cast<std::size_t>(of_group);
  Rest& rest_of = rests_[group];
  if (rest_of.holds(from)) return kNone;
  if (rest_of.skims && rest_of.is_between(from, from + rest_of.period)) {
    for (const std::int32_t i : others_[group]) all_[static_cast<std::size_t>(i)].note_moving(values.data());
    return kNone;
  }
  for (const std::int32_t i : makers_[group]) {
    const auto which = static_cast<std::size_t>(i);
    if (!step(all_[which], from, values, state.edges[which], state)) return i;
  }
  if (gates_.any() && !rest_of.skims) {
    const std::int32_t full = gates_.begin(of_group, from, from + program_.groups[group].step, values, state);
    if (full != kNone) return static_cast<std::int32_t>(all_.size()) + full;
  }
  for (const std::int32_t i : others_[group]) {
    const auto which = static_cast<std::size_t>(i);
    if (!step(all_[which], from, values, state.edges[which], state)) return i;
  }
  rest(group, from, state);
  rest_of.begin = from - Time{from.count() % program_.step.count()};
  rest_of.end = rest_of.begin + program_.step;
  return kNone;
}

void Networks::arrive(const One& one, std::span<double> values, NetworkState& state) const {
  const double* const out = outputs(one, state).data();
  const program::VarId* const ids = one.of->outputs.data();
  double* const to = values.data();
  for (const std::int32_t k : one.wanted()) to[ids[k]] = out[k];
}

void Networks::arrive(std::int32_t group, Time now, std::span<double> values, NetworkState& state) {
  const Rest& r = rests_[static_cast<std::size_t>(group)];
  if (r.holds(now - r.period) || (r.skims && now > r.begin && now < r.end)) return;
  for (const auto* list : {&makers_, &others_}) {
    for (const std::int32_t i : (*list)[static_cast<std::size_t>(group)])
      arrive(all_[static_cast<std::size_t>(i)], values, state);
  }
  if (gates_.any() && !r.skims) gates_.arrive(group, now, values, state);
}

std::string Networks::why_not(std::int32_t network) const {
  if (const std::size_t gate = static_cast<std::size_t>(network) - all_.size();
      static_cast<std::size_t>(network) >= all_.size()) {
    const program::Gate& g = program_.gates[gate];
    return fmt::format("the gate `{}` has more than {} edges within a step of {}", program_.variable(g.id).name,
                       GateEdges::kMost, format_span(program_.group_of(g.id).step));
  }
  const One& one = all_[static_cast<std::size_t>(network)];
  if (one.solver == nullptr) return fmt::format("nothing here solves networks of the kind `{}`", one.of->kind);
  if (one.bad < 0) return one.solver->why_not();
  const program::VarId id = one.of->outputs[static_cast<std::size_t>(one.bad)];
  return fmt::format("it gives no number for `{}`", program_.variable(id).name);
}

std::vector<std::string> Networks::describe(std::int32_t network, const NetworkState& state) const {
  if (static_cast<std::size_t>(network) >= all_.size()) return {};
  const One& one = all_[static_cast<std::size_t>(network)];
  if (one.solver == nullptr) return {};
  return one.solver->describe({&state.numbers[one.number], one.size});
}

}  // namespace isodyne::engine
