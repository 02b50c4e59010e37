#pragma once
// The way into a running plant and back: commands from any thread, and what came of each.

#include <atomic>

#include "isodyne/core/bounded_queue.h"
#include "isodyne/observe/command.h"

namespace isodyne::bench {

class CommandInbox {
 public:
  explicit CommandInbox(std::size_t room = 1024) : commands_(room), outcomes_(room) {}

  /// From any thread; false: there is no room, and nothing will come of it.
  bool put(const observe::Command& command) { return commands_.put(command); }
  /// What came of a command, in the order in which they were carried out; of one thread. False: nothing new.
  bool outcome(observe::CommandOutcome& outcome) { return outcomes_.take(outcome); }
  /// Outcomes that nobody took in time.
  std::int64_t outcomes_lost() const { return lost_.load(std::memory_order_relaxed); }

  // Of the run:
  bool take(observe::Command& command) { return commands_.take(command); }
  void answer(const observe::CommandOutcome& outcome) {
    if (!outcomes_.put(outcome)) lost_.fetch_add(1, std::memory_order_relaxed);
  }

 private:
  BoundedQueue<observe::Command> commands_;
  BoundedQueue<observe::CommandOutcome> outcomes_;
  std::atomic<std::int64_t> lost_{0};
};

}  // namespace isodyne::bench
