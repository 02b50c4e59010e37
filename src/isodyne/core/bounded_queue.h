#pragma once
// From many threads to one, in order, without locks, and with a bound: a writer that finds no room is told, and nobody
// ever waits. For small things that can be copied.
//
// D. Vyukov's bounded queue: an array of cells, each of which carries the turn at which it may be written or read. Not
// for large rows: those are copied twice here.

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>

namespace isodyne {

template <typename T>
class BoundedQueue {
 public:
  /// `room`: a power of two.
  explicit BoundedQueue(std::size_t room) : mask_(room - 1), cells_(std::make_unique<Cell[]>(room)) {
    for (std::size_t i = 0; i < room; ++i) cells_[i].turn.store(i, std::memory_order_relaxed);
  }

  /// From any thread. False: there is no room.
  bool put(const T& what) {
    std::uint64_t at = in_.load(std::memory_order_relaxed);
    for (;;) {
      Cell& cell = cells_[at & mask_];
      // Acquire: the reader is done with what was in the cell before.
      const std::uint64_t turn = cell.turn.load(std::memory_order_acquire);
      if (turn < at) return false;  // it still holds what came a round ago
      if (turn > at) {              // another writer was quicker
        at = in_.load(std::memory_order_relaxed);
        continue;
      }
      if (!in_.compare_exchange_weak(at, at + 1, std::memory_order_relaxed)) continue;
      cell.what = what;
      cell.turn.store(at + 1, std::memory_order_release);  // what is in the cell comes before its turn
      return true;
    }
  }

  /// From the thread that takes: whether there is something.
  bool any() const { return cells_[out_ & mask_].turn.load(std::memory_order_acquire) == out_ + 1; }
  /// From one thread: what came first. False: there is nothing.
  bool take(T& what) {
    Cell& cell = cells_[out_ & mask_];
    if (cell.turn.load(std::memory_order_acquire) != out_ + 1) return false;
    what = cell.what;
    cell.turn.store(out_ + mask_ + 1, std::memory_order_release);  // free for the next round
    ++out_;
    return true;
  }

  std::size_t room() const { return mask_ + 1; }

 private:
  struct Cell {
    std::atomic<std::uint64_t> turn{0};
    T what{};
  };
  std::size_t mask_;
  std::unique_ptr<Cell[]> cells_;
  alignas(64) std::atomic<std::uint64_t> in_{0};
  alignas(64) std::uint64_t out_ = 0;
};

}  // namespace isodyne
