#pragma once
// The way into a running plant and back: commands from any thread, and what came of each.

#include <atomic>
#include <thread>

#include "isodyne/core/bounded_queue.h"
#include "isodyne/observe/command.h"

namespace isodyne::bench {

class CommandInbox {
 public:
  explicit CommandInbox(std::size_t room = 1024) : commands_(room), outcomes_(room) {}

  /// From any thread; false: there is no room, or the run is over, and nothing will come of it.
  bool put(const observe::Command& command) {
    const Putting here(putting_);
    return !closed_.load() && commands_.put(command);
  }
  /// What came of a command, in the order in which they were carried out; of one thread. False: nothing new.
  bool outcome(observe::CommandOutcome& outcome) { return outcomes_.take(outcome); }
  /// Outcomes that nobody took in time.
  std::int64_t outcomes_lost() const { return lost_.load(std::memory_order_relaxed); }

  // Of the run:
  /// Nothing comes any more: what is there now is all. Waits for those who are putting something in.
  void close() {
    closed_.store(true);
    while (putting_.load() > 0) std::this_thread::yield();
  }
  bool any() const { return commands_.any(); }
  bool take(observe::Command& command) { return commands_.take(command); }
  void answer(const observe::CommandOutcome& outcome) {
    if (!outcomes_.put(outcome)) lost_.fetch_add(1, std::memory_order_relaxed);
  }

 private:
  struct Putting {
    explicit Putting(std::atomic<int>& count) : count_(count) { ++count_; }
    ~Putting() { --count_; }
    Putting(const Putting&) = delete;
    Putting& operator=(const Putting&) = delete;
    std::atomic<int>& count_;
  };
  BoundedQueue<observe::Command> commands_;
  BoundedQueue<observe::CommandOutcome> outcomes_;
  std::atomic<std::int64_t> lost_{0};
  std::atomic<int> putting_{0};
  std::atomic<bool> closed_{false};
};

}  // namespace isodyne::bench
