#pragma once
// Threads that work in step with one that leads them: they wait for its word, and it waits for them.
//
// Neither allocates nor locks once made. The leader never blocks: it looks until all are done. Members look for a while
// and then sleep until called, so that a crew that has nothing to do costs nothing.

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <thread>
#include <vector>

namespace isodyne::engine {

class Crew {
 public:
  /// `work` and, once at the begin of each thread, `prepare` are told the number of the member, from 1 on.
  using Work = std::function<void(std::size_t)>;
  /// Returns when everybody is prepared. `most_guard_ns`: how long before they are expected to be called members look,
  /// at most.
  Crew(std::size_t members, Work work, Work prepare, std::int64_t most_guard_ns);
  ~Crew();
  Crew(const Crew&) = delete;
  Crew& operator=(const Crew&) = delete;

  /// Everybody works once, and sees what the leader did before. They are not called again before `not_before`
  /// (monotonic clock, ns; 0: at any time).
  void go(std::int64_t not_before);
  /// Returns when all are done; what they did is seen.
  void await();

  std::size_t members() const { return members_.size(); }
  /// How long the last work of a member took; after await().
  std::int64_t took_ns(std::size_t member) const { return members_[member - 1]->took_ns; }

 private:
  struct alignas(64) Member {
    std::atomic<std::uint32_t> done{0};
    std::int64_t took_ns = 0;
    std::thread thread;
  };
  void live(Member& member, std::size_t number, const Work& prepare, std::int64_t most_guard_ns);
  std::uint32_t called_after(std::uint32_t last) const;

  Work work_;
  std::atomic<std::size_t> ready_{0};
  std::atomic<std::uint32_t> called_{0};
  std::int64_t not_before_ = 0;  ///< written before called_
  std::atomic<bool> stopping_{false};
  std::vector<std::unique_ptr<Member>> members_;
};

}  // namespace isodyne::engine
