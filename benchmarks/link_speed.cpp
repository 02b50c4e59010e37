// Round trips over a link against the same bytes carried by hand: shared memory spinning and with futex, and UDP.
// Each turn measures both, one after the other; the ratio is that of the medians of a turn.

#include <algorithm>
#include <atomic>
#include <cstring>
#include <functional>
#include <thread>
#include <vector>

#include <linux/futex.h>
#include <netinet/in.h>
#include <pthread.h>
#include <sched.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/step_times.h"
#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/peer.h"

using namespace isodyne;

extern "C" int link_echo_spin(const char* address, std::uint64_t layout, std::uint32_t bytes);
extern "C" int link_echo_sleep(const char* address, std::uint64_t layout, std::uint32_t bytes);

namespace {

constexpr std::size_t kValues = 8, kBytes = kValues * 8;
constexpr int kTurns = 21;

void pin(int core) {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(static_cast<std::size_t>(core), &one);
  pthread_setaffinity_np(pthread_self(), sizeof one, &one);
}

StepTimes measure(int trips, const std::function<void()>& trip) {
  StepTimes times;
  for (int i = 0; i < trips; ++i) {
    const auto begin = Stopwatch::now();
    trip();
    times.add((Stopwatch::now() - begin).count());
  }
  return times;
}

// ---- by hand

struct alignas(64) Box {
  std::atomic<std::uint32_t> turn{0};
  char bytes[kBytes];
};

class BareMemory {
 public:
  explicit BareMemory(bool spin) : spin_(spin), thread_([this] { echo(); }) {}
  ~BareMemory() {
    stop_ = true;
    put(there_);
    thread_.join();
  }
  void trip() {
    std::memcpy(there_.bytes, values_, kBytes);
    put(there_);
    take(back_, ++seen_);
    std::memcpy(values_, back_.bytes, kBytes);
  }

 private:
  void put(Box& box) {
    box.turn.fetch_add(1, std::memory_order_release);
    if (!spin_) syscall(SYS_futex, &box.turn, FUTEX_WAKE, 1, nullptr, nullptr, 0);
  }
  void take(Box& box, std::uint32_t turn) {
    for (;;) {
      const std::uint32_t now = box.turn.load(std::memory_order_acquire);
      if (now == turn) return;
      if (!spin_) syscall(SYS_futex, &box.turn, FUTEX_WAIT, now, nullptr, nullptr, 0);
    }
  }
  void echo() {
    pin(0);
    for (std::uint32_t turn = 1;; ++turn) {
      take(there_, turn);
      if (stop_) return;
      std::memcpy(back_.bytes, there_.bytes, kBytes);
      put(back_);
    }
  }
  bool spin_;
  std::atomic<bool> stop_{false};
  Box there_, back_;
  char values_[kBytes] = {};
  std::uint32_t seen_ = 0;
  std::thread thread_;
};

class BareUdp {
 public:
  explicit BareUdp(std::size_t bytes) : bytes_(bytes) {
    auto any = ports::resolve("127.0.0.1:0", SOCK_DGRAM);
    for (int& s : sockets_) {
      s = socket(AF_INET, SOCK_DGRAM, 0);
      bind(s, any->pointer(), any->bytes);
    }
    for (int i = 0; i < 2; ++i) {
      ports::Peer other;
      other.bytes = sizeof other.address;
      getsockname(sockets_[1 - i], other.pointer(), &other.bytes);
      if (connect(sockets_[i], other.pointer(), other.bytes) != 0) std::abort();
    }
    thread_ = std::thread([this] { echo(); });
  }
  ~BareUdp() {
    char end = 0;
    (void)!send(sockets_[0], &end, 1, 0);
    thread_.join();
    for (const int s : sockets_) close(s);
  }
  void trip() {
    char bytes[2048] = {};
    (void)!send(sockets_[0], bytes, bytes_, 0);
    (void)!recv(sockets_[0], bytes, sizeof bytes, 0);
  }

