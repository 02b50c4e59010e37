#include "isodyne/ports/peer.h"

#include <algorithm>
#include <charconv>
#include <cstring>
#include <memory>

#include <netdb.h>

#include <fmt/format.h>

namespace isodyne::ports {

std::string Peer::text() const {
  char host[NI_MAXHOST] = "?", port[NI_MAXSERV] = "?";
  getnameinfo(pointer(), bytes, host, sizeof host, port, sizeof port, NI_NUMERICHOST | NI_NUMERICSERV);
  return fmt::format(fmt::runtime(address.ss_family == AF_INET6 ? "[{}]:{}" : "{}:{}"), host, port);
}

HostPort host_and_port(const std::string& address) {
  const std::size_t colon = address.rfind(':');
  HostPort all;
  std::string host = colon == std::string::npos ? "" : address.substr(0, colon);
  if (host.size() > 1 && host.front() == '[' && host.back() == ']') host = host.substr(1, host.size() - 2);
  all.host = host.empty() ? "127.0.0.1" : host;
  const std::string port = colon == std::string::npos ? address : address.substr(colon + 1);
  std::from_chars(port.data(), port.data() + port.size(), all.port);
  return all;
}

Result<Peer> resolve(const std::string& address, int type) {
  const HostPort wanted = host_and_port(address);
  addrinfo hints{};
  hints.ai_socktype = type;
  hints.ai_family = AF_UNSPEC;
  addrinfo* list = nullptr;
  const int failed = getaddrinfo(wanted.host.c_str(), std::to_string(wanted.port).c_str(), &hints, &list);
  if (failed != 0) return Failure{"cannot find", address, gai_strerror(failed)};
  const std::unique_ptr<addrinfo, decltype(&freeaddrinfo)> owner(list, freeaddrinfo);
  Peer peer;
  std::memcpy(&peer.address, list->ai_addr, list->ai_addrlen);
  peer.bytes = list->ai_addrlen;
  return peer;
}

}  // namespace isodyne::ports
