#pragma once
// Calls of code that is not ours, in this process.
//
// Nobody can survive such a call that crashes, never comes back, or ends the process: its memory is ours too, and a
// jump out of it leaves locks held. So calls are direct, and each says on a board when it begins and ends. The board
// may be in memory that is shared with a parent (session/worker.h): it sees a call that stands, or one in which
// the process ended, and holds the evidence.

#include <atomic>
#include <chrono>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "isodyne/core/time.h"

namespace isodyne::ports {

/// What is called: as in include/isodyne/controller.h, and what loading and unloading a library runs by itself.
enum class ForeignFunction : std::int32_t { load, init, step, copied, close, unload };
const char* foreign_word(ForeignFunction function);

struct CallBoard {
  static constexpr std::size_t kMostNames = 64, kNameBytes = 256, kMostReads = 256;
  std::atomic<std::uint64_t> calls{0};  ///< odd while one is under way
  std::atomic<std::int64_t> limit_ms{1000};
  std::atomic<std::int32_t> thread{0};  ///< that calls
  std::atomic<std::int32_t> who{0};     ///< index into names
  std::atomic<ForeignFunction> function{ForeignFunction::load};
  std::atomic<std::int64_t> at_ns{-1};  ///< simulated; −1: before the run
  std::atomic<std::int32_t> known{0};
  char names[kMostNames][kNameBytes];        ///< "controller `plc` (lockctl)"
  char controllers[kMostNames][kNameBytes];  ///< "plc"
  std::atomic<std::int32_t> read_count{0};
  double reads[kMostReads];  ///< what the controller reads in this step, SI

  /// In a copy of the process everything goes on, on a board of its own.
  void take_over(const CallBoard& other);
  bool inside() const { return (calls.load(std::memory_order_relaxed) & 1u) != 0; }
};

/// The board of this process; before the first call it may be put elsewhere.
CallBoard& call_board();
void use_call_board(CallBoard* board);

/// How many libraries this process could not get rid of: one that stays keeps what it remembered, and the next run in
/// this process would find it.
int libraries_left();

class ForeignCalls {
 public:
  /// Of one run: what the board said of earlier ones is forgotten. A call that takes longer than `limit` stands.
  explicit ForeignCalls(std::chrono::milliseconds limit);
  /// All ports are gone: looks which libraries are not (threads of theirs, symbols that are one in the whole process,
  /// controllers that gave up).
  ~ForeignCalls();
  ForeignCalls(const ForeignCalls&) = delete;
  ForeignCalls& operator=(const ForeignCalls&) = delete;

  /// The number of a controller's library, which is about to be loaded from `file`.
  std::int32_t enter(const std::string& controller, const std::string& library, const std::string& file);
  /// What it reads in the step that comes.
  void show_reads(std::span<const double> reads);

  template <typename Call>
  auto run(std::int32_t who, ForeignFunction function, Time at, Call call) {
    CallBoard& b = call_board();
    b.who.store(who, std::memory_order_relaxed);
    b.function.store(function, std::memory_order_relaxed);
    b.at_ns.store(at.count(), std::memory_order_relaxed);
    // Release: who sees the number sees what was written before.
    b.calls.fetch_add(1, std::memory_order_release);
    struct End {
      CallBoard& b;
      ~End() { b.calls.fetch_add(1, std::memory_order_release); }
    };
    const End end{b};
    return call();
  }

 private:
  std::vector<std::string> files_;
};

}  // namespace isodyne::ports
