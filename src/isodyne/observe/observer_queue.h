#pragma once
// Between the stepping thread and those who watch it: what they see goes through a queue without locks, and they
// look at it on a thread of their own.
//
// What does not fit is lost, counted, and never silent.

#include <atomic>
#include <cstddef>
#include <thread>
#include <vector>

#include "isodyne/observe/events.h"

namespace isodyne::observe {

class ObserverQueue : public Observer {
 public:
  /// `observer` is called from the queue's thread. Images have `variables` numbers; there is room for `images` of them,
  /// and for kEvents events. `prepare`: done by the thread before anything else.
  /// `rows`: numbers in the largest block of rows between two images; `edges`: those in the largest block of edges.
  ObserverQueue(Observer& observer, std::size_t variables, std::size_t images, void (*prepare)() = nullptr,
                std::size_t rows = 0, std::size_t edges = 0);
  ~ObserverQueue() override { finish(); }

  /// Room for two seconds of wall clock, with at most 256 MiB.
  static std::size_t usual_room(std::size_t variables, std::int64_t step_ns);

  // The stepping thread:
  void image(const Image& image) override;
  void rows(const Rows& rows) override;
  void edges(const Edges& edges) override;
  void event(const Event& event) override;
  bool good() const override { return good_.load(std::memory_order_relaxed); }

  /// Shows what is left and ends the thread.
  void finish();

  std::int64_t images_lost() const { return images_lost_; }
  std::int64_t events_lost() const { return events_lost_; }
  Time first_lost() const { return first_lost_; }
  /// Most images that waited at once, and how many there is room for.
  std::size_t most_waiting() const { return most_waiting_; }
  std::size_t room() const { return room_; }

 private:
  static constexpr std::size_t kEvents = 65'536;
  struct Marked {
    Event event;
    std::uint64_t before = 0;  ///< number of images that came before it
  };
  void work();
  bool show();
  void show_edges(std::uint64_t image);

  Observer& observer_;
  std::size_t variables_, room_;
  std::vector<double> values_;
  std::vector<Time> times_;
  /// Of each image the rows that come before it.
  struct Before {
    Rows rows;
    std::uint64_t of = ~std::uint64_t{0};  ///< number of that image
  };
  std::size_t row_numbers_;
  std::vector<double> row_values_;
  std::vector<Before> before_;
  std::vector<Marked> events_;
  /// Edges, in a ring of their own, each with the number of the image that comes behind it.
  struct BeforeImage {
    EdgeSeen edge;
    std::uint64_t of = 0;
  };
  std::vector<BeforeImage> edges_;
  std::vector<EdgeSeen> block_;  ///< of the thread that shows them
  bool without_edges_ = false;   ///< the next image goes the way of its edges, for which there was no room
  // Of each pair one side writes, and the other follows. Counts only grow; a place is the count modulo the room.
  alignas(64) std::atomic<std::uint64_t> images_in_{0};
  alignas(64) std::atomic<std::uint64_t> images_out_{0};
  alignas(64) std::atomic<std::uint64_t> events_in_{0};
  alignas(64) std::atomic<std::uint64_t> events_out_{0};
  alignas(64) std::atomic<std::uint64_t> edges_in_{0};
  alignas(64) std::atomic<std::uint64_t> edges_out_{0};
  std::atomic<bool> good_{true}, finishing_{false};
  std::int64_t images_lost_ = 0, events_lost_ = 0;
  Time first_lost_{};
  std::size_t most_waiting_ = 0;
  std::thread thread_;
};

}  // namespace isodyne::observe
