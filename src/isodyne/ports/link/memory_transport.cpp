// Two slots in shared memory, one for each direction; a newer message takes the place of an older one.
//
// A slot has a count, which is odd while a message is being written and grows by two with each. So a reader notices
// a new message, and one that changed while it was read. Who waits looks for a while and then sleeps on the count
// (futex); `asleep` tells the writer that somebody has to be woken. The layout is in docs/link.md.

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <climits>
#include <cstring>
#include <ctime>
#include <thread>
#include <vector>

#include <fcntl.h>
#include <linux/futex.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

#include "isodyne/ports/link/transport.h"

namespace isodyne::ports::link {

namespace {

using Clock = std::chrono::steady_clock;

constexpr char kMemoryMark[8] = {'I', 'D', 'Y', 'L', 'M', 'E', 'M', '1'};

struct Slot {
  std::atomic<std::uint32_t> count;
  std::atomic<std::uint32_t> asleep;
  std::uint32_t bytes;
  std::uint32_t reserved;
  std::byte* content() { return reinterpret_cast<std::byte*>(this + 1); }
};
static_assert(sizeof(Slot) == 16 && std::atomic<std::uint32_t>::is_always_lock_free);

struct Head {
  char mark[8];
  std::uint32_t slot_bytes;  ///< of each slot, its head included
  std::uint32_t reserved[13];
};
static_assert(sizeof(Head) == 64);

long futex(std::atomic<std::uint32_t>& word, int operation, std::uint32_t value, const timespec* within) {
  return syscall(SYS_futex, &word, operation, value, within, nullptr, 0);
}

void breathe() {
#if defined(__x86_64__)
  _mm_pause();
#else
  std::this_thread::yield();
#endif
}

class MemoryTransport : public Transport {
 public:
  MemoryTransport(void* memory, std::size_t bytes, int ours, std::chrono::nanoseconds spin)
      : memory_(memory),
        bytes_(bytes),
        slot_bytes_(static_cast<Head*>(memory)->slot_bytes),
        spin_(std::thread::hardware_concurrency() > 1 ? spin : std::chrono::nanoseconds(0)),
        out_(slot(ours)),
        in_(slot(1 - ours)),
        copy_(slot_bytes_) {}
  ~MemoryTransport() override { munmap(memory_, bytes_); }

  void send(std::span<const std::byte> message) override {
    if (message.size() > room()) return;
    const std::uint32_t count = out_.count.load(std::memory_order_relaxed);
    out_.count.store(count + 1, std::memory_order_relaxed);
    std::atomic_thread_fence(std::memory_order_release);  // whoever sees the content sees the odd count
    out_.bytes = static_cast<std::uint32_t>(message.size());
    std::memcpy(out_.content(), message.data(), message.size());
    // Sequentially consistent with the sleeper's store to `asleep` and load of `count`: one of both sees the other.
    out_.count.store(count + 2, std::memory_order_seq_cst);
    if (out_.asleep.load(std::memory_order_seq_cst) != 0) futex(out_.count, FUTEX_WAKE, INT_MAX, nullptr);
  }

  std::span<const std::byte> receive(std::chrono::nanoseconds within) override {
    const std::span<const std::byte> there = look();
    if (!there.empty() || within.count() <= 0) return there;
    const auto begin = Clock::now();
    for (;;) {
      for (int i = 0; i < 64 && looks_.count() > 0; ++i) {
        const std::span<const std::byte> got = look();
        if (!got.empty()) return found(got);
        breathe();
      }
      const auto waited = Clock::now() - begin;
      if (waited >= within) return {};
      if (waited < looks_) continue;
      in_vain();
      sleep(std::chrono::duration_cast<std::chrono::nanoseconds>(within - waited));
      const std::span<const std::byte> got = look();
      if (!got.empty()) return got;
    }
  }

