#pragma once
// What Modbus goes over: TCP, or a serial line.

#include <memory>
#include <string>

#include <modbus.h>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::ports::modbus {

struct Line {
  std::string address;  ///< "host:port", or the file of a serial line
  int unit = 1;
  int rate = 19200;
  program::Setting::Parity parity = program::Setting::Parity::even;

  bool serial() const { return address.starts_with("/"); }
};

using Context = std::unique_ptr<modbus_t, void (*)(modbus_t*)>;

/// A context that is not connected yet; null pointer if there is no memory. Waits 200 ms for the rest of a message.
Context context_of(const Line& line);

}  // namespace isodyne::ports::modbus
