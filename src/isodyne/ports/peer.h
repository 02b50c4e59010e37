#pragma once
// "host:port" to an address and back. A port alone is one of this machine's loopback address.

#include <string>

#include <sys/socket.h>

#include "isodyne/core/result.h"

namespace isodyne::ports {

struct Peer {
  sockaddr_storage address{};
  socklen_t bytes = 0;

  sockaddr* pointer() { return reinterpret_cast<sockaddr*>(&address); }
  const sockaddr* pointer() const { return reinterpret_cast<const sockaddr*>(&address); }
  /// "127.0.0.1:5600"
  std::string text() const;
};

struct HostPort {
  std::string host;
  int port = 0;
};

/// "plc:502", ":502", "502", "[::1]:502"; without a host it is 127.0.0.1.
HostPort host_and_port(const std::string& address);

/// `type`: SOCK_DGRAM or SOCK_STREAM.
Result<Peer> resolve(const std::string& address, int type);

}  // namespace isodyne::ports
