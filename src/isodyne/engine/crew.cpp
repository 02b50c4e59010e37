#include "isodyne/engine/crew.h"

#include <sched.h>

#include "isodyne/core/guarded_sleep.h"

namespace isodyne::engine {

namespace {
// A few hundred microseconds: longer than a step that is worth a thread of its own, and far from what the kernel
// takes for a runaway.
constexpr int kLooks = 20'000;

void pause() {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#endif
}
}  // namespace

Crew::Crew(std::size_t members, Work work, Work prepare, std::int64_t most_guard_ns) : work_(std::move(work)) {
  for (std::size_t i = 0; i < members; ++i) members_.push_back(std::make_unique<Member>());
  for (std::size_t i = 0; i < members; ++i) {
    Member& m = *members_[i];
    m.thread = std::thread([this, &m, i, prepare, most_guard_ns] { live(m, i + 1, prepare, most_guard_ns); });
  }
  // A member begins on the processor of its leader: were that to look for it already, with real-time priority, it could
  // never leave.
  for (std::size_t now = 0; (now = ready_.load(std::memory_order_acquire)) < members;)
    ready_.wait(now, std::memory_order_acquire);
}

Crew::~Crew() {
  stopping_.store(true, std::memory_order_relaxed);  // seen with the call
  not_before_ = 0;
  called_.fetch_add(1, std::memory_order_release);
  called_.notify_all();
  for (const auto& m : members_) m->thread.join();
}

void Crew::go(std::int64_t not_before) {
  not_before_ = not_before;
  called_.fetch_add(1, std::memory_order_release);
  called_.notify_all();  // goes to the kernel only where somebody sleeps, and does not wait
}

void Crew::await() {
  const std::uint32_t wanted = called_.load(std::memory_order_relaxed);
  for (const auto& m : members_) {
    for (int looks = 0; m->done.load(std::memory_order_acquire) != wanted; ++looks) {
      pause();
      if (looks >= kLooks) sched_yield();  // without real-time priority the member may wait for this processor
    }
  }
}

std::uint32_t Crew::called_after(std::uint32_t last) const {
  for (int looks = 0; looks < kLooks; ++looks) {
    const std::uint32_t now = called_.load(std::memory_order_acquire);
    if (now != last) return now;
    pause();
  }
  called_.wait(last, std::memory_order_acquire);
  return called_.load(std::memory_order_acquire);
}

void Crew::live(Member& member, std::size_t number, const Work& prepare, std::int64_t most_guard_ns) {
  if (prepare) prepare(number);
  ready_.fetch_add(1, std::memory_order_release);
  ready_.notify_one();
  GuardedSleep sleep(most_guard_ns);
  std::uint32_t last = 0;
  for (;;) {
    last = called_after(last);
    if (stopping_.load(std::memory_order_relaxed)) return;
    const std::int64_t next = not_before_;  // the leader may write it again as soon as this is done
    const std::int64_t begin = monotonic_ns();
    work_(number);
    member.took_ns = monotonic_ns() - begin;
    member.done.store(last, std::memory_order_release);
    if (next > 0) sleep.until_before(next);
  }
}

}  // namespace isodyne::engine
