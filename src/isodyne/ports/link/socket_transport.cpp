// Unix sockets and UDP: both keep messages whole.

#include <array>
#include <cerrno>
#include <cstring>

#include <netdb.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>

#include <fmt/format.h>

#include "isodyne/ports/link/message.h"
#include "isodyne/ports/link/transport.h"
#include "isodyne/ports/peer.h"

namespace isodyne::ports::link {

namespace {

using std::chrono::nanoseconds;

class SocketTransport : public Transport {
 public:
  SocketTransport(Descriptor socket, bool connected) : socket_(std::move(socket)), connected_(connected) {}

  void send(std::span<const std::byte> message) override {
    if (!connected_ && kept_bytes_ == 0) return;
    send_to(message, kept_, kept_bytes_);
  }
  void reply(std::span<const std::byte> message) override { send_to(message, from_, from_bytes_); }

  std::span<const std::byte> receive(nanoseconds within) override {
    if (within.count() > 0) wait_at_most(within);
    from_bytes_ = sizeof from_;
    const ssize_t got =
        recvfrom(socket_.number(), buffer_.data(), buffer_.size(), within.count() > 0 ? 0 : MSG_DONTWAIT,
                 connected_ ? nullptr : address_of(from_), connected_ ? nullptr : &from_bytes_);
    // A peer that is not there is told by the next call; that is no message.
    if (got == 0 && connected_) closed_ = true;
    if (got < 0 && connected_ && (errno == ECONNRESET || errno == EPIPE)) closed_ = true;
    return got > 0 ? std::span(buffer_).first(static_cast<std::size_t>(got)) : std::span<std::byte>();
  }

  void keep_sender() override {
    kept_ = from_;
    kept_bytes_ = from_bytes_;
  }
  bool from_kept() const override {
    return connected_ || (kept_bytes_ == from_bytes_ && std::memcmp(&kept_, &from_, from_bytes_) == 0);
  }
  bool closed() const override { return closed_; }

 private:
  static sockaddr* address_of(sockaddr_storage& a) { return reinterpret_cast<sockaddr*>(&a); }

  void send_to(std::span<const std::byte> message, sockaddr_storage& to, socklen_t bytes) {
    // A full buffer loses the message, as any wire may; the protocol above notices.
    const ssize_t sent = sendto(socket_.number(), message.data(), message.size(), MSG_DONTWAIT | MSG_NOSIGNAL,
                                connected_ ? nullptr : address_of(to), connected_ ? 0 : bytes);
    if (sent < 0 && connected_ && (errno == EPIPE || errno == ECONNRESET)) closed_ = true;
  }

  /// The socket keeps the time itself: one system call less in each exchange.
  void wait_at_most(nanoseconds within) {
    const nanoseconds whole = std::max(within, nanoseconds(1000));
    if (whole == limit_) return;
    const timeval limit{static_cast<time_t>(whole.count() / 1'000'000'000),
                        static_cast<suseconds_t>(whole.count() / 1000 % 1'000'000)};
    setsockopt(socket_.number(), SOL_SOCKET, SO_RCVTIMEO, &limit, sizeof limit);
    limit_ = whole;
  }

  Descriptor socket_;
  bool connected_, closed_ = false;
  nanoseconds limit_{};
  sockaddr_storage kept_{}, from_{};
  socklen_t kept_bytes_ = 0, from_bytes_ = 0;
  std::array<std::byte, 65536> buffer_;
};

}  // namespace

Result<Pair> socket_pair() {
  int ends[2];
  if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, ends) != 0)
    return Failure{"cannot make a socket", "", std::strerror(errno)};
  Pair pair;
  pair.ours = std::make_unique<SocketTransport>(Descriptor(ends[0]), true);
  pair.theirs = Descriptor(ends[1]);
  return pair;
}

Result<std::unique_ptr<Transport>> udp_server(const std::string& address, std::string& bound) {
  const auto peer = resolve(address, SOCK_DGRAM);
  if (!peer) return peer.failure();
  Descriptor socket(::socket(peer->address.ss_family, SOCK_DGRAM | SOCK_CLOEXEC, 0));
  if (!socket.good() || ::bind(socket.number(), peer->pointer(), peer->bytes) != 0)
    return Failure{"cannot listen on", address, std::strerror(errno)};
  Peer own;
  own.bytes = sizeof own.address;
  getsockname(socket.number(), own.pointer(), &own.bytes);
  bound = own.text();
  return std::unique_ptr<Transport>(std::make_unique<SocketTransport>(std::move(socket), false));
}

}  // namespace isodyne::ports::link
