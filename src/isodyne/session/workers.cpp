#include "isodyne/session/workers.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <new>
#include <thread>

#include <poll.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/ports/library/foreign_calls.h"
#include "isodyne/session/worker.h"

namespace isodyne::session {

namespace {

/// Shared by all: which task comes next, and which each worker has in hand.
struct Hand {
  static constexpr std::size_t kMostWorkers = 64;
  std::atomic<std::uint64_t> next{0};
  std::atomic<std::uint64_t> task[kMostWorkers];
};
constexpr std::uint64_t kNoMore = std::uint64_t{1} << 60;  ///< of Hand::next: somebody said so

/// What is said comes in messages, which arrive whole or not at all: a worker may be ended anywhere.
struct Message {
  enum class Kind : std::uint32_t { more, last, broke };
  Kind kind = Kind::more;
  std::uint32_t bytes = 0;
  std::uint64_t piece = 0;
  std::int64_t process = 0;
  char text[32 * 1024];
};
constexpr std::size_t kHead = offsetof(Message, text);

bool send(int to, Message& m, std::string_view text) {
  m.bytes = static_cast<std::uint32_t>(text.size());
  m.process = getpid();
  std::memcpy(m.text, text.data(), text.size());
  for (;;) {
    const ssize_t n = ::send(to, &m, kHead + text.size(), MSG_NOSIGNAL);
    if (n >= 0) return true;
    if (errno != EINTR) return false;
  }
}

bool tell(int to, std::uint64_t piece, Message::Kind last, std::string_view text) {
  Message m;
  m.piece = piece;
  do {
    const std::string_view part = text.substr(0, sizeof m.text);
    text.remove_prefix(part.size());
    m.kind = text.empty() ? last : Message::Kind::more;
    if (!send(to, m, part)) return false;
  } while (!text.empty());
  return true;
}

using Work = std::function<void(const Task&, Teller&)>;

/// What the workers have to do, as they all know it before they begin.
struct Order {
  Hand& hand;
  const std::vector<Task>& tasks;
  const Work& work;
};

class ToParent : public Teller {
 public:
  ToParent(const Order& order, int to) : order_(order), to_(to) {}
  bool say(std::size_t piece, std::string_view text) override { return tell(to_, piece, Message::Kind::last, text); }
  bool stopped() const override { return order_.hand.next.load() >= kNoMore; }

 private:
  const Order& order_;
  int to_;
};

/// In the child: tasks until there are none, or until this process is no clean place any more.
int do_tasks(const Order& order, std::size_t worker, int to) {
  ToParent teller(order, to);
  for (;;) {
    const std::uint64_t task = order.hand.next.fetch_add(1);
    order.hand.task[worker].store(task);
    if (task >= order.tasks.size()) return 0;
    order.work(order.tasks[task], teller);
    if (ports::libraries_left() > 0) return 0;
  }
}

/// A worker: keeps a child at work, which is held as a single run is, so that it cannot stand for ever.
[[noreturn]] void be_worker(const Order& order, std::size_t worker, int to) {
  prctl(PR_SET_PDEATHSIG, SIGKILL);
  int status = 0;
  while (status == 0 && order.hand.next.load() < order.tasks.size()) {
    status = in_own_process([&] { return do_tasks(order, worker, to); },
                            [&](const Broke& b) {
                              const std::uint64_t task = order.hand.task[worker].load();
                              if (task >= order.tasks.size()) return 0;
                              for (const std::size_t piece : order.tasks[task]) {
                                if (!tell(to, piece, Message::Kind::broke, b.why)) return 3;
                              }
                              return 0;
                            });
  }
  ::_exit(status);
}

struct Started {
  pid_t process = -1;
  int from = -1;
};

Started start(const Order& order, std::size_t worker, const std::vector<Started>& others) {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, ends) != 0) return {};
  std::fflush(stdout);
  std::fflush(stderr);
  const pid_t process = ::fork();
  if (process == 0) {
    ::close(ends[0]);
    for (const Started& o : others) ::close(o.from);
    be_worker(order, worker, ends[1]);
  }
  ::close(ends[1]);
  if (process < 0) {
    ::close(ends[0]);
    return {};
  }
  return {process, ends[0]};
}

