#include "isodyne/ports/part/part_port.h"

#include <cmath>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

PartPort::PartPort(const program::Program& bench, const program::Controller& controller,
                   std::shared_ptr<const program::Program> logic, const engine::NetworkMaker& networks,
                   std::uint64_t seed)
    : name_(controller.name), logic_(std::move(logic)), plant_(logic_, networks), seed_(seed) {
  std::unordered_map<std::string, program::VarId> ids;
  for (const program::VarId id : logic_->listed) ids.emplace(logic_->variable(id).name, id);
  for (const program::VarId read : controller.reads) {
    const auto found = ids.find(program::own_name(controller, read, bench.variable(read).name));
    inputs_.push_back(found == ids.end() ? program::kNone : logic_->writable(found->second));
  }
  for (const program::ControllerWrite& w : controller.writes) {
    outputs_.push_back(ids.at("it." + program::own_name(controller, w.value, bench.variable(w.value).name)));
    const std::int32_t gate = w.edges == 0 ? program::kNone : logic_->gate_of(outputs_.back());
    if (gate != program::kNone) edges_.push_back({w.edges, static_cast<std::size_t>(gate)});
  }
}

Status PartPort::open(Time) {
  state_ = plant_.start({});
  state_[program::kSeed] = random_key(seed_);
  stepped_ = true;
  return Done{};
}

Status PartPort::step() {
  stepped_ = true;
  const engine::PlantTrouble trouble = plant_.step(state_);
  if (trouble.kind == engine::PlantTrouble::Kind::none) return Done{};
  const bool network = trouble.kind == engine::PlantTrouble::Kind::network;
  return Failure{fmt::format("controller `{}`", name_), "",
                 fmt::format("its logic cannot go on after {}{}", format_instant(state_.now),
                             network ? ": " + plant_.networks().why_not(trouble.index) : "")};
}

/// Those of the step that was made, after its beginning.
Status PartPort::give_edges(Time begin, std::span<double> writes) const {
  for (const Edges& e : edges_) {
    std::size_t count = 0;
    engine::Gates::each(state_.network.gates[e.gate], begin, state_.now, [&](Time at, bool) {
      if (++count <= program::kMostAnswerEdges) writes[e.place + count] = static_cast<double>((at - begin).count());
    });
    writes[e.place] = static_cast<double>(count);
    if (count > program::kMostAnswerEdges)
      return Failure{fmt::format("controller `{}`", name_), "",
                     fmt::format("its gate `{}` has {} edges in a period of {}, and an answer holds {}",
                                 logic_->variable(logic_->gates[e.gate].id).name, count, format_span(logic_->step),
                                 program::kMostAnswerEdges)};
  }
  return Done{};
}

Status PartPort::exchange(Time, std::span<const double> reads, std::span<double> writes) {
  if (!stepped_) {
    if (Status stepped = step(); !stepped) return stepped;
  }
  for (std::size_t i = 0; i < reads.size(); ++i) {
    if (inputs_[i] != program::kNone) state_[inputs_[i]] = reads[i];
  }
  plant_.settle(state_);
  plant_.solve(state_);  // outputs that follow from what was assigned just now
  stepped_ = false;
  for (std::size_t i = 0; i < outputs_.size(); ++i) {
    writes[i] = state_[outputs_[i]];
    if (std::isfinite(writes[i])) continue;
    return Failure{fmt::format("controller `{}`", name_), "",
                   fmt::format("its logic gives {} for `{}`", writes[i], logic_->variable(outputs_[i]).name)};
  }
  if (edges_.empty()) return Done{};
  const Time begin = state_.now;
  if (Status stepped = step(); !stepped) return stepped;
  return give_edges(begin, writes);
}

std::unique_ptr<ControllerPort> make_part(const PortOrder& o) {
  return std::make_unique<PartPort>(o.program, o.controller, o.setting.logic, o.place.networks, o.place.seed);
}

}  // namespace isodyne::ports
