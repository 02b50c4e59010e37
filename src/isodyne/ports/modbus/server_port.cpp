#include "isodyne/ports/modbus/server_port.h"

#include <algorithm>
#include <cerrno>
#include <cstring>

#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/ports/make_port.h"
#include "isodyne/ports/peer.h"

namespace isodyne::ports {

namespace {

constexpr std::int64_t kIdleTimeOut = 60'000'000'000;  ///< of a connection that asks nothing, ns
constexpr int kLookMs = 100;                           ///< how often a thread that waits looks whether it shall end, ms

bool readable(int file) {
  pollfd wanted{file, POLLIN, 0};
  return poll(&wanted, 1, kLookMs) > 0;
}

}  // namespace

ModbusServerPort::ModbusServerPort(std::string name, io::RegisterMap map, std::size_t reads, std::size_t writes,
                                   modbus::Line line, std::chrono::nanoseconds silent_after)
    : name_(std::move(name)),
      line_(std::move(line)),
      silent_after_(silent_after),
      image_(std::move(map)),
      reads_(Values(reads)),
      writes_(Values(writes)),
      written_(writes),
      taken_(writes) {}

ModbusServerPort::~ModbusServerPort() {
  close();
}

Status ModbusServerPort::open(Time) {
  if (image_.mapping() == nullptr) return Failure{"cannot make the registers", "", std::strerror(ENOMEM)};
  if (line_.serial()) {
    const int file = ::open(line_.address.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (file < 0) return Failure{"cannot open the serial line", line_.address, std::strerror(errno)};
    ::close(file);
    bound_ = line_.address;
    return Done{};
  }
  const auto peer = resolve(line_.address, SOCK_STREAM);
  if (!peer) return peer.failure();
  listening_ = socket(peer->address.ss_family, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int yes = 1;
  if (listening_ >= 0) setsockopt(listening_, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  if (listening_ < 0 || bind(listening_, peer->pointer(), peer->bytes) != 0 || listen(listening_, SOMAXCONN) != 0)
    return Failure{"cannot listen on", line_.address, std::strerror(errno)};
  Peer own;
  own.bytes = sizeof own.address;
  getsockname(listening_, own.pointer(), &own.bytes);
  bound_ = own.text();
  return Done{};
}

Result<Standing> ModbusServerPort::look(std::span<const double> reads, std::span<const double> writes) {
  if (!thread_.joinable()) {
    {
      const std::lock_guard lock(image_mutex_);
      image_.put_reads(reads);
      image_.put_writes(writes);
      std::copy(writes.begin(), writes.end(), written_.begin());
      std::copy(writes.begin(), writes.end(), taken_.begin());
    }
    thread_ = std::thread([this] { line_.serial() ? serve_line() : accept(); });
  }
  if (answered_.load(std::memory_order_relaxed) > 0) return Standing::ready;
  return connections_.load(std::memory_order_relaxed) > 0 ? Standing::answering : Standing::offline;
}

std::string ModbusServerPort::missing() const {
  return connections_.load(std::memory_order_relaxed) > 0
             ? fmt::format("a client is connected to {}, but nothing it asked could be answered", bound_)
             : fmt::format("nobody has asked anything at {}", bound_);
}

Status ModbusServerPort::begin() {
  begun_ns_ = now_ns();
  return Done{};
}

Status ModbusServerPort::exchange(Time, std::span<const double> reads, std::span<double> writes) {
  std::copy(reads.begin(), reads.end(), reads_.mine().begin());
  reads_.publish();
  if (const Values* news = writes_.fetch()) std::copy(news->begin(), news->end(), taken_.begin());
  std::copy(taken_.begin(), taken_.end(), writes.begin());
  const std::int64_t since = now_ns() - std::max(begun_ns_, heard_ns_.load(std::memory_order_relaxed));
  if (since < silent_after_.count()) return Done{};
  return Failure{fmt::format("controller `{}`", name_), "",
                 fmt::format("has asked nothing at {} for {} ms", bound_, since / 1'000'000)};
}

ControllerPort::Wall::time_point ModbusServerPort::heard() const {
  return Wall::time_point(Wall::duration(heard_ns_.load(std::memory_order_relaxed)));
}

Traffic ModbusServerPort::traffic() const {
  Traffic t;
  t.received = t.sent = answered_.load(std::memory_order_relaxed);
  t.refused = refused_.load(std::memory_order_relaxed);
  return t;
}

bool ModbusServerPort::answer(modbus_t* context, const std::uint8_t* request, int count) {
  const int head = modbus_get_header_length(context);
  const int tail = line_.serial() ? 2 : 0;  // the check sum
  if (count <= head + tail) return true;
  const std::span pdu(request + head, static_cast<std::size_t>(count - head - tail));
  const std::lock_guard lock(image_mutex_);
  if (const int refused = image_.refusal(pdu); refused != 0) {
    refused_.fetch_add(1, std::memory_order_relaxed);
    return modbus_reply_exception(context, request, static_cast<unsigned>(refused)) >= 0;
  }
  if (const Values* news = reads_.fetch()) image_.put_reads(*news);
  if (modbus_reply(context, request, count, image_.mapping()) < 0) return false;
  if (modbus::RegisterImage::writes(pdu[0])) {
    image_.get_writes(written_);
    writes_.mine() = written_;
    writes_.publish();
  }
  heard_ns_.store(now_ns(), std::memory_order_relaxed);
  answered_.fetch_add(1, std::memory_order_relaxed);
  return true;
}

void ModbusServerPort::accept() {
  while (!stopping_.load(std::memory_order_relaxed)) {
    tidy();
    if (!readable(listening_)) continue;
    const int socket = accept4(listening_, nullptr, nullptr, SOCK_CLOEXEC);
    if (socket < 0) continue;
    if (open_.size() >= kMostConnections && !make_room()) {
      refused_.fetch_add(1, std::memory_order_relaxed);
      ::close(socket);
      continue;
    }
    const int yes = 1;
    setsockopt(socket, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
    // A client that does not take its answers is dropped and holds up the others for this long at most.
    const timeval look{0, kLookMs * 1000}, most{0, 20'000};
    setsockopt(socket, SOL_SOCKET, SO_RCVTIMEO, &look, sizeof look);
    setsockopt(socket, SOL_SOCKET, SO_SNDTIMEO, &most, sizeof most);
    connections_.fetch_add(1, std::memory_order_relaxed);
    Connection& connection = open_.emplace_back();
    connection.socket = socket;
    connection.heard_ns.store(now_ns(), std::memory_order_relaxed);
    connection.thread = std::thread([this, &connection] { serve_connection(connection); });
  }
}

/// The one that has been idle longest goes, if it has been idle for a while: who only connects must not lock out who
/// asks.
bool ModbusServerPort::make_room() {
  constexpr std::int64_t kIdle = 1'000'000'000;
  const auto heard = [](const Connection& c) { return c.heard_ns.load(std::memory_order_relaxed); };
  const auto idle = std::min_element(open_.begin(), open_.end(),
                                     [&](const Connection& a, const Connection& b) { return heard(a) < heard(b); });
  if (idle == open_.end() || now_ns() - heard(*idle) < kIdle) return false;
  shutdown(idle->socket, SHUT_RDWR);
  idle->thread.join();
  ::close(idle->socket);
  open_.erase(idle);
  return true;
}

/// Joins those that have ended.
void ModbusServerPort::tidy() {
  for (auto c = open_.begin(); c != open_.end();) {
    if (!c->done.load(std::memory_order_acquire)) {
      ++c;
      continue;
    }
    c->thread.join();
    ::close(c->socket);
    c = open_.erase(c);
  }
}

/// Answers all whole requests in `buffer` and moves the rest to its front; false ends the connection. A request is
/// seven bytes of head, whose fifth and sixth tell how many follow them (Modbus messaging on TCP/IP V1.0b, 3.1.3).
bool ModbusServerPort::answer_all(modbus_t* context, std::vector<std::uint8_t>& buffer, std::size_t& have) {
  std::size_t at = 0;
  while (have - at >= 8) {
    const std::uint8_t* const request = buffer.data() + at;
    const std::size_t rest = static_cast<std::size_t>(request[4]) << 8u | request[5];
    // What is no Modbus, or could not be a request: nothing that follows can be understood either.
    if (request[2] != 0 || request[3] != 0 || rest < 2 || 6 + rest > MODBUS_TCP_MAX_ADU_LENGTH) {
      refused_.fetch_add(1, std::memory_order_relaxed);
      return false;
    }
    if (have - at < 6 + rest) break;
    if (!answer(context, request, static_cast<int>(6 + rest))) return false;
    at += 6 + rest;
  }
  std::copy(buffer.begin() + static_cast<std::ptrdiff_t>(at), buffer.begin() + static_cast<std::ptrdiff_t>(have),
            buffer.begin());
  have -= at;
  return true;
}

void ModbusServerPort::serve_connection(Connection& connection) {
  const modbus::Context context = modbus::context_of(line_);
  if (context != nullptr) modbus_set_socket(context.get(), connection.socket);
  std::vector<std::uint8_t> buffer(4 * MODBUS_TCP_MAX_ADU_LENGTH);
  std::size_t have = 0;
  while (context != nullptr && !stopping_.load(std::memory_order_relaxed)) {
    const ssize_t got = recv(connection.socket, buffer.data() + have, buffer.size() - have, 0);
    const std::int64_t since = now_ns() - connection.heard_ns.load(std::memory_order_relaxed);
    if (got < 0 && since > std::max<std::int64_t>(kIdleTimeOut, 2 * silent_after_.count())) break;
    if (got < 0 && (errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR)) continue;
    if (got <= 0) break;
    have += static_cast<std::size_t>(got);
    const std::size_t before = have;
    if (!answer_all(context.get(), buffer, have)) break;
    if (have < before) connection.heard_ns.store(now_ns(), std::memory_order_relaxed);  // a whole request
  }
  connections_.fetch_sub(1, std::memory_order_relaxed);
  shutdown(connection.socket, SHUT_RDWR);
  connection.done.store(true, std::memory_order_release);
}

void ModbusServerPort::serve_line() {
  std::uint8_t request[MODBUS_MAX_ADU_LENGTH];
  while (!stopping_.load(std::memory_order_relaxed)) {
    const modbus::Context context = modbus::context_of(line_);
    if (context == nullptr || modbus_connect(context.get()) != 0) {
      std::this_thread::sleep_for(std::chrono::milliseconds(200));
      continue;
    }
    modbus_set_indication_timeout(context.get(), 0, 200'000);
    while (!stopping_.load(std::memory_order_relaxed)) {
      if (!readable(modbus_get_socket(context.get()))) continue;
      const int count = modbus_receive(context.get(), request);
      if (count > 0) answer(context.get(), request, count);
      if (count >= 0) continue;
      // Noise on the line is not the end of it; a cut line is.
      const bool noise = errno == EMBBADCRC || errno == EMBBADDATA || errno == ETIMEDOUT || errno == EMBMDATA ||
                         errno == EMBBADSLAVE || errno == EINVAL;
      refused_.fetch_add(1, std::memory_order_relaxed);
      if (!noise) break;
      modbus_flush(context.get());
    }
    modbus_close(context.get());
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
}

void ModbusServerPort::close() {
  stopping_.store(true, std::memory_order_relaxed);
  if (thread_.joinable()) thread_.join();
  for (Connection& c : open_) {
    shutdown(c.socket, SHUT_RDWR);
    c.thread.join();
    ::close(c.socket);
  }
  open_.clear();
  if (listening_ >= 0) ::close(listening_);
  listening_ = -1;
}

std::unique_ptr<ControllerPort> make_modbus_server(const PortOrder& o) {
  auto map = map_of(o.program, o.controller, o.setting, o.place);
  if (!map) return useless_port(map.failure());
  const modbus::Line line{o.setting.address, o.setting.unit, o.setting.rate, o.setting.parity};
  return std::make_unique<ModbusServerPort>(o.controller.name, std::move(*map), o.controller.reads.size(),
                                            o.controller.writes.size(), line, o.place.answer_within);
}

}  // namespace isodyne::ports
