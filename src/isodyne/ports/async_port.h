#pragma once
// Carries exchanges to a controller that has to be waited for, so that the stepping thread need not wait.
//
// A thread of its own does the exchanges. The stepping thread offers and takes, which never blocks, locks or
// allocates. A newer offer takes the place of one that nobody has fetched yet.

#include <array>
#include <atomic>
#include <thread>
#include <vector>

#include "isodyne/ports/controller_port.h"

namespace isodyne::ports {

/// The newest of a series, from one thread to one other: three buffers, one of which is nobody's.
template <typename T>
class Newest {
 public:
  explicit Newest(const T& empty) : buffers_{empty, empty, empty} {}
  /// The writer's buffer; publish() hands it over.
  T& mine() { return buffers_[writing_]; }
  void publish() { writing_ = shared_.exchange(writing_ | kFresh, std::memory_order_acq_rel) & kIndex; }
  /// The newest one if there is one that was not fetched yet, else null.
  const T* fetch() {
    if ((shared_.load(std::memory_order_relaxed) & kFresh) == 0) return nullptr;
    reading_ = shared_.exchange(reading_, std::memory_order_acq_rel) & kIndex;
    return &buffers_[reading_];
  }

 private:
  static constexpr unsigned kIndex = 3, kFresh = 4;
  std::array<T, 3> buffers_;
  alignas(64) std::atomic<unsigned> shared_{0};
  alignas(64) unsigned writing_ = 1;
  alignas(64) unsigned reading_ = 2;
};

class AsyncPort {
 public:
  /// The port has begun and is the AsyncPort's until stop(). `prepare` runs first on its thread.
  AsyncPort(ControllerPort& port, std::size_t reads, std::size_t writes, void (*prepare)());
  ~AsyncPort() { stop(); }

  enum class News { none, answer, failed };

  // The stepping thread:
  void offer(Time now, std::span<const double> reads);
  /// The newest answer that was not taken yet, and the instant of the exchange that it answers.
  News take(Time& of, std::span<double> writes);

  /// After News::failed.
  const Failure& failure() const { return failure_; }
  /// Ends the thread after what it is doing; from then on the port may be used again.
  void stop();
  /// Counted by the port, as of its last exchange.
  Traffic traffic() const { return port_.traffic(); }

 private:
  struct Parcel {
    Time at{};
    std::vector<double> values;
  };
  void work();

  ControllerPort& port_;
  Newest<Parcel> out_, in_;
  std::atomic<std::uint32_t> bell_{0};
  std::atomic<bool> stopping_{false}, failed_{false};
  Failure failure_;
  void (*prepare_)();
  std::thread thread_;
};

}  // namespace isodyne::ports
