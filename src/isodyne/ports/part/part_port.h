#pragma once
// A controller that is written in the language: a small program of its own, stepped once an exchange.

#include "isodyne/engine/running_plant.h"
#include "isodyne/ports/controller_port.h"

namespace isodyne::ports {

class PartPort : public ControllerPort {
 public:
  /// `logic` as program::Setting has it. Names of inputs and outputs are those of the controller's reads and writes.
  PartPort(const program::Program& bench, const program::Controller& controller,
           std::shared_ptr<const program::Program> logic, std::uint64_t seed);

  Status open(Time period) override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  void close() override {}

 private:
  std::string name_;
  std::shared_ptr<const program::Program> logic_;
  engine::RunningPlant plant_;
  engine::PlantState state_;
  std::vector<program::VarId> inputs_, outputs_;  ///< per read, kNone where the logic does not look; per write
  std::uint64_t seed_;
  bool first_ = true;
};

}  // namespace isodyne::ports
