#include "isodyne/ports/make_port.h"

#include <filesystem>

#include "isodyne/ports/library/library_port.h"
#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/part/part_port.h"
#include "isodyne/ports/program/program_port.h"

namespace isodyne::ports {

std::unique_ptr<ControllerPort> make_port(const model::Program& program, const model::Controller& c,
                                          const model::Setting& s, const PortPlace& place) {
  using Kind = model::Setting::Kind;
  switch (s.kind) {
    case Kind::part:
      return std::make_unique<PartPort>(program, c, s.logic, place.seed);
    case Kind::library:
      return std::make_unique<LibraryPort>(c.name, layout_of(program, c), place.folder, s.address, *place.guard);
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
    case Kind::mqtt:
      break;
  }
  return nullptr;
}

}  // namespace isodyne::ports
