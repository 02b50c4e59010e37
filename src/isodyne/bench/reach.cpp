#include "isodyne/bench/reach.h"

namespace isodyne::bench {

namespace {
std::vector<program::NodeId> conditions_of(const program::Program& program) {
  std::vector<program::NodeId> nodes;
  for (const program::Fault& f : program.faults) nodes.push_back(f.condition);
  return nodes;
}
}  // namespace

TriggerWatch::TriggerWatch(const program::Program& program)
    : program_(program), conditions_(program, conditions_of(program)), reached_(program.faults.size()) {}

void TriggerWatch::image(const observe::Image& image) {
  using When = program::Fault::When;
  conditions_.evaluate(image.variables);
  for (std::size_t i = 0; i < reached_.size(); ++i) {
    const program::Fault& f = program_.faults[i];
    const bool comes = f.when == When::whole_run ||
                       ((f.when == When::from || f.when == When::between) && image.at >= f.begin) ||
                       (f.condition != program::kNone && conditions_.value(i) != 0);
    if (comes && !reached_[i]) reached_[i] = image.at;
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
