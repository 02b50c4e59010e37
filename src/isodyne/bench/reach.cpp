#include "isodyne/bench/reach.h"
#include "isodyne/program/quick.h"

namespace isodyne::bench {

namespace {
std::vector<program::NodeId> conditions_of(const program::Program& program) {
  std::vector<program::NodeId> nodes;
  for (const program::Fault& f : program.faults) nodes.push_back(f.condition);
  return nodes;
}
}  // namespace

TriggerWatch::TriggerWatch(const program::Program& program)
    : program_(program),
      conditions_(program, conditions_of(program)),
      between_(program, program::quick_view(program)),
      reached_(program.faults.size()) {}

void TriggerWatch::image(const observe::Image& image) {
  look(image.at, between_.image(image.variables));
}

/// What is triggered once may come and go between two instants of the bench; all else acts at those.
void TriggerWatch::rows(const observe::Rows& rows) {
  for (std::size_t r = 0; r < rows.count; ++r) {
    conditions_.evaluate(between_.row(to_seconds(rows.at(r)), rows.row(r)));
    for (std::size_t i = 0; i < reached_.size(); ++i) {
      const bool once = program_.faults[i].when == program::Fault::When::once;
      if (once && conditions_.value(i) != 0 && !reached_[i]) reached_[i] = rows.at(r);
    }
  }
}

void TriggerWatch::look(Time at, const double* variables) {
  using Begins = program::Fault::When;
  conditions_.evaluate(variables);
  for (std::size_t i = 0; i < reached_.size(); ++i) {
    const program::Fault& f = program_.faults[i];
    const bool comes = f.when == Begins::whole_run ||
                       ((f.when == Begins::from || f.when == Begins::between) && at >= f.begin) ||
                       (f.condition != program::kNone && conditions_.value(i) != 0);
    if (comes && !reached_[i]) reached_[i] = at;
  }
}

void TriggerWatch::event(const observe::Event& e) {
  if (e.kind != observe::EventKind::action) return;
  const program::ScenarioStep& step =
      program_.scenarios[static_cast<std::size_t>(e.detail)].steps[static_cast<std::size_t>(e.subject)];
  if (step.kind != program::ScenarioStep::Kind::inject) return;
  auto& reached = reached_[static_cast<std::size_t>(step.fault)];
  if (!reached) reached = e.at;
}

}  // namespace isodyne::bench
