#include "isodyne/bench/fault_player.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"

namespace isodyne::bench {

using observe::CommandKind;
using observe::Refusal;
using When = program::Fault::When;

/// `replace with`: the formula over the image of the instant before, with its own memory.
class FaultPlayer::Replacing : public engine::TapFunction {
 public:
  Replacing(const program::Program& program, const program::Fault& f)
      : replacement_(f.replacement), expressions_(program, roots(f)), start_(program, starts(f)) {
    memory_.resize(replacement_.memories.size());
    next_.resize(memory_.size());
  }

  void begin(const double* image) {
    start_.evaluate(image);
    for (std::size_t i = 0; i < next_.size(); ++i) next_[i] = start_.value(i);
    begun_ = false;
  }
  /// The quantities that the formula reads, before the instant is computed.
  void load(const double* image) { expressions_.load(image); }

  double replace(double value, bool fresh) override {
    if (fresh || !begun_) {
      memory_ = next_;
      was_ = begun_ ? came_ : value;
      begun_ = true;
    }
    expressions_.give(replacement_.it, value);
    expressions_.give(replacement_.was, was_);
    for (std::size_t i = 0; i < memory_.size(); ++i) expressions_.give(replacement_.memories[i].id, memory_[i]);
    expressions_.compute();
    for (std::size_t i = 0; i < next_.size(); ++i) next_[i] = expressions_.value(i + 1);
    return came_ = expressions_.value(0);
  }

 private:
  static std::vector<program::NodeId> roots(const program::Fault& f) {
    std::vector<program::NodeId> all{f.amount};
    for (const auto& m : f.replacement.memories) all.push_back(m.next);
    return all;
  }
  static std::vector<program::NodeId> starts(const program::Fault& f) {
    std::vector<program::NodeId> all;
    for (const auto& m : f.replacement.memories) all.push_back(m.start);
    return all;
  }

