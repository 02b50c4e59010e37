#pragma once
// What carries the messages of a link: shared memory, a Unix socket, or UDP. A transport keeps messages whole and
// promises nothing else.

#include <chrono>
#include <cstddef>
#include <memory>
#include <span>
#include <string>

#include "isodyne/core/descriptor.h"
#include "isodyne/core/result.h"

namespace isodyne::ports::link {

class Transport {
 public:
  virtual ~Transport() = default;

  /// Sends one message to whoever is at the other end; nobody being there is no failure.
  virtual void send(std::span<const std::byte> message) = 0;
  /// The next message, valid until the next call; empty after `within` without one. Zero: looks and does not wait.
  virtual std::span<const std::byte> receive(std::chrono::nanoseconds within) = 0;
  /// The sender of the last message is the one at the other end from now on.
  virtual void keep_sender() {}
  /// Whether the last message came from the one at the other end.
  virtual bool from_kept() const { return true; }
  /// Sends to the sender of the last message, whoever it was.
  virtual void reply(std::span<const std::byte> message) { send(message); }
  /// Whether the other end has closed, where that can be seen.
  virtual bool closed() const { return false; }
};

struct Pair {
  std::unique_ptr<Transport> ours;
  Descriptor theirs;  ///< for the child
};

/// Memory that is shared with a child; `theirs` is the file of it. `most` is the largest message, bytes. How long a
/// reader looks before it sleeps is `spin`.
Result<Pair> shared_memory(std::size_t most, std::chrono::nanoseconds spin = std::chrono::microseconds(50));
/// The other end of such a memory, as a controller has it: for tests and benchmarks.
Result<std::unique_ptr<Transport>> shared_memory_of(int file,
                                                    std::chrono::nanoseconds spin = std::chrono::microseconds(50));

/// A pair of connected Unix sockets that keep messages whole.
Result<Pair> socket_pair();

/// A UDP socket bound to "host:port"; a port alone binds to the loopback address. `bound` receives what it is bound
/// to: port 0 is any free one.
Result<std::unique_ptr<Transport>> udp_server(const std::string& address, std::string& bound);

}  // namespace isodyne::ports::link
