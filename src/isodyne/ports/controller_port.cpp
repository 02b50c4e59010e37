#include "isodyne/ports/controller_port.h"

#include <fmt/format.h>

namespace isodyne::ports {

const char* standing_word(Standing standing) {
  switch (standing) {
    case Standing::offline:
      return "offline";
    case Standing::answering:
      return "answering";
    case Standing::ready:
      return "ready";
    case Standing::running:
      return "running";
  }
  return "?";
}

Status bring_up(ControllerPort& port, Time period, std::span<const double> reads, std::span<const double> writes,
                std::chrono::nanoseconds within) {
  const Status opened = port.open(period);
  if (!opened) return opened;
  const auto until = ControllerPort::Wall::now() + within;
  for (;;) {
    const auto standing = port.look(reads, writes);
    if (!standing) return standing.failure();
    if (*standing == Standing::ready) return port.begin();
    if (ControllerPort::Wall::now() < until) continue;
    const std::string missing = port.missing();
    return Failure{"the controller did not become ready", "",
                   fmt::format("it is {}{}{}", standing_word(*standing), missing.empty() ? "" : ": ", missing)};
  }
}

}  // namespace isodyne::ports