 private:
  // Looking is quickest where the other end has a core of its own, and in its way where somebody else wants one: who
  // has looked in vain looks more shortly the next time, down to not at all, and tries again now and then.
  std::span<const std::byte> found(std::span<const std::byte> got) {
    looks_ = std::min(spin_, 2 * looks_);
    return got;
  }
  void in_vain() {
    constexpr std::chrono::nanoseconds kShortest{2000};
    constexpr int kTryAgain = 64;
    looks_ = looks_ / 4 < kShortest ? std::chrono::nanoseconds(0) : looks_ / 4;
    if (++vain_ % kTryAgain == 0) looks_ = std::min(spin_, 4 * kShortest);
  }

  Slot& slot(int index) const {
    auto* const at = static_cast<std::byte*>(memory_) + sizeof(Head) + static_cast<std::size_t>(index) * slot_bytes_;
    return *reinterpret_cast<Slot*>(at);
  }
  std::size_t room() const { return slot_bytes_ - sizeof(Slot); }

  std::span<const std::byte> look() {
    const std::uint32_t count = in_.count.load(std::memory_order_acquire);
    if (count == seen_ || (count & 1u) != 0) return {};
    // The other end may write anything at any time: the length is looked at once, and only the copy is believed.
    const std::size_t bytes = std::min<std::size_t>(in_.bytes, room());
    std::memcpy(copy_.data(), in_.content(), bytes);
    std::atomic_thread_fence(std::memory_order_acquire);
    if (in_.count.load(std::memory_order_relaxed) != count) return {};
    seen_ = count;
    return {copy_.data(), bytes};
  }

  void sleep(std::chrono::nanoseconds within) {
    const timespec time{static_cast<time_t>(within.count() / 1'000'000'000),
                        static_cast<long>(within.count() % 1'000'000'000)};
    in_.asleep.store(1, std::memory_order_seq_cst);
    const std::uint32_t count = in_.count.load(std::memory_order_seq_cst);
    if (count == seen_ || (count & 1u) != 0) futex(in_.count, FUTEX_WAIT, count, &time);
    in_.asleep.store(0, std::memory_order_relaxed);
  }

  void* memory_;
  std::size_t bytes_, slot_bytes_;
  std::chrono::nanoseconds spin_, looks_ = spin_;  ///< how long it looks at most, and at present
  int vain_ = 0;
  Slot& out_;
  Slot& in_;
  std::vector<std::byte> copy_;
  std::uint32_t seen_ = 0;
};

Failure failed(const char* what) {
  return {what, "", std::strerror(errno)};
}

}  // namespace

Result<Pair> shared_memory(std::size_t most, std::chrono::nanoseconds spin) {
  const std::size_t slot = (sizeof(Slot) + most + 63) / 64 * 64, bytes = sizeof(Head) + 2 * slot;
  Descriptor file(memfd_create("isodyne link", MFD_CLOEXEC | MFD_ALLOW_SEALING));
  if (!file.good() || ftruncate(file.number(), static_cast<off_t>(bytes)) != 0)
    return failed("cannot make shared memory");
  // Nobody can take the memory away under our feet.
  fcntl(file.number(), F_ADD_SEALS, F_SEAL_SHRINK | F_SEAL_GROW | F_SEAL_SEAL);
  void* const memory = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, file.number(), 0);
  if (memory == MAP_FAILED) return failed("cannot map shared memory");
  Head head{};
  std::memcpy(head.mark, kMemoryMark, sizeof kMemoryMark);
  head.slot_bytes = static_cast<std::uint32_t>(slot);
  std::memcpy(memory, &head, sizeof head);
  return Pair{std::make_unique<MemoryTransport>(memory, bytes, 0, spin), std::move(file)};
}

Result<std::unique_ptr<Transport>> shared_memory_of(int file, std::chrono::nanoseconds spin) {
  struct stat about {};
  if (fstat(file, &about) != 0) return failed("cannot look at shared memory");
  const auto bytes = static_cast<std::size_t>(about.st_size);
  void* const memory = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, file, 0);
  if (memory == MAP_FAILED) return failed("cannot map shared memory");
  return std::unique_ptr<Transport>(std::make_unique<MemoryTransport>(memory, bytes, 1, spin));
}

}  // namespace isodyne::ports::link
