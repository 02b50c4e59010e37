#include "isodyne/ports/link/link_port.h"

#include <algorithm>
#include <thread>

#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

using link::Kind;
using link::Message;
using link::Reading;

namespace {
constexpr std::chrono::milliseconds kLook{10};        ///< how long one look for a message takes at most
constexpr std::chrono::milliseconds kHalfHello{500};  ///< after so long without the second hello another may come
constexpr std::chrono::milliseconds kAskAgain{50};    ///< after so long without an answer, and then twice as long
}  // namespace

LinkPort::LinkPort(std::string name, Layout layout, Plan plan)
    : name_(std::move(name)),
      layout_(std::move(layout)),
      plan_(std::move(plan)),
      out_(link::kHeadBytes + std::max(layout_.reads_bytes, layout_.writes_bytes)),
      reads_(layout_.reads_bytes) {}

Failure LinkPort::trouble(const std::string& what) const {
  return {fmt::format("controller `{}`", name_), "", what};
}

void LinkPort::begin_session(Time period) {
  period_ = period;
  standing_ = Standing::offline;
  // Another number in every session; what an earlier one left on the wire is known by it.
  const auto unlike =
      static_cast<std::uint64_t>(Wall::now().time_since_epoch().count()) ^ (static_cast<std::uint64_t>(getpid()) << 40);
  session_ = static_cast<std::uint32_t>(static_cast<std::uint64_t>(random_key(unlike)) & 0xFFFFFFFFu) | 1u;
  sequence_ = 0;
}

void LinkPort::adopt(std::unique_ptr<link::Transport> transport, Time period) {
  transport_ = std::move(transport);
  begin_session(period);
}

Status LinkPort::open(Time period) {
  if (layout_.reads_bytes > link::kMostPayload || layout_.writes_bytes > link::kMostPayload)
    return trouble(fmt::format("it exchanges more than the {} bytes that a link carries", link::kMostPayload));
  auto made = link::udp_server(plan_.address, bound_);
  if (!made) return trouble(made.failure().text());
  adopt(std::move(*made), period);
  return Done{};
}

std::string LinkPort::missing() const {
  if (standing_ == Standing::answering) return "it has not said that it is ready";
  if (bound_.empty()) return "its program has not opened the link";
  return refused_.empty() ? "nothing has come to " + bound_ : refused_;
}

void LinkPort::send(Kind kind, std::uint16_t code, Time now, std::span<const std::byte> payload) {
  Message m;
  m.kind = kind;
  m.code = code;
  m.session = session_;
  m.sequence = sequence_;
  m.time_ns = now.count();
  m.period_ns = period_.count();
  m.layout = layout_.identity;
  m.payload = payload;
  const std::size_t bytes = link::write(m, out_);
  const auto message = std::span(out_).first(bytes);
  if (kind == Kind::refusal)
    transport_->reply(message);
  else
    transport_->send(message);
}

/// Whether these bytes are a message of this controller; what they are not is counted.
bool LinkPort::take(std::span<const std::byte> bytes, Message& m) {
  const Reading reading = link::read(bytes, m);
  if (reading == Reading::corrupted) ++traffic_.corrupted;
  if (reading == Reading::malformed) ++traffic_.refused;
  if (reading == Reading::other_version) {
    ++traffic_.refused;
    if (m.kind == Kind::hello) send(Kind::refusal, static_cast<std::uint16_t>(link::Refusal::version), Time{}, {});
  }
  if (reading != Reading::good) return false;
  // Who says hello and then nothing more does not keep others away.
  const bool half_hello = standing_ == Standing::answering && Wall::now() - answering_since_ > kHalfHello;
  if (half_hello && m.kind == Kind::hello && !transport_->from_kept()) standing_ = Standing::offline;
  const bool stranger = standing_ != Standing::offline && !transport_->from_kept();
  const bool other_session = m.kind != Kind::hello && m.session != session_;
  if (!stranger && !other_session) return true;
  ++traffic_.refused;
  if (m.kind == Kind::hello && stranger)
    send(Kind::refusal, static_cast<std::uint16_t>(link::Refusal::busy), Time{}, {});
  return false;
}

