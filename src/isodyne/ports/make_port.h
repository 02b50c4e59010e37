#pragma once
// From a setting of a bench to the port that it names.

#include <functional>

#include "isodyne/io/registers.h"
#include "isodyne/model/program.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/library/foreign_calls.h"

namespace isodyne::ports {

/// What a port needs to know beside its setting.
struct PortPlace {
  std::string folder;  ///< of the bench; files are relative to it
  std::string logs;    ///< where programs leave what they print; empty: nowhere
  std::function<Result<std::string>(const std::string& file)> read_file;
  ForeignCalls* calls = nullptr;  ///< for code in this process; outlives the port
  std::chrono::nanoseconds answer_within = std::chrono::seconds(1);
  bool paced = false;
  std::uint64_t seed = 1;
};

/// The register map of a Modbus setting; a Failure names every mistake in it.
Result<io::RegisterMap> map_of(const model::Program& program, const model::Controller& controller,
                               const model::Setting& setting, const PortPlace& place);

std::unique_ptr<ControllerPort> make_port(const model::Program& program, const model::Controller& controller,
                                          const model::Setting& setting, const PortPlace& place);

}  // namespace isodyne::ports
