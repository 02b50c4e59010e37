#include "isodyne/bench/reach.h"

namespace isodyne::bench {

namespace {
std::vector<model::NodeId> conditions_of(const model::Program& program) {
  std::vector<model::NodeId> nodes;
  for (const model::Fault& f : program.faults) nodes.push_back(f.condition);
  return nodes;
}
}  // namespace

TriggerWatch::TriggerWatch(const model::Program& program)
    : program_(program), conditions_(program, conditions_of(program)), reached_(program.faults.size()) {}

void TriggerWatch::image(const Image& image) {
  using When = model::Fault::When;
  conditions_.evaluate(image.variables);
  for (std::size_t i = 0; i < reached_.size(); ++i) {
    const model::Fault& f = program_.faults[i];
    const bool comes = f.when == When::whole_run ||
                       ((f.when == When::from || f.when == When::between) && image.at >= f.begin) ||
                       (f.condition != model::kNone && conditions_.value(i) != 0);
    if (comes && !reached_[i]) reached_[i] = image.at;
  }
}

void TriggerWatch::event(const Event& e) {
  if (e.kind != EventKind::action) return;
  const model::ScenarioStep& step =
      program_.scenarios[static_cast<std::size_t>(e.detail)].steps[static_cast<std::size_t>(e.subject)];
  if (step.kind != model::ScenarioStep::Kind::inject) return;
  auto& reached = reached_[static_cast<std::size_t>(step.fault)];
  if (!reached) reached = e.at;
}

}  // namespace isodyne::bench