Status LinkPort::hello(const Message& m) {
  if (m.layout != layout_.identity) {
    send(Kind::refusal, static_cast<std::uint16_t>(link::Refusal::layout), Time{}, {});
    const char* other_layout =
        "it was built for other channels or parameters than this bench has. Write the header again with `isodyne "
        "export header` and rebuild";
    if (alive_) return trouble(other_layout);  // our own program
    // Anybody may send something to a port: the right controller may still come.
    ++traffic_.refused;
    refused_ = std::string("somebody was refused: ") + other_layout;
    return Done{};
  }
  if (standing_ == Standing::offline) {
    transport_->keep_sender();
    answering_since_ = Wall::now();
  }
  if (m.session == session_ && m.code == 1)
    standing_ = Standing::ready;
  else
    standing_ = Standing::answering;
  if (m.session != session_) send(Kind::welcome, plan_.paced ? 1 : 0, Time{}, {});
  return Done{};
}

Result<Standing> LinkPort::look(std::span<const double>, std::span<const double>) {
  if (alive_) {
    const Status alive = alive_();
    if (!alive) return alive.failure();
  }
  const auto bytes = transport_->receive(kLook);
  if (bytes.empty() && transport_->closed()) return closed_end();
  Message m;
  if (bytes.empty() || !take(bytes, m)) return standing_;
  if (m.kind == Kind::bye) return trouble(fmt::format("gave up during the start-up with code {}", m.code));
  if (m.kind != Kind::hello) return standing_;
  const Status welcomed = hello(m);
  if (!welcomed) return welcomed.failure();
  return standing_;
}

/// A program that ends closes its link first: how it ended says more, and comes a moment later.
Failure LinkPort::closed_end() {
  const auto until = Wall::now() + std::chrono::milliseconds(200);
  while (alive_ && Wall::now() < until) {
    const Status alive = alive_();
    if (!alive) return alive.failure();
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  return trouble("closed its end of the link");
}

Status LinkPort::exchange(Time now, std::span<const double> reads, std::span<double> writes) {
  pack(layout_.reads, reads, reads_.data());
  ++sequence_;
  send(Kind::reads, 0, now, reads_);
  ++traffic_.sent;
  // The clock is looked at only when the answer is not there at once.
  Wall::time_point begin{}, ask_again{};
  auto patience = kAskAgain;
  for (;;) {
    const auto bytes = transport_->receive(kLook);
    Message m;
    if (!bytes.empty() && take(bytes, m)) {
      if (m.kind == Kind::bye) return trouble(fmt::format("gave up with code {}", m.code));
      if (m.kind == Kind::hello && m.session != session_) return trouble("has started anew");
      if (m.kind == Kind::writes && m.sequence == sequence_) {
        if (m.payload.size() != layout_.writes_bytes)
          return trouble(fmt::format("answers with {} bytes; it should be {}", m.payload.size(), layout_.writes_bytes));
        ++traffic_.received;
        const int wrong = unpack(layout_.writes, m.payload.data(), writes);
        if (wrong < 0) return Done{};
        const auto index = static_cast<std::size_t>(wrong);
        return trouble(why_wrong(layout_.writes, index, writes[index]));
      }
      if (m.kind == Kind::writes) ++(m.sequence + 1 == sequence_ ? traffic_.duplicated : traffic_.reordered);
    }
    const auto wall = Wall::now();
    if (begin == Wall::time_point{}) {
      begin = wall;
      ask_again = begin + patience;
    }
    if (transport_->closed()) return closed_end();
    if (alive_) {
      const Status alive = alive_();
      if (!alive) return alive;
    }
    if (wall - begin >= plan_.answer_within)
      return trouble(fmt::format("did not answer within {} ms",
                                 std::chrono::duration_cast<std::chrono::milliseconds>(plan_.answer_within).count()));
    if (wall < ask_again) continue;
    ++traffic_.lost;
    send(Kind::reads, 0, now, reads_);
    patience *= 2;
    ask_again = wall + patience;
  }
}

void LinkPort::close() {
  if (transport_ != nullptr && standing_ != Standing::offline) send(Kind::bye, 0, Time{}, {});
  transport_.reset();
  standing_ = Standing::offline;
}

std::unique_ptr<ControllerPort> make_link(const PortOrder& o) {
  return std::make_unique<LinkPort>(o.controller.name, layout_of(o.program, o.controller),
                                    LinkPort::Plan{o.setting.address, o.place.answer_within, o.place.paced});
}

}  // namespace isodyne::ports
