#pragma once
// A controller that is written in the language: a small program of its own, stepped once an exchange.
//
// Where it writes gates it makes its step as soon as it has been asked, because the edges of that step belong to the
// answer: they come one period later, as all of it does.

#include "isodyne/engine/running_plant.h"
#include "isodyne/ports/controller_port.h"

namespace isodyne::ports {

class PartPort : public ControllerPort {
 public:
  /// `logic` as program::Setting has it. Names of inputs and outputs are those of the controller's reads and writes.
  PartPort(const program::Program& bench, const program::Controller& controller,
           std::shared_ptr<const program::Program> logic, const engine::NetworkMaker& networks, std::uint64_t seed);

  Status open(Time period) override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  const double* logic_values() const override { return state_.values.data(); }
  bool can_be_copied() const override { return true; }
  void close() override {}

 private:
  Status step();
  Status give_edges(Time begin, std::span<double> writes) const;

  /// A gate that it writes: where its edges go in the answer, and which of the logic's gates it is.
  struct Edges {
    std::size_t place = 0;
    std::size_t gate = 0;
  };
  std::string name_;
  std::shared_ptr<const program::Program> logic_;
  engine::RunningPlant plant_;
  engine::PlantState state_;
  std::vector<program::VarId> inputs_, outputs_;  ///< per read, kNone where the logic does not look; per write
  std::vector<Edges> edges_;
  std::uint64_t seed_;
  bool stepped_ = true;  ///< it stands at the instant of the next exchange
};

}  // namespace isodyne::ports
