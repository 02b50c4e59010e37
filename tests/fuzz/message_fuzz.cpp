// What comes from outside over a port, guided by coverage: messages of the link, Modbus requests, register maps, and
// texts of MQTT. The first byte picks which.

#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <span>
#include <string>

#include "isodyne/check/load.h"
#include "isodyne/io/registers.h"
#include "isodyne/ports/link/message.h"
#include "isodyne/ports/modbus/image.h"
#include "isodyne/ports/mqtt/mqtt_port.h"

using namespace isodyne;

namespace {

const program::Program& bench() {
  static const auto program =
      check::load_bench("", "b.dyne", [](const std::string&) -> Result<std::string> {
        return std::string(
            "choice Order { none, first, second }\nbench B { step 1 ms\n input level : m = 1 m\n input wet : bool = "
            "true\n"
            " actuator gap : m\n controller c { every 1 ms reads level, wet writes gap, order : Order, n : int\n"
            " setting it = library \"x\" }\n}\n");
      }).program;
  if (program == nullptr) std::abort();
  return *program;
}

void registers(std::span<const std::uint8_t> bytes) {
  static ports::modbus::RegisterImage image(io::default_registers(bench(), bench().controllers.front()));
  const int refused = image.refusal(bytes);
  if (refused < 0 || refused > 11) std::abort();
  double writes[3] = {};
  if (!image.get_writes(writes)) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const std::span bytes(data + 1, size - 1);
  const std::string text(bytes.begin(), bytes.end());
  switch (data[0] % 4) {
    case 0: {
      ports::link::Message m;
      if (ports::link::read(std::as_bytes(bytes), m) != ports::link::Reading::good) break;
      if (m.payload.size() + ports::link::kHeadBytes != bytes.size()) std::abort();
      break;
    }
    case 1:
      registers(bytes);
      break;
    case 2: {
      const auto map = io::read_registers(text, "m.csv", bench(), bench().controllers.front());
      if (map && map->tags.empty()) std::abort();  // what the controller writes must be there
      break;
    }
    default: {
      ports::MqttPort::Value v;
      v.boolean = size % 3 == 0;
      if (size % 3 == 1) v.labels = {"none", "first"};
      const auto value = ports::MqttPort::value_of(v, text);
      if (value && !std::isfinite(*value)) std::abort();
    }
  }
  return 0;
}
