#pragma once
// Messages on their way: between controllers, and, where a fault is about them, between the bench and a controller.
// Never allocates once it is made.

#include <vector>

#include "isodyne/bench/fault_player.h"
#include "isodyne/core/random.h"
#include "isodyne/engine/state.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

/// Messages in flight on one line, each a row of values. Of two that are due at once the one sent later arrives later.
class InFlight {
 public:
  static constexpr std::size_t kMost = 256;  ///< one more takes the place of the oldest

  explicit InFlight(std::size_t values) : values_(values), messages_(kMost), rows_(kMost * values) {}

  /// False: an older one was lost for it. `overtaken`: it arrives after the one that is sent next.
  bool send(Time due, const std::vector<double>& values, bool overtaken = false);
  bool empty() const { return next_ == Time::max(); }
  /// Takes the one that is due first; false: none is due.
  bool arrive(Time now, std::vector<double>& values);

 private:
  struct Message {
    Time due = Time::max();
    std::uint64_t order = 0;
  };
  std::size_t values_;
  std::vector<Message> messages_;
  std::vector<double> rows_;
  std::uint64_t sent_ = 0;
  Time next_ = Time::max();
};

/// What the faults on a line do to a message that is sent on it.
class MessageFaults {
 public:
  struct Fate {
    bool lost = false, repeated = false, overtaken = false;
    Time late{};
  };
  MessageFaults(const program::Program& program, std::vector<const FaultActivity*> faults,
                std::vector<program::VarId> what, std::uint64_t seed);

  bool any() const { return !faults_.empty(); }
  bool active() const;
  /// Draws what happens to this message; its values may be frozen or corrupted.
  Fate meet(std::vector<double>& values);
  /// A message that was sent while none of them acts.
  void let_pass();

 private:
  struct One {
    const FaultActivity* activity = nullptr;
    const program::Fault* fault = nullptr;
    RandomStream random;
    std::vector<double> frozen;
    bool holding = false;
  };
  void corrupt(RandomStream& random, std::vector<double>& values) const;

  const program::Program& program_;
  std::vector<One> faults_;
  std::vector<program::VarId> what_;  ///< the quantity of each value; behind them edges of gates, which are of none
  std::size_t named_ = 0;             ///< how many are of one
};

/// The way of a controller's messages to or from the bench: what arrives at an exchange is the last that was due by
/// then, or what was there before.
class FaultyLine {
 public:
  FaultyLine(const program::Program& program, std::vector<const FaultActivity*> faults,
             std::vector<program::VarId> what, Time period, std::uint64_t seed)
      : faults_(program, std::move(faults), what, seed),
        in_flight_(what.size()),
        there_(what.size()),
        period_(period) {}

  bool any() const { return faults_.any(); }
  bool acts() const { return faults_.active(); }
  /// `values`: what is sent at this exchange, then what is there. False: nothing has arrived at this exchange.
  bool pass(Time now, std::vector<double>& values);

 private:
  MessageFaults faults_;
  InFlight in_flight_;
  std::vector<double> there_;
  Time period_;
  bool begun_ = false;
};

/// Between controllers. What a controller gives is sent when it becomes valid; it arrives after the latency and up to
/// the jitter more, or never.
class MessagePlayer {
 public:
  MessagePlayer(const program::Program& program, const FaultPlayer& faults, std::uint64_t seed);

  /// What this controller gives has become valid.
  void send(std::size_t controller, const engine::PlantState& state);
  /// What is due arrives.
  void deliver(engine::PlantState& state);

  std::int64_t sent() const { return sent_; }
  std::int64_t lost() const { return lost_; }

 private:
  struct Line {
    const program::Messages* messages = nullptr;
    const program::Messages::Line* line = nullptr;
    RandomStream random;
    MessageFaults faults;
    InFlight in_flight;
    Time period{};
    std::vector<double> values;
  };

  std::vector<Line> lines_;
  std::int64_t sent_ = 0, lost_ = 0;
};

}  // namespace isodyne::bench
