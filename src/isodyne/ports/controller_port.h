#pragma once
// Where a controller is. One implementation per kind of place, each in a folder of its own; the plant never knows
// which.
//
// A controller comes up in four steps: offline → answering → ready → running. open() begins, look() tells how far it
// is, begin() is the start command. All functions are called by one thread at a time.

#include <chrono>
#include <cstdint>
#include <memory>
#include <span>
#include <string>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/ports/struct_layout.h"

namespace isodyne::ports {

using program::Pace;

enum class Standing { offline, answering, ready, running };
const char* standing_word(Standing standing);

/// What went over a port since it was opened.
struct Traffic {
  std::int64_t sent = 0, received = 0;  ///< messages, or requests that were answered
  std::int64_t lost = 0;                ///< without an answer in time, so that they were sent again or given up
  std::int64_t duplicated = 0, reordered = 0, corrupted = 0;
  std::int64_t refused = 0;  ///< malformed, of a stranger, or for what does not exist
  std::int64_t restarts = 0;
  std::int64_t away = 0;  ///< times that a broker or a connection was gone
  bool any() const { return sent + received > 0; }
  bool operator==(const Traffic&) const = default;
};

class ControllerPort {
 public:
  using Wall = std::chrono::steady_clock;
  static std::int64_t now_ns() { return Wall::now().time_since_epoch().count(); }

  virtual ~ControllerPort() = default;

  virtual Pace pace() const { return Pace::direct; }

  /// Opens what the controller is reached by; starts it, where that is the port's job.
  virtual Status open(Time period) = 0;
  /// During start-up: how far the controller is. `reads` are the values of the plant's start, `writes` those that hold
  /// until the controller gives others. Returns within about 10 ms; a Failure says that it will never be ready.
  virtual Result<Standing> look(std::span<const double> reads, std::span<const double> writes) {
    (void)reads, (void)writes;
    return Standing::ready;
  }
  /// What is still missing, for a message: "nobody has connected to 127.0.0.1:1502".
  virtual std::string missing() const { return {}; }
  /// The start command: everybody is ready.
  virtual Status begin() { return Done{}; }

  /// One exchange: `reads` in the order of the controller's reads (SI); fills `writes` likewise.
  virtual Status exchange(Time now, std::span<const double> reads, std::span<double> writes) = 0;

  /// Of Pace::free: when the controller was last heard of.
  virtual Wall::time_point heard() const { return Wall::now(); }
  virtual Traffic traffic() const { return {}; }
  /// How many times it was started again; may be asked from another thread during an exchange.
  virtual std::int64_t restarts() const { return 0; }

  /// Of logic in the language: its quantities as they are now, in the order of its own program. Else null.
  virtual const double* logic_values() const { return nullptr; }

  /// Whether all that the controller remembers is in the memory of this process, so that a copy of the process has a
  /// controller of its own, in the same state. After open().
  virtual bool can_be_copied() const { return false; }
  /// In such a copy.
  virtual Status copied() { return Done{}; }

  /// Ends the controller. Also after a failure.
  virtual void close() = 0;
};

/// open(), look() until ready for at most `within`, begin().
Status bring_up(ControllerPort& port, Time period, std::span<const double> reads, std::span<const double> writes,
                std::chrono::nanoseconds within);

}  // namespace isodyne::ports