  const program::Replacement& replacement_;
  engine::Evaluator expressions_, start_;
  std::vector<double> memory_, next_;
  double was_ = 0, came_ = 0;
  bool begun_ = false;
};

namespace {
bool composed(const program::Program& program, std::int32_t a, std::int32_t b) {
  return std::any_of(program.compositions.begin(), program.compositions.end(), [&](const program::Composition& c) {
    const auto has = [&](std::int32_t f) { return std::find(c.faults.begin(), c.faults.end(), f) != c.faults.end(); };
    return has(a) && has(b);
  });
}

/// The taps that a fault needs.
std::vector<std::int32_t> taps_of(const program::Fault& f) {
  std::vector<std::int32_t> all = f.taps();
  if (f.other != program::kNone) all.push_back(f.other);
  return all;
}
}  // namespace

std::vector<std::int32_t> faults_of(const program::Program& program, std::int32_t scenario) {
  std::vector<std::int32_t> all;
  if (scenario == program::kNone) return all;
  for (const program::ScenarioStep& s : program.scenarios[static_cast<std::size_t>(scenario)].steps) {
    if (s.fault != program::kNone && std::find(all.begin(), all.end(), s.fault) == all.end()) all.push_back(s.fault);
  }
  return all;
}

static Failure both_act(const std::string& one, const std::string& two, const std::string& place) {
  return {fmt::format("faults `{}` and `{}` both act on `{}`", one, two, place), "",
          fmt::format("choose one of them, or state their order: compose {}, {}", one, two)};
}

std::optional<Failure> clash_among(const program::Program& program, const std::vector<std::int32_t>& faults,
                                   std::int32_t scenario) {
  const auto fault = [&](std::int32_t i) -> const program::Fault& {
    return program.faults[static_cast<std::size_t>(i)];
  };
  const auto place = [&](std::int32_t tap) {
    return program.variable(program.taps[static_cast<std::size_t>(tap)].target).name;
  };
  for (std::size_t i = 0; i < faults.size(); ++i) {
    for (std::size_t j = 0; j < i; ++j) {
      if (faults[i] == faults[j])
        return Failure{fmt::format("fault `{}` is chosen twice", fault(faults[i]).name), "", ""};
      if (composed(program, faults[i], faults[j])) continue;
      for (const std::int32_t tap : taps_of(fault(faults[i]))) {
        const auto other = taps_of(fault(faults[j]));
        if (std::find(other.begin(), other.end(), tap) != other.end())
          return both_act(fault(faults[j]).name, fault(faults[i]).name, place(tap));
      }
      for (const program::VarId gate : fault(faults[i]).gates) {
        const auto& other = fault(faults[j]).gates;
        if (std::find(other.begin(), other.end(), gate) != other.end())
          return both_act(fault(faults[j]).name, fault(faults[i]).name, program.variable(gate).name);
      }
    }
    if (scenario == program::kNone) continue;
    const program::Scenario& s = program.scenarios[static_cast<std::size_t>(scenario)];
    for (const program::ScenarioStep& step : s.steps) {
      for (const std::int32_t tap : taps_of(fault(faults[i]))) {
        if (step.tap != tap) continue;
        return Failure{fmt::format("fault `{}` and scenario `{}` ({}) both act on `{}`", fault(faults[i]).name, s.name,
                                   program.sources->place(step.span), place(tap)),
                       "", "choose another fault"};
      }
    }
  }
  return std::nullopt;
}

FaultPlayer::FaultPlayer(const program::Program& program, const std::vector<std::int32_t>& chosen, std::uint64_t seed)
    : program_(program), seed_(random_key(seed)) {
  const program::QuickParts parts(program);
  std::vector<std::int32_t> ordered = chosen;
  std::stable_sort(ordered.begin(), ordered.end(),
                   [&](std::int32_t a, std::int32_t b) { return program.rank_of_fault(a) < program.rank_of_fault(b); });
  for (const std::int32_t index : ordered) {
    const program::Fault& f = program.faults[static_cast<std::size_t>(index)];
    const bool replaces = f.kind == program::FaultKind::replace;
    Chosen c(std::make_unique<FaultActivity>(FaultActivity{index, false, 0, {}}),
             engine::Evaluator(program, {f.condition, replaces ? program::kNone : f.amount, f.until}));
    if (replaces) c.replacing = std::make_shared<Replacing>(program, f);
    c.key = random_key(fnv1a("fault " + f.name));
    c.quick = f.when == When::once && parts.seen_every({f.condition}) < program.step;
    c.quick_until = parts.seen_every({f.until}) < program.step;
    c.begin = f.begin, c.lasting = f.lasting;
    if (f.when == When::between) {
      const double share = random_uniform(c.key, seed_, -1);  // no instant: those are drawn from later
      c.begin += Time(std::llround(share * static_cast<double>((*f.end - f.begin).count())));
    }
    chosen_.push_back(std::move(c));
  }
}

FaultPlayer::~FaultPlayer() = default;

void FaultPlayer::prepare(engine::PlantState& state) {
  const auto time_in = [&](program::VarId id) { return Time(std::llround(state[id] * 1e9)); };
  for (Chosen& c : chosen_) {
    const program::Fault& f = fault_of(c);
    if (f.begin_given != program::kNone) c.begin = time_in(f.begin_given);
    if (f.lasting_given != program::kNone) c.lasting = time_in(f.lasting_given);
    const std::vector<std::int32_t> taps = taps_of(f);
    for (std::size_t i = 0; i < taps.size(); ++i) {
      const auto at = static_cast<std::size_t>(taps[i]);
      const std::size_t slot = engine::add_tap(state, at);
      // The elements of a vector are drawn for each by itself.
      const std::string element = i == 0 ? f.name : fmt::format("{} {}", f.name, i + 1);
      c.places.push_back({slot, at, random_key(fnv1a("fault " + element))});
      engine::TapState& tap = state.taps[slot];
      if (f.other != program::kNone && i > 0) continue;  // it gives what the other gave
      tap.function = c.replacing.get();
      if (f.kind == program::FaultKind::delay) tap.past.resize(static_cast<std::size_t>(f.lag / program_.step) + 2);
      tap.lag = to_seconds(f.lag);
    }
  }
}

std::vector<std::int32_t> FaultPlayer::without_effect(const engine::PlantState& state) const {
  std::vector<std::int32_t> all;
  for (const Chosen& c : chosen_) {
    if (!c.acted || c.places.empty()) continue;
    const bool changed =
        std::any_of(c.places.begin(), c.places.end(), [&](const auto& p) { return state.taps[p.slot].changed; });
    if (!changed) all.push_back(c.activity->fault);
  }
  return all;
}

std::vector<const FaultActivity*> FaultPlayer::on_messages(std::int32_t controller, bool to_controller) const {
  std::vector<const FaultActivity*> all;
  for (const Chosen& c : chosen_) {
    const program::Fault& f = fault_of(c);
    if (f.controller == controller && f.to_controller == to_controller) all.push_back(c.activity.get());
  }
  return all;
}

std::vector<const FaultActivity*> FaultPlayer::on_messages(std::int32_t messages) const {
  std::vector<const FaultActivity*> all;
  for (const Chosen& c : chosen_) {
    if (fault_of(c).messages == messages) all.push_back(c.activity.get());
  }
  return all;
}

bool FaultPlayer::quick() const {
  return std::any_of(chosen_.begin(), chosen_.end(), [](const Chosen& c) { return c.quick || c.quick_until; });
}

void FaultPlayer::between(const double* image) {
  for (Chosen& c : chosen_) {
    if (c.left_out) continue;
    const bool waits = c.quick && c.armed && !c.triggered, ends = c.quick_until && c.activity->active && !c.over;
    if (!waits && !ends) continue;
    c.expressions.evaluate(image);
    if (waits) c.triggered = c.expressions.value(0) != 0;
    if (ends) c.over = c.expressions.value(2) != 0;
  }
}

/// Whether what makes the fault act is there at `next`; how long it acts is another question.
bool FaultPlayer::begins(Chosen& c, Time next) const {
  const program::Fault& f = fault_of(c);
  const bool condition = c.expressions.value(0) != 0;
  switch (f.when) {
    case When::whole_run:
      return true;
    case When::from:
      return next >= c.begin && (!f.end || next < *f.end);
    case When::between:
      return next >= c.begin;
    case When::once:
      c.triggered = c.triggered || (c.armed && condition);
      return c.triggered;
    case When::while_:
      return condition;
    case When::by_hand:
      return c.triggered;
  }
  return false;
}

bool FaultPlayer::wanted(Chosen& c, Time next) const {
  const program::Fault& f = fault_of(c);
  const bool there = begins(c, next);
  if (there && !c.there) c.since = next;
  c.there = there;
  if (!there) {
    c.over = false;  // `while` may begin again
    return false;
  }
  c.over = c.over || (c.lasting && next >= c.since + *c.lasting) || c.expressions.value(2) != 0;
  if (c.over) return false;
  return f.period.count() == 0 || (next - c.since) % f.period < f.pulse;
}

/// The amount for this instant.
double FaultPlayer::drawn(const Chosen& c, double key, Time now) const {
  const program::Fault& f = fault_of(c);
  const double seconds = to_seconds(now);
  switch (f.kind) {
    case program::FaultKind::noise:
      return c.activity->amount * random_normal(key, seed_, seconds);
    case program::FaultKind::dropout:
      return random_uniform(key, seed_, seconds) < c.activity->amount ? 1 : 0;
    case program::FaultKind::invert:
      return f.truth ? 1 : 0;
    case program::FaultKind::spikes: {
      // One in each period, at an instant of its own: it comes now if it lies after the last instant.
      const std::int64_t window = (now - c.since) / f.every;
      for (std::int64_t k = std::max<std::int64_t>(0, window - 1); k <= window; ++k) {
        const double u = random_uniform(key, seed_, static_cast<double>(k));
        const Time at =
            c.since + k * f.every + Time(static_cast<std::int64_t>(u * static_cast<double>(f.every.count())));
        if (at > c.last && at <= now) return c.activity->amount;
      }
      return 0;
    }
    default:
      return c.activity->amount;
  }
}

void FaultPlayer::heed(Chosen& c, bool inject) const {
  c.triggered = inject;
  c.there = false;  // it begins anew
  c.over = !inject && fault_of(c).when != When::by_hand;
}

Refusal FaultPlayer::arm(Chosen& c, bool on, Time now) {
  // Between two pulses it acts too; what was planned to begin now has not begun.
  const bool acts = c.activity->active || (c.there && !c.over && c.since < now);
  if (on && acts) return Refusal::acting;
  c.armed = on;
  if (acts) return Refusal::none;
  c.triggered = c.there = c.over = false;  // what it waited for may have come meanwhile, or at this very instant
  return Refusal::none;
}

Refusal FaultPlayer::command(std::int32_t fault, CommandKind what, Time now) {
  for (Chosen& c : chosen_) {
    if (c.activity->fault != fault) continue;
    if (what == CommandKind::arm || what == CommandKind::disarm) {
      if (const Refusal refusal = arm(c, what == CommandKind::arm, now); refusal != Refusal::none) return refusal;
    } else {
      heed(c, what == CommandKind::inject);
    }
    c.planned = wanted(c, now);
    return Refusal::none;
  }
  return Refusal::not_chosen;
}

void FaultPlayer::plan(const double* image, Time next, const std::vector<FaultCommand>& commands) {
  for (Chosen& c : chosen_) {
    if (c.left_out) continue;
    for (const FaultCommand& command : commands) {
      if (command.fault != c.activity->fault) continue;
      if (command.what == CommandKind::arm || command.what == CommandKind::disarm)
        arm(c, command.what == CommandKind::arm, next);  // one that acts has its trigger behind it
      else
        heed(c, command.what == CommandKind::inject);
    }
    c.expressions.evaluate(image);
    c.activity->amount = c.expressions.value(1);
    c.planned = wanted(c, next);
    if (c.replacing == nullptr) continue;  // else it is ready, whether it was planned or a command comes
    if (!c.activity->active) c.replacing->begin(image);
    c.replacing->load(image);
  }
}

void FaultPlayer::choose(FaultChoice& choice) {
  for (Chosen& c : chosen_) {
    if (!c.planned || c.asked) continue;
    c.asked = true;
    c.left_out = !choice.has(c.activity->fault);
    for (Chosen& other : chosen_) {
      if (!other.asked && !choice.may_have(other.activity->fault)) other.asked = other.left_out = true;
    }
  }
  for (Chosen& c : chosen_) c.planned = c.planned && !c.left_out;
}

void FaultPlayer::switch_to(Chosen& c, bool on, engine::PlantState& state, observe::Observer& observer) {
  const program::Fault& f = fault_of(c);
  c.activity->active = on;
  c.acted = true;
  c.activity->since = state.now;
  for (const auto& p : c.places) {
    state.taps[p.slot].begin(f.kind, to_seconds(state.now));
    state.taps[p.slot].on = on;
    engine::refresh_tap(state, p.tap);
  }
  c.last = state.now;
  state[f.active] = on ? 1 : 0;
  observer.event(
      {state.now, on ? observe::EventKind::fault_on : observe::EventKind::fault_off, c.activity->fault, 0, 0});
}

void FaultPlayer::apply(engine::PlantState& state, observe::Observer& observer) {
  for (Chosen& c : chosen_) {
    if (c.planned != c.activity->active) switch_to(c, c.planned, state, observer);
    if (!c.activity->active) continue;
    for (const auto& p : c.places) {
      state.taps[p.slot].amount = drawn(c, p.key, state.now);
      state.taps[p.slot].fresh = true;
    }
    c.last = state.now;
  }
}

}  // namespace isodyne::bench
