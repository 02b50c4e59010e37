#pragma once
// From a setting of a bench to the port that it names.

#include <functional>

#include "isodyne/engine/network.h"
#include "isodyne/io/registers.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/library/foreign_calls.h"
#include "isodyne/program/program.h"

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
  engine::NetworkMaker networks{};  ///< who solves what a `part` has of networks and modulators
};

/// The register map of a Modbus setting; a Failure names every mistake in it.
Result<io::RegisterMap> map_of(const program::Program& program, const program::Controller& controller,
                               const program::Setting& setting, const PortPlace& place);

/// A port that is to be made.
struct PortOrder {
  const program::Program& program;
  const program::Controller& controller;
  const program::Setting& setting;
  const PortPlace& place;
};

// One for each kind of program/port_kinds.def, in the folder of its port.
#define PORT(id, words, at, pace, clauses) std::unique_ptr<ControllerPort> make_##id(const PortOrder& order);
#include "isodyne/program/port_kinds.def"
#undef PORT

/// One that fails when it is opened, as any other port does that cannot be used.
std::unique_ptr<ControllerPort> useless_port(Failure why);

std::unique_ptr<ControllerPort> make_port(const program::Program& program, const program::Controller& controller,
                                          const program::Setting& setting, const PortPlace& place);

}  // namespace isodyne::ports
