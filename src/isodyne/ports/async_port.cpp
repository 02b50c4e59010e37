#include "isodyne/ports/async_port.h"

#include <algorithm>

namespace isodyne::ports {

AsyncPort::AsyncPort(ControllerPort& port, std::size_t reads, std::size_t writes, void (*prepare)())
    : port_(port),
      out_(Parcel{{}, std::vector<double>(reads)}),
      in_(Parcel{{}, std::vector<double>(writes)}),
      prepare_(prepare),
      thread_([this] { work(); }) {}

void AsyncPort::offer(Time now, std::span<const double> reads) {
  Parcel& parcel = out_.mine();
  parcel.at = now;
  std::copy(reads.begin(), reads.end(), parcel.values.begin());
  out_.publish();
  bell_.fetch_add(1, std::memory_order_release);
  bell_.notify_one();  // wakes, and does not wait
}

AsyncPort::News AsyncPort::take(Time& of, std::span<double> writes) {
  if (const Parcel* parcel = in_.fetch()) {
    of = parcel->at;
    std::copy(parcel->values.begin(), parcel->values.end(), writes.begin());
    return News::answer;
  }
  // Acquire: the failure was written before.
  return failed_.load(std::memory_order_acquire) ? News::failed : News::none;
}

void AsyncPort::work() {
  if (prepare_ != nullptr) prepare_();
  std::uint32_t heard = 0;
  while (!stopping_.load(std::memory_order_relaxed)) {
    const Parcel* parcel = out_.fetch();
    if (parcel == nullptr) {
      bell_.wait(heard, std::memory_order_acquire);
      heard = bell_.load(std::memory_order_acquire);
      continue;
    }
    Parcel& answer = in_.mine();
    const Status exchanged = port_.exchange(parcel->at, parcel->values, answer.values);
    if (!exchanged) {
      failure_ = exchanged.failure();
      failed_.store(true, std::memory_order_release);
      return;
    }
    answer.at = parcel->at;
    in_.publish();
  }
}

void AsyncPort::stop() {
  if (!thread_.joinable()) return;
  stopping_.store(true, std::memory_order_relaxed);
  bell_.fetch_add(1, std::memory_order_release);
  bell_.notify_one();
  thread_.join();
}

}  // namespace isodyne::ports
