#pragma once
// The bench as a Modbus client: the controller is a server, and each exchange writes its inputs and reads its outputs.

#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/modbus/image.h"
#include "isodyne/ports/modbus/line.h"

namespace isodyne::ports {

class ModbusClientPort : public ControllerPort {
 public:
  ModbusClientPort(std::string name, io::RegisterMap map, modbus::Line line, std::chrono::nanoseconds answer_within);

  Pace pace() const override { return Pace::waits; }
  Status open(Time period) override;
  Result<Standing> look(std::span<const double> reads, std::span<const double> writes) override;
  std::string missing() const override { return missing_; }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  Traffic traffic() const override { return traffic_; }
  void close() override;

 private:
  /// Neighbouring places of one table that go in one request.
  struct Block {
    io::RegisterTable table = io::RegisterTable::holding;
    int first = 0, count = 0;
    bool into_controller = true;
  };
  void plan_blocks();
  bool connect();
  bool carry(const Block& block);
  bool all();

  std::string name_;
  modbus::Line line_;
  std::chrono::nanoseconds answer_within_;
  modbus::RegisterImage image_;
  modbus::Context context_;
  bool connected_ = false;
  std::vector<Block> blocks_;
  std::string missing_;
  Traffic traffic_;
};

}  // namespace isodyne::ports