/// Reads what there is; false when nobody will say anything any more.
bool hear(int from, std::vector<Piece>& all, const std::function<void(std::size_t)>& ready) {
  Message m;
  const ssize_t n = ::recv(from, &m, sizeof m, 0);
  if (n < 0 && errno == EINTR) return true;
  if (n <= 0) return false;
  if (static_cast<std::size_t>(n) < kHead || m.piece >= all.size()) return true;
  Piece& p = all[m.piece];
  if (p.done) return true;                             // of a task that broke it was said before
  if (m.kind == Message::Kind::broke) p.said.clear();  // of what it had begun to say
  p.process = m.process;
  p.said.append(m.text, std::min<std::size_t>(m.bytes, static_cast<std::size_t>(n) - kHead));
  if (m.kind == Message::Kind::more) return true;
  p.done = m.kind == Message::Kind::last;
  ready(m.piece);
  return true;
}

/// Where the system gives no process: here, one after another.
class ToSelf : public Teller {
 public:
  ToSelf(std::vector<Piece>& all, const std::function<void(std::size_t)>& ready, const bool& stop)
      : all_(all), ready_(ready), stop_(stop) {}
  bool say(std::size_t piece, std::string_view text) override {
    all_[piece] = {true, std::string(text), getpid()};
    ready_(piece);
    return true;
  }
  bool stopped() const override { return stop_; }

 private:
  std::vector<Piece>& all_;
  const std::function<void(std::size_t)>& ready_;
  const bool& stop_;
};

}  // namespace

std::size_t workers_of(std::size_t workers) {
  return workers == 0 ? std::max(1u, std::thread::hardware_concurrency()) : workers;
}

std::vector<Piece> in_workers(std::size_t pieces, std::size_t workers,
                              const std::function<std::string(std::size_t)>& work,
                              const std::function<bool(std::size_t, Piece&)>& heard) {
  std::vector<Task> tasks(pieces);
  for (std::size_t i = 0; i < pieces; ++i) tasks[i] = {i};
  return in_workers(
      pieces, tasks, workers, [&](const Task& task, Teller& teller) { teller.say(task[0], work(task[0])); }, heard);
}

std::vector<Piece> in_workers(std::size_t pieces, const std::vector<Task>& tasks, std::size_t workers, const Work& work,
                              const std::function<bool(std::size_t, Piece&)>& heard) {
  std::vector<Piece> all(pieces);
  workers = std::min({workers_of(workers), tasks.size(), Hand::kMostWorkers});
  std::vector<Started> running;
  void* memory = mmap(nullptr, sizeof(Hand), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  Hand* hand = memory == MAP_FAILED ? nullptr : new (memory) Hand;
  for (std::size_t w = 0; hand != nullptr && w < workers; ++w) {
    const Started s = start({*hand, tasks, work}, w, running);
    if (s.from >= 0) running.push_back(s);
  }
  bool stop = false;
  const std::function<void(std::size_t)> ready = [&](std::size_t piece) {
    if (!heard || heard(piece, all[piece])) return;
    stop = true;
    if (hand != nullptr) hand->next.store(kNoMore);
  };
  if (running.empty()) {
    ToSelf here(all, ready, stop);
    for (std::size_t i = 0; i < tasks.size() && !stop; ++i) work(tasks[i], here);
  }
  while (!running.empty()) {
    std::vector<pollfd> wanted;
    for (const Started& s : running) wanted.push_back({s.from, POLLIN, 0});
    if (::poll(wanted.data(), wanted.size(), -1) < 0 && errno != EINTR) break;
    for (std::size_t i = running.size(); i > 0; --i) {
      if (wanted[i - 1].revents == 0 || hear(running[i - 1].from, all, ready)) continue;
      ::close(running[i - 1].from);
      while (::waitpid(running[i - 1].process, nullptr, 0) < 0 && errno == EINTR) {
      }
      running.erase(running.begin() + static_cast<std::ptrdiff_t>(i - 1));
    }
  }
  for (Piece& p : all) {
    if (!p.done && p.process == 0) p.said = "its worker was ended from outside";  // or it was never begun
  }
  if (hand != nullptr) munmap(memory, sizeof(Hand));
  return all;
}

}  // namespace isodyne::session
