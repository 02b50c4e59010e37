#pragma once
// Where a controller is. One implementation per kind of place; the plant never knows which.

#include <memory>
#include <span>
#include <string>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/ports/layout.h"

namespace isodyne::ports {

class ControllerPort {
 public:
  virtual ~ControllerPort() = default;

  /// Brings the controller to where it can be exchanged with.
  virtual Status start(Time period) = 0;
  /// One exchange: `reads` in the order of the controller's reads (SI); fills `writes` likewise.
  virtual Status exchange(Time now, std::span<const double> reads, std::span<double> writes) = 0;
  /// Ends the controller; not called after a failed start or exchange.
  virtual void close() = 0;
};

}  // namespace isodyne::ports