 private:
  void echo() {
    pin(0);
    char bytes[2048];
    for (;;) {
      const ssize_t got = recv(sockets_[1], bytes, sizeof bytes, 0);
      if (got <= 1) return;
      (void)!send(sockets_[1], bytes, static_cast<std::size_t>(got), 0);
    }
  }
  std::size_t bytes_;
  int sockets_[2];
  std::thread thread_;
};

// ---- over the link

ports::Layout layout_of_reals() {
  ports::Layout layout;
  for (std::size_t i = 0; i < kValues; ++i) {
    ports::Field f;
    f.name = fmt::format("x{}", i);
    f.offset = 8 * i;
    f.first = i;
    layout.reads.push_back(f);
  }
  layout.writes = layout.reads;
  layout.reads_bytes = layout.writes_bytes = kBytes;
  layout.identity = 42;
  return layout;
}

class Link {
 public:
  enum class Over { spin, sleep, udp };
  explicit Link(Over over) : port_("c", layout_of_reals(), {"127.0.0.1:0", std::chrono::seconds(5), false}) {
    const Time period = std::chrono::milliseconds(1);
    std::string address;
    if (over == Over::udp) {
      if (!port_.open(period)) std::abort();
      address = "udp:" + port_.bound();
    } else {
      const auto spin =
          over == Over::spin ? std::chrono::nanoseconds(std::chrono::seconds(1)) : std::chrono::nanoseconds(0);
      auto pair = ports::link::shared_memory(ports::link::kHeadBytes + kBytes, spin);
      if (!pair) std::abort();
      theirs_ = std::move(pair->theirs);
      address = fmt::format("memory:{}", theirs_.number());
      port_.adopt(std::move(pair->ours), period);
    }
    thread_ = std::thread([=] {
      pin(0);
      (over == Over::spin ? link_echo_spin : link_echo_sleep)(address.c_str(), 42, kBytes);
    });
    for (;;) {
      const auto standing = port_.look(values_, values_);
      if (!standing) std::abort();
      if (*standing == ports::Standing::ready) break;
    }
  }
  ~Link() {
    port_.close();
    thread_.join();
  }
  void trip() {
    if (!port_.exchange(Time{}, values_, values_)) std::abort();
  }

 private:
  ports::LinkPort port_;
  ports::link::Descriptor theirs_;
  std::vector<double> values_ = std::vector<double>(kValues, 1.5);
  std::thread thread_;
};

/// Each side lives only during its own turn: one that spins would disturb the other.
template <typename MakeHand, typename MakeOurs>
void compare(const char* name, int trips, MakeHand make_hand, MakeOurs make_ours) {
  std::vector<double> ratios;
  StepTimes all[2];
  for (int turn = 0; turn < kTurns; ++turn) {
    const StepTimes a = [&] {
      const auto hand = make_hand();
      return measure(trips, [&] { hand->trip(); });
    }();
    const StepTimes b = [&] {
      const auto ours = make_ours();
      return measure(trips, [&] { ours->trip(); });
    }();
    ratios.push_back(b.quantile(0.5) / a.quantile(0.5));
    all[0].join(a);
    all[1].join(b);
  }
  std::sort(ratios.begin(), ratios.end());
  for (int i = 0; i < 2; ++i)
    fmt::print("{:24} {:>8} {:9.2f} {:9.2f} {:9.2f} {:9.1f}\n", i == 0 ? name : "", i == 0 ? "by hand" : "link",
               all[i].quantile(0.5) / 1e3, all[i].quantile(0.99) / 1e3, all[i].quantile(0.999) / 1e3,
               static_cast<double>(all[i].longest()) / 1e3);
  fmt::print("{:24} {:>8} {:9.2f}\n", "", "ratio", ratios[ratios.size() / 2]);
}

}  // namespace

int main() {
  pin(1);
  fmt::print("{:24} {:>8} {:>9} {:>9} {:>9} {:>9}   (round trip of {} bytes, us)\n", "", "", "p50", "p99", "p99.9",
             "most", kBytes);
  compare(
      "memory, spinning", 20'000, [] { return std::make_unique<BareMemory>(true); },
      [] { return std::make_unique<Link>(Link::Over::spin); });
  compare(
      "memory, futex", 3'000, [] { return std::make_unique<BareMemory>(false); },
      [] { return std::make_unique<Link>(Link::Over::sleep); });
  compare(
      "UDP on loopback", 3'000, [] { return std::make_unique<BareUdp>(ports::link::kHeadBytes + kBytes); },
      [] { return std::make_unique<Link>(Link::Over::udp); });
}
