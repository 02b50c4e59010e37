#include "isodyne/ports/part/part_port.h"

#include <cmath>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

PartPort::PartPort(const program::Program& bench, const program::Controller& controller,
                   std::shared_ptr<const program::Program> logic, std::uint64_t seed)
    : name_(controller.name), logic_(std::move(logic)), plant_(logic_), seed_(seed) {
  std::unordered_map<std::string, program::VarId> ids;
  for (const program::VarId id : logic_->listed) ids.emplace(logic_->variable(id).name, id);
  for (const program::VarId read : controller.reads) {
    const auto found = ids.find(program::own_name(controller, bench.variable(read).name));
    inputs_.push_back(found == ids.end() ? program::kNone : logic_->writable(found->second));
  }
  for (const program::ControllerWrite& w : controller.writes)
    outputs_.push_back(ids.at("it." + program::own_name(controller, bench.variable(w.value).name)));
}

Status PartPort::open(Time) {
  state_ = plant_.start({});
  state_[program::kSeed] = random_key(seed_);
  first_ = true;
  return Done{};
}

Status PartPort::exchange(Time now, std::span<const double> reads, std::span<double> writes) {
  const auto take = [&] {
    for (std::size_t i = 0; i < reads.size(); ++i) {
      if (inputs_[i] != program::kNone) state_[inputs_[i]] = reads[i];
    }
  };
  if (!first_) {
    const engine::PlantTrouble trouble = plant_.step(state_);
    if (trouble.kind != engine::PlantTrouble::Kind::none)
      return Failure{fmt::format("controller `{}`", name_), "",
                     fmt::format("its logic cannot go on after {}", format_instant(state_.now))};
  }
  first_ = false;
  take();
  plant_.settle(state_);
  plant_.solve(state_);  // outputs that follow from what was assigned just now
  (void)now;
  for (std::size_t i = 0; i < writes.size(); ++i) {
    writes[i] = state_[outputs_[i]];
    if (std::isfinite(writes[i])) continue;
    return Failure{fmt::format("controller `{}`", name_), "",
                   fmt::format("its logic gives {} for `{}`", writes[i], logic_->variable(outputs_[i]).name)};
  }
  return Done{};
}

std::unique_ptr<ControllerPort> make_part(const PortOrder& o) {
  return std::make_unique<PartPort>(o.program, o.controller, o.setting.logic, o.place.seed);
}

}  // namespace isodyne::ports
