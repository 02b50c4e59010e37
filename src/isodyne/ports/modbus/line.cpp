#include "isodyne/ports/modbus/line.h"

#include "isodyne/ports/peer.h"

namespace isodyne::ports::modbus {

Context context_of(const Line& line) {
  constexpr std::uint32_t kPatience = 200'000;  // us
  modbus_t* made = nullptr;
  if (line.serial()) {
    using Parity = program::Setting::Parity;
    const char parity = line.parity == Parity::none ? 'N' : line.parity == Parity::odd ? 'O' : 'E';
    // Without parity there are two stop bits (Modbus over serial line V1.02, 2.5.1).
    made = modbus_new_rtu(line.address.c_str(), line.rate, parity, 8, parity == 'N' ? 2 : 1);
  } else {
    const HostPort peer = host_and_port(line.address);
    made = modbus_new_tcp_pi(peer.host.c_str(), std::to_string(peer.port).c_str());
  }
  Context context(made, [](modbus_t* m) {
    if (m != nullptr) modbus_free(m);
  });
  if (made == nullptr) return context;
  modbus_set_slave(made, line.unit);
  modbus_set_byte_timeout(made, 0, kPatience);
  modbus_set_response_timeout(made, 0, 1000);  // of a server: how long it would wait before it refuses
  return context;
}

}  // namespace isodyne::ports::modbus
