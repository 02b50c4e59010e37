#include "isodyne/bench/faults.h"

namespace isodyne::bench {

using When = model::Fault::When;

FaultPlayer::FaultPlayer(const model::Program& program, const std::vector<std::int32_t>& chosen) : program_(program) {
  for (const std::int32_t index : chosen) {
    const model::Fault& f = program.faults[static_cast<std::size_t>(index)];
    chosen_.push_back({index, engine::Evaluator(program, {f.condition, f.amount}), false, false, false, {}, 0});
  }
}

bool FaultPlayer::wanted(Chosen& c, Time next) const {
  const model::Fault& f = program_.faults[static_cast<std::size_t>(c.fault)];
  const bool condition = c.expressions.value(0) != 0;
  switch (f.when) {
    case When::whole_run:
      return true;
    case When::from:
      return next >= f.begin && (!f.end || next < *f.end);
    case When::once:
      if (!c.triggered && condition) {
        c.triggered = true;
        c.since = next;
      }
      return c.triggered && (!f.lasting || next < c.since + *f.lasting);
    case When::while_:
      return condition;
  }
  return false;
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
      tap = engine::TapState{};
      tap.active = c.active;
      tap.kind = f.kind;
      tap.since = to_seconds(state.now);
      state[f.active] = c.active ? 1 : 0;
      observer.event({state.now, c.active ? EventKind::fault_on : EventKind::fault_off, c.fault, 0, 0});
    }
    tap.amount = c.amount;
  }
}

}  // namespace isodyne::bench
