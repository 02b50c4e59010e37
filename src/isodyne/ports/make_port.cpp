#include "isodyne/ports/make_port.h"

#include <filesystem>

#include "isodyne/ports/library/library_port.h"
#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/modbus/client_port.h"
#include "isodyne/ports/modbus/server_port.h"
#include "isodyne/ports/mqtt/mqtt_port.h"
#include "isodyne/ports/part/part_port.h"
#include "isodyne/ports/program/program_port.h"

namespace isodyne::ports {

namespace {

/// A map that cannot be used is told when the port is opened, as any other failure of a port.
class UselessPort : public ControllerPort {
 public:
  explicit UselessPort(Failure why) : why_(std::move(why)) {}
  Status open(Time) override { return why_; }
  Status exchange(Time, std::span<const double>, std::span<double>) override { return why_; }
  void close() override {}

 private:
  Failure why_;
};

std::unique_ptr<ControllerPort> modbus_port(const model::Program& program, const model::Controller& c,
                                            const model::Setting& s, const PortPlace& place) {
  auto map = map_of(program, c, s, place);
  if (!map) return std::make_unique<UselessPort>(map.failure());
  const modbus::Line line{s.address, s.unit, s.rate, s.parity};
  if (s.kind == model::Setting::Kind::modbus_client)
    return std::make_unique<ModbusClientPort>(c.name, std::move(*map), line, place.answer_within);
  return std::make_unique<ModbusServerPort>(c.name, std::move(*map), c.reads.size(), c.writes.size(), line,
                                            place.answer_within);
}

std::vector<model::VarId> written_by(const model::Controller& c) {
  std::vector<model::VarId> ids;
  for (const model::ControllerWrite& w : c.writes) ids.push_back(w.value);
  return ids;
}

std::vector<MqttPort::Value> mqtt_values(const model::Program& program, const std::vector<model::VarId>& ids) {
  std::vector<MqttPort::Value> values;
  for (const model::VarId id : ids) {
    const model::Variable& v = program.variable(id);
    MqttPort::Value value;
    value.name = v.name;
    value.unit = v.unit;
    value.boolean = v.type.kind == model::Type::Kind::boolean;
    value.whole = v.type.kind == model::Type::Kind::integer;
    if (v.type.kind == model::Type::Kind::choice)
      value.labels = program.choices[static_cast<std::size_t>(v.type.choice)].labels;
    values.push_back(std::move(value));
  }
  return values;
}

}  // namespace

Result<io::RegisterMap> map_of(const model::Program& program, const model::Controller& c, const model::Setting& s,
                               const PortPlace& place) {
  const std::string file = (std::filesystem::path(place.folder) / s.map).string();
  const auto text = place.read_file(file);
  if (!text) return text.failure();
  return io::read_registers(*text, file, program, c);
}

std::unique_ptr<ControllerPort> make_port(const model::Program& program, const model::Controller& c,
                                          const model::Setting& s, const PortPlace& place) {
  using Kind = model::Setting::Kind;
  switch (s.kind) {
    case Kind::part:
      return std::make_unique<PartPort>(program, c, s.logic, place.seed);
    case Kind::library:
      return std::make_unique<LibraryPort>(c.name, layout_of(program, c), place.folder, s.address, *place.calls);
    case Kind::program: {
      ProgramPort::Plan plan;
      plan.command = s.address;
      plan.folder = place.folder;
      // The program runs in the folder of the bench, but what it prints belongs to the run.
      if (!place.logs.empty()) plan.log = (std::filesystem::absolute(place.logs) / (c.name + ".log")).string();
      plan.over_socket = s.over_socket;
      plan.restarts = s.restarts;
      plan.ready_within = s.ready_within;
      plan.link = {"", place.answer_within, place.paced};
      return std::make_unique<ProgramPort>(c.name, layout_of(program, c), plan);
    }
    case Kind::link:
      return std::make_unique<LinkPort>(c.name, layout_of(program, c),
                                        LinkPort::Plan{s.address, place.answer_within, place.paced});
    case Kind::modbus_server:
    case Kind::modbus_client:
      return modbus_port(program, c, s, place);
    case Kind::mqtt:
      break;
  }
  return std::make_unique<MqttPort>(
      c.name, MqttPort::Plan{s.address, s.topic, s.grouped, place.answer_within, mqtt_values(program, c.reads),
                             mqtt_values(program, written_by(c))});
}

}  // namespace isodyne::ports
