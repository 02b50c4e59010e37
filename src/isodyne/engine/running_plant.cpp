#include "isodyne/engine/running_plant.h"

#include <algorithm>
#include <cmath>

namespace isodyne::engine {

using program::FaultKind;
using program::kNone;

namespace {
/// Bit `bit` of a whole number turned round, in two's complement.
double flipped(double value, double bit) {
  const double weight = std::exp2(bit);
  return std::fmod(std::floor(value / weight), 2.0) == 0 ? value + weight : value - weight;
}

double delayed(TapState& tap, double value, double now) {
  if (tap.past.empty()) return value;
  const auto at = [&](std::size_t i) -> TapState::Past& { return tap.past[(tap.first + i) % tap.past.size()]; };
  if (tap.fresh) {
    if (tap.count == tap.past.size()) {  // quicker than it was thought: the oldest goes
      tap.first = (tap.first + 1) % tap.past.size();
      --tap.count;
    }
    at(tap.count++) = {now, value};
    tap.fresh = false;
  }
  // Half a nanosecond: times are whole ones, and came here as seconds.
  while (tap.count > 1 && at(1).at <= now - tap.lag + 0.5e-9) {
    tap.first = (tap.first + 1) % tap.past.size();
    --tap.count;
  }
  return tap.count == 0 ? value : at(0).value;
}
}  // namespace

namespace {
double through_one(TapState& tap, double value, double now) {
  switch (tap.kind) {
    case FaultKind::offset:
    case FaultKind::noise:   // drawn for this instant
    case FaultKind::spikes:  // 0 between them
      return value + tap.amount;
    case FaultKind::quantise:
      return tap.amount > 0 ? std::round(value / tap.amount) * tap.amount : value;
    case FaultKind::invert:
      return tap.amount != 0 ? (value == 0 ? 1 : 0) : -value;
    case FaultKind::flip:
      return flipped(value, tap.amount);
    case FaultKind::dropout:
      if (tap.amount != 0 && tap.holding) return tap.held;
      tap.holding = true;
      return tap.held = value;
    case FaultKind::delay:
      return delayed(tap, value, now);
    case FaultKind::open:
      return 0;
    case FaultKind::drift:
      return value + tap.amount * (now - tap.since);
    case FaultKind::freeze:
      if (!tap.holding) {
        tap.holding = true;
        tap.held = value;
      }
      return tap.held;
    case FaultKind::force:
    case FaultKind::rail:
      return tap.amount;
    case FaultKind::swap:  // the other's quantity, put here just before
      return tap.amount;
    case FaultKind::times:
      return value * tap.amount;
    case FaultKind::ramp: {
      const double share = tap.lag > 0 ? std::min(1.0, (now - tap.since) / tap.lag) : 1.0;
      return value + share * (tap.amount - value);
    }
    case FaultKind::replace: {
      const bool fresh = tap.fresh;
      tap.fresh = false;
      return tap.function != nullptr ? tap.function->replace(value, fresh) : value;
    }
    case FaultKind::loss:  // of messages, not of values
    case FaultKind::jitter:
    case FaultKind::repeats:
    case FaultKind::reorder:
    case FaultKind::corrupt:
      return value;
  }
  return value;
}
}  // namespace

double through_tap(TapState& tap, double value, double now) {
  if (!tap.any_on) return value;
  for (TapState* t = &tap;; t += t->next_offset) {
    if (t->on) {
      const double faulty = through_one(*t, value, now);
      t->changed = t->changed || !(faulty == value);
      value = faulty;
    }
    if (t->next_offset == 0) return value;
  }
}

std::size_t add_tap(PlantState& state, std::size_t tap) {
  if (!state.taps[tap].claimed) {
    state.taps[tap].claimed = true;
    return tap;
  }
  std::size_t last = tap;
  while (state.taps[last].next_offset != 0) last += static_cast<std::size_t>(state.taps[last].next_offset);
  const std::size_t made = state.taps.size();
  state.taps.emplace_back().claimed = true;
  state.taps[last].next_offset = static_cast<std::int32_t>(made - last);
  return made;
}

void refresh_tap(PlantState& state, std::size_t tap) {
  bool any = false;
  for (const TapState* t = &state.taps[tap];; t += t->next_offset) {
    any = any || t->on;
    if (t->next_offset == 0) break;
  }
  state.taps[tap].any_on = any;
}

RunningPlant::Core::Core(const std::shared_ptr<const program::Plant>& program, std::int32_t number,
                         std::int32_t own_place)
    : place(own_place), plan(*program, number), interpreter(program, plan) {
  for (std::size_t i = 0; i < program->variables.size(); ++i) {
    const bool mine = program->group_of(static_cast<program::VarId>(i)).core == number;
    if (!mine) continue;
    if (own.empty() || own.back().first + own.back().second != i) own.emplace_back(i, 0);
    ++own.back().second;
  }
}

RunningPlant::RunningPlant(std::shared_ptr<const program::Plant> program, const NetworkMaker& networks)
    : program_(std::move(program)), networks_(*program_, networks) {
  const std::vector<std::int32_t> numbers = cores_of(*program_);
  for (const std::int32_t number : numbers) {
    const auto place = static_cast<std::int32_t>(cores_.size());
    cores_.push_back(std::make_unique<Core>(program_, number, place));
  }
  std::size_t instants = 0;
  for (const auto& core : cores_) {
    instants = std::max(instants, static_cast<std::size_t>(core->plan.instants_per_step));
    if (core != cores_.front()) core->values = core->interpreter.start({}).values;
  }
  // A machine changes at most once an instant, and twice where a machine around it starts it anew.
  for (const auto& core : cores_) core->changes.list.resize(2 * program_->machines.size() * instants);
}

bool RunningPlant::adopted() const {
  return std::all_of(cores_.begin(), cores_.end(),
                     [](const auto& core) { return core->execution != &core->interpreter; });
}

PlantState RunningPlant::start(std::span<const std::pair<program::VarId, double>> overrides) {
  PlantState state = lead().interpreter.start(overrides);
  if (!networks_.any()) return state;
  networks_.make_room(state);
  state.networks = &networks_;
  return state;
}

void RunningPlant::solve(PlantState& state) {
  leader().solve(state);
  if (state.networks == nullptr || state.network.started) return;
  state.network.started = true;
  state.network.stuck = networks_.start(state);
  leader().solve(state);
}

std::span<const ModeChange> RunningPlant::settle(PlantState& state) {
  for (const auto& core : cores_) {
    // Acquire: what the other thread has made ready is seen with the pointer.
    if (Execution* offered = core->offered.load(std::memory_order_acquire)) core->execution = offered;
  }
  lead().changes.count = 0;
  leader().settle(state, lead().changes);
  return changes();
}

PlantTrouble RunningPlant::step(PlantState& state, std::int64_t next) {
  ModeChanges& changes = lead().changes;
  changes.count = 0;
  if (state.network.stuck != kNone) return {PlantTrouble::Kind::network, state.network.stuck, 0};
  const auto and_networks = [&](PlantTrouble trouble) {
    if (trouble.kind == PlantTrouble::Kind::none || state.networks == nullptr) return trouble;
    if (const auto stuck = networks_.stuck_on_the_way()) state.now = *stuck;
    networks_.catch_up(state);
    return trouble;
  };
  if (whole_ != nullptr || cores_.size() == 1) return and_networks(leader().step(state, changes));
  for (const auto& core : cores_) {
    if (core != cores_.front()) see(*core, state);
  }
  stepping_ = &state;
  if (crew_) crew_->go(next);
  const PlantTrouble trouble = lead().execution->step(state, changes);
  step_share(0);
  if (crew_) crew_->await();
  return and_networks(join(state, trouble));
}

void RunningPlant::start_crew(std::size_t threads, Crew::Work prepare, std::int64_t most_guard_ns) {
  const std::size_t members = std::min(threads, cores_.size() - 1);
  if (members == 0) return;
  crew_ = std::make_unique<Crew>(
      members, [this](std::size_t member) { step_share(member); }, std::move(prepare), most_guard_ns);
}

/// The cores that a member of the crew steps (0: the leader, beside its own).
void RunningPlant::step_share(std::size_t member) {
  const std::size_t shares = crew_ ? crew_->members() + 1 : 1;
  for (std::size_t i = member; i < cores_.size(); i += shares) {
    if (i > 0) step_alone(*cores_[i], *stepping_);
  }
}

void RunningPlant::see(Core& core, const PlantState& state) const {
  std::copy_n(state.values.begin(), program_->variables.size(), core.values.begin());
  core.now = state.now;
  core.unsolved = state.unsolved;
  core.endless = state.endless;
}

void RunningPlant::step_alone(Core& core, PlantState& state) {
  StateView view(state);
  view.values = core.values;
  view.core = core.place;
  view.now = &core.now;
  view.unsolved = &core.unsolved;
  view.endless = &core.endless;
  view.doubt = core.doubt.data();
  core.changes.count = 0;
  core.trouble = core.execution->step(view, core.changes);
}

namespace {
/// Puts changes into others that are in order of time; at one instant the others come first.
void merge(ModeChanges& all, const ModeChanges& more) {
  for (std::int32_t i = 0; i < more.count; ++i) {
    const ModeChange change = more.list[static_cast<std::size_t>(i)];
    auto at = static_cast<std::size_t>(all.count);
    for (; at > 0 && all.list[at - 1].at_ns > change.at_ns; --at) all.list[at] = all.list[at - 1];
    all.list[at] = change;
    ++all.count;
  }
}
}  // namespace

/// The first trouble counts.
PlantTrouble RunningPlant::join(PlantState& state, PlantTrouble trouble) {
  Time end = state.now;
  for (std::size_t i = 1; i < cores_.size(); ++i) {
    Core& core = *cores_[i];
    for (const auto& [begin, length] : core.own)
      std::copy_n(core.values.begin() + static_cast<std::ptrdiff_t>(begin), length,
                  state.values.begin() + static_cast<std::ptrdiff_t>(begin));
    merge(lead().changes, core.changes);
    if (state.unsolved == kNone) state.unsolved = core.unsolved;
    state.endless |= core.endless;
    const double count = state.doubt[4] + core.doubt[4];
    if (core.doubt[0] > state.doubt[0]) state.doubt = core.doubt;
    state.doubt[4] = count;
    core.doubt[4] = 0;
    const bool earlier = trouble.kind == PlantTrouble::Kind::none || core.now < end;
    if (core.trouble.kind == PlantTrouble::Kind::none || !earlier) continue;
    trouble = core.trouble;
    end = core.now;
  }
  state.now = end;
  return trouble;
}

void RunningPlant::apply_input_taps(PlantState& state) const {
  const double now = to_seconds(state.now);
  for (std::size_t i = 0; i < program_->taps.size(); ++i) {
    const program::Tap& tap = program_->taps[i];
    if (tap.healthy != kNone) state[tap.target] = through_tap(state.taps[i], state[tap.healthy], now);
  }
}

std::vector<std::int32_t> endless(const PlantState& state) {
  std::vector<std::int32_t> events;
  for (std::size_t e = 0; e < state.event_late.size(); ++e) {
    if (state.event_late[e] != 0) events.push_back(static_cast<std::int32_t>(e));
  }
  return events;
}

}  // namespace isodyne::engine
