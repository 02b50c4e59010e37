#pragma once
// A controller at the other end of a link; docs/link.md is the protocol.
//
// The bench asks and the controller answers, with the same sequence number. What is not answered is asked again: the
// controller answers a question that it knows with the answer that it gave, so nothing is computed twice.

#include <functional>
#include <vector>

#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/link/message.h"
#include "isodyne/ports/link/transport.h"

namespace isodyne::ports {

class LinkPort : public ControllerPort {
 public:
  struct Plan {
    std::string address;  ///< of UDP: where to listen
    std::chrono::nanoseconds answer_within = std::chrono::seconds(1);
    bool paced = false;  ///< told to the controller
  };
  LinkPort(std::string name, Layout layout, Plan plan);

  /// Goes over this from now on, with a new session; without, open() listens on the address of the plan.
  void adopt(std::unique_ptr<link::Transport> transport, Time period);
  /// Asked now and then while the controller is silent: a Failure ends the waiting.
  void watch(std::function<Status()> alive) { alive_ = std::move(alive); }

  Pace pace() const override { return Pace::waits; }
  Status open(Time period) override;
  Result<Standing> look(std::span<const double> reads, std::span<const double> writes) override;
  std::string missing() const override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  Traffic traffic() const override { return traffic_; }
  void close() override;

  /// Where it listens: with port 0, the one that was free.
  const std::string& bound() const { return bound_; }

 private:
  void begin_session(Time period);
  bool take(std::span<const std::byte> bytes, link::Message& message);
  Status hello(const link::Message& message);
  void send(link::Kind kind, std::uint16_t code, Time now, std::span<const std::byte> payload);
  Failure closed_end();
  Failure trouble(const std::string& what) const;

  std::string name_;
  Layout layout_;
  Plan plan_;
  std::unique_ptr<link::Transport> transport_;
  std::function<Status()> alive_;
  std::string bound_;
  Wall::time_point answering_since_{};
  std::string refused_;  ///< who was not let in, and why
  Standing standing_ = Standing::offline;
  Time period_{};
  std::uint32_t session_ = 0, sequence_ = 0;
  std::vector<std::byte> out_, reads_;
  Traffic traffic_;
};

}  // namespace isodyne::ports
