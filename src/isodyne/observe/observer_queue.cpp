#include "isodyne/observe/observer_queue.h"

#include <algorithm>
#include <cstring>

namespace isodyne::observe {

std::size_t ObserverQueue::usual_room(std::size_t variables, std::int64_t step_ns) {
  constexpr std::size_t kMostBytes = 256u << 20u;
  const std::size_t two_seconds = static_cast<std::size_t>(2'000'000'000 / std::max<std::int64_t>(1, step_ns)) + 1;
  const std::size_t most = kMostBytes / ((variables + 1) * sizeof(double));
  return std::clamp<std::size_t>(two_seconds, 64, std::max<std::size_t>(64, most));
}

ObserverQueue::ObserverQueue(Observer& observer, std::size_t variables, std::size_t images, void (*prepare)(),
                             std::size_t rows, std::size_t edges)
    : observer_(observer),
      variables_(variables),
      room_(images),
      values_(variables * images),
      times_(images),
      row_numbers_(rows),
      row_values_(rows * images),
      before_(rows > 0 ? images : 0),
      events_(kEvents),
      edges_(edges == 0 ? 0 : std::max<std::size_t>(2 * edges, 1U << 18U)),
      block_(edges),
      thread_([this, prepare] {
        if (prepare != nullptr) prepare();
        work();
      }) {}

void ObserverQueue::image(const Image& image) {
  const std::uint64_t in = images_in_.load(std::memory_order_relaxed);
  // Acquire: the place is free only when the other side has done with it.
  const auto waiting = static_cast<std::size_t>(in - images_out_.load(std::memory_order_acquire));
  if (waiting >= room_ || without_edges_) {
    without_edges_ = false;
    if (images_lost_++ == 0) first_lost_ = image.at;
    return;
  }
  most_waiting_ = std::max(most_waiting_, waiting + 1);
  const auto place = static_cast<std::size_t>(in % room_);
  times_[place] = image.at;
  std::memcpy(values_.data() + place * variables_, image.variables, variables_ * sizeof(double));
  images_in_.store(in + 1, std::memory_order_release);
}

/// They wait in the place of the image that comes next, and go the way of that image: if it is lost, so are they.
void ObserverQueue::rows(const Rows& rows) {
  const std::uint64_t in = images_in_.load(std::memory_order_relaxed);
  if (static_cast<std::size_t>(in - images_out_.load(std::memory_order_acquire)) >= room_) return;
  const auto place = static_cast<std::size_t>(in % room_);
  double* const to = row_values_.data() + place * row_numbers_;
  std::memcpy(to, rows.values, std::min(row_numbers_, rows.count * rows.columns.size()) * sizeof(double));
  before_[place] = {rows, in};
  before_[place].rows.values = to;
}

void ObserverQueue::edges(const Edges& edges) {
  const std::uint64_t images = images_in_.load(std::memory_order_relaxed),
                      in = edges_in_.load(std::memory_order_relaxed);
  const auto waiting = static_cast<std::size_t>(in - edges_out_.load(std::memory_order_acquire));
  without_edges_ = waiting + edges.list.size() > edges_.size();
  if (without_edges_) return;
  for (std::size_t i = 0; i < edges.list.size(); ++i)
    edges_[static_cast<std::size_t>((in + i) % edges_.size())] = {edges.list[i], images};
  edges_in_.store(in + edges.list.size(), std::memory_order_release);
}

/// Those that come before an image; of one that was lost they come before the next.
void ObserverQueue::show_edges(std::uint64_t image) {
  const std::uint64_t in = edges_in_.load(std::memory_order_acquire);
  std::uint64_t out = edges_out_.load(std::memory_order_relaxed);
  std::size_t count = 0;
  for (; out != in && count < block_.size(); ++out, ++count) {
    const BeforeImage& e = edges_[static_cast<std::size_t>(out % edges_.size())];
    if (e.of > image) break;
    block_[count] = e.edge;
  }
  if (count > 0) observer_.edges({{block_.data(), count}});
  edges_out_.store(out, std::memory_order_release);
}

void ObserverQueue::event(const Event& event) {
  const std::uint64_t in = events_in_.load(std::memory_order_relaxed);
  if (in - events_out_.load(std::memory_order_acquire) >= kEvents) {
    ++events_lost_;
    return;
  }
  events_[static_cast<std::size_t>(in % kEvents)] = {event, images_in_.load(std::memory_order_relaxed)};
  events_in_.store(in + 1, std::memory_order_release);
}

/// Everything that waits, in the order in which it came; false where nothing did.
bool ObserverQueue::show() {
  // Images first: an event that came before one of them is then seen, too.
  const std::uint64_t images = images_in_.load(std::memory_order_acquire);
  const std::uint64_t events = events_in_.load(std::memory_order_acquire);
  std::uint64_t image = images_out_.load(std::memory_order_relaxed);
  std::uint64_t event = events_out_.load(std::memory_order_relaxed);
  const bool any = image != images || event != events;
  for (;;) {
    while (event != events && events_[static_cast<std::size_t>(event % kEvents)].before <= image) {
      observer_.event(events_[static_cast<std::size_t>(event % kEvents)].event);
      events_out_.store(++event, std::memory_order_release);
    }
    if (image == images) break;
    const auto place = static_cast<std::size_t>(image % room_);
    if (row_numbers_ > 0 && before_[place].of == image) observer_.rows(before_[place].rows);
    if (!edges_.empty()) show_edges(image);
    observer_.image({times_[place], values_.data() + place * variables_});
    images_out_.store(++image, std::memory_order_release);
  }
  if (!observer_.good()) good_.store(false, std::memory_order_relaxed);
  return any;
}

void ObserverQueue::work() {
  for (;;) {
    const bool last = finishing_.load(std::memory_order_acquire);
    if (show()) continue;
    if (last) return;
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
}

void ObserverQueue::finish() {
  if (!thread_.joinable()) return;
  finishing_.store(true, std::memory_order_release);
  thread_.join();
  // The plant could not go on to the next image.
  const std::uint64_t in = images_in_.load();
  if (row_numbers_ > 0 && before_[static_cast<std::size_t>(in % room_)].of == in)
    observer_.rows(before_[static_cast<std::size_t>(in % room_)].rows);
}

}  // namespace isodyne::observe
