#include "isodyne/bench/faults.h"

#include <algorithm>
#include <cmath>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"

namespace isodyne::bench {

using When = model::Fault::When;

FaultPlayer::FaultPlayer(const model::Program& program, const std::vector<std::int32_t>& chosen, std::uint64_t seed)
    : program_(program), seed_(random_key(seed)) {
  for (const std::int32_t index : chosen) {
    const model::Fault& f = program.faults[static_cast<std::size_t>(index)];
    Chosen c{index, engine::Evaluator(program, {f.condition, f.amount, f.until})};
    c.key = random_key(fnv1a("fault " + f.name));
    c.begin = f.begin;
    if (f.when == When::between) {
      const double share = random_uniform(c.key, seed_, -1);  // no instant: those are drawn from later
      c.begin += Time(std::llround(share * static_cast<double>((*f.end - f.begin).count())));
    }
    chosen_.push_back(std::move(c));
  }
}

void FaultPlayer::prepare(engine::PlantState& state) const {
  for (const Chosen& c : chosen_) {
    const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
    if (f.kind != model::FaultKind::delay) continue;
    engine::TapState& tap = state.taps[static_cast<std::size_t>(f.tap)];
    tap.past.resize(static_cast<std::size_t>(f.lag / program_.step) + 2);
    tap.lag = to_seconds(f.lag);
  }
}

/// Whether what makes the fault act is there at `next`; how long it acts is another question.
bool FaultPlayer::begins(Chosen& c, Time next) const {
  const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
  const bool condition = c.expressions.value(0) != 0;
  switch (f.when) {
    case When::whole_run:
      return true;
    case When::from:
      return next >= f.begin && (!f.end || next < *f.end);
    case When::between:
      return next >= c.begin;
    case When::once:
      c.triggered = c.triggered || condition;
      return c.triggered;
    case When::while_:
      return condition;
  }
  return false;
}

bool FaultPlayer::wanted(Chosen& c, Time next) const {
  const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
  const bool there = begins(c, next);
  if (there && !c.there) c.since = next;
  c.there = there;
  if (!there) {
    c.over = false;  // `while` may begin again
    return false;
  }
  c.over = c.over || (f.lasting && next >= c.since + *f.lasting) || c.expressions.value(2) != 0;
  if (c.over) return false;
  return f.period.count() == 0 || (next - c.since) % f.period < f.pulse;
}

/// The amount for this instant.
double FaultPlayer::drawn(Chosen& c, Time now) const {
  const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
  const double seconds = to_seconds(now);
  switch (f.kind) {
    case model::FaultKind::noise:
      return c.amount * random_normal(c.key, seed_, seconds);
    case model::FaultKind::dropout:
      return random_uniform(c.key, seed_, seconds) < c.amount ? 1 : 0;
    case model::FaultKind::invert:
      return f.truth ? 1 : 0;
    case model::FaultKind::spikes: {
      // One in each period, at an instant of its own: it comes now if it lies after the last instant.
      const std::int64_t window = (now - c.since) / f.every;
      for (std::int64_t k = std::max<std::int64_t>(0, window - 1); k <= window; ++k) {
        const double u = random_uniform(c.key, seed_, static_cast<double>(k));
        const Time at =
            c.since + k * f.every + Time(static_cast<std::int64_t>(u * static_cast<double>(f.every.count())));
        if (at > c.last && at <= now) return c.amount;
      }
      return 0;
    }
    default:
      return c.amount;
  }
}

void FaultPlayer::plan(const double* image, Time next) {
  for (Chosen& c : chosen_) {
    c.expressions.evaluate(image);
    c.amount = c.expressions.value(1);
    c.planned = wanted(c, next);
  }
}

void FaultPlayer::apply(engine::PlantState& state, Observer& observer) {
  for (Chosen& c : chosen_) {
    const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
    engine::TapState& tap = state.taps[static_cast<std::size_t>(f.tap)];
    if (c.planned != c.active) {
      c.active = c.planned;
      tap.begin(f.kind, to_seconds(state.now));
      tap.active = c.active;
      c.last = state.now;
      state[f.active] = c.active ? 1 : 0;
      observer.event({state.now, c.active ? EventKind::fault_on : EventKind::fault_off, c.fault, 0, 0});
    }
    if (!c.active) continue;
    tap.amount = drawn(c, state.now);
    tap.fresh = true;
    c.last = state.now;
  }
}

}  // namespace isodyne::bench
