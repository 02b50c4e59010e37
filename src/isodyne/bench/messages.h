#pragma once
// Messages on their way between controllers. What a controller gives is sent when it becomes valid; it arrives after
// the latency and up to the jitter more, or never. Never allocates once it is made.

#include <vector>

#include "isodyne/core/random.h"
#include "isodyne/engine/state.h"
#include "isodyne/model/program.h"

namespace isodyne::bench {

class MessagePlayer {
 public:
  MessagePlayer(const model::Program& program, std::uint64_t seed);

  /// What this controller gives has become valid.
  void send(std::size_t controller, const engine::PlantState& state);
  /// What is due arrives.
  void deliver(engine::PlantState& state);

  std::int64_t sent() const { return sent_; }
  std::int64_t lost() const { return lost_; }

 private:
  static constexpr std::size_t kMostUnderway = 256;  ///< on a line; one more takes the place of the oldest
  struct Underway {
    Time due = Time::max();
    std::uint64_t number = 0;  ///< of messages on the line, so that of two that are due at once the later one stays
  };
  struct Line {
    const model::Messages* messages = nullptr;
    const model::Messages::Line* line = nullptr;
    RandomStream random;
    std::vector<Underway> underway;
    std::vector<double> values;  ///< of each message underway, one after another
    std::uint64_t sent = 0;
    Time next = Time::max();
  };
  void arrive(Line& line, engine::PlantState& state);

  std::vector<Line> lines_;
  std::int64_t sent_ = 0, lost_ = 0;
};

}  // namespace isodyne::bench
