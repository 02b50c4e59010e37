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

/// Shared by all: which piece comes next, and which each worker has in hand.
struct Hand {
  static constexpr std::size_t kMostWorkers = 64;
  std::atomic<std::uint64_t> next{0};
  std::atomic<std::uint64_t> piece[kMostWorkers];
};

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

using Work = std::function<std::string(std::size_t)>;

/// In the child: pieces until there are none, or until this process is no clean place any more.
int do_pieces(Hand& hand, std::size_t worker, std::size_t pieces, int to, const Work& work) {
  for (;;) {
    const std::uint64_t piece = hand.next.fetch_add(1);
    hand.piece[worker].store(piece);
    if (piece >= pieces) return 0;
    if (!tell(to, piece, Message::Kind::last, work(piece))) return 3;
    if (ports::libraries_left() > 0) return 0;
  }
}

/// A worker: keeps a child at work, which is held as a single run is, so that it cannot stand for ever.
[[noreturn]] void be_worker(Hand& hand, std::size_t worker, std::size_t pieces, int to, const Work& work) {
  prctl(PR_SET_PDEATHSIG, SIGKILL);
  int status = 0;
  while (status == 0 && hand.next.load() < pieces) {
    status = in_own_process([&] { return do_pieces(hand, worker, pieces, to, work); },
                            [&](const Broke& b) {
                              const std::uint64_t piece = hand.piece[worker].load();
                              return piece >= pieces || tell(to, piece, Message::Kind::broke, b.why) ? 0 : 3;
                            });
  }
  ::_exit(status);
}

struct Started {
  pid_t process = -1;
  int from = -1;
};

Started start(Hand& hand, std::size_t worker, std::size_t pieces, const Work& work,
              const std::vector<Started>& others) {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, ends) != 0) return {};
  std::fflush(stdout);
  std::fflush(stderr);
  const pid_t process = ::fork();
  if (process == 0) {
    ::close(ends[0]);
    for (const Started& o : others) ::close(o.from);
    be_worker(hand, worker, pieces, ends[1], work);
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
  if (m.kind == Message::Kind::broke) p.said.clear();  // of what it had begun to say
  p.process = m.process;
  p.said.append(m.text, std::min<std::size_t>(m.bytes, static_cast<std::size_t>(n) - kHead));
  if (m.kind == Message::Kind::more) return true;
  p.done = m.kind == Message::Kind::last;
  ready(m.piece);
  return true;
}

}  // namespace

std::vector<Piece> in_workers(std::size_t pieces, std::size_t workers, const Work& work,
                              const std::function<bool(std::size_t, Piece&)>& heard) {
  std::vector<Piece> all(pieces);
  if (workers == 0) workers = std::max(1u, std::thread::hardware_concurrency());
  workers = std::min({workers, pieces, Hand::kMostWorkers});
  std::vector<Started> running;
  void* memory = mmap(nullptr, sizeof(Hand), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  Hand* hand = memory == MAP_FAILED ? nullptr : new (memory) Hand;
  for (std::size_t w = 0; hand != nullptr && w < workers; ++w) {
    const Started s = start(*hand, w, pieces, work, running);
    if (s.from >= 0) running.push_back(s);
  }
  const auto ready = [&](std::size_t piece) {
    if (heard && !heard(piece, all[piece]) && hand != nullptr) hand->next.store(pieces);
  };
  if (running.empty()) {  // the system gives no process: here, one after another
    bool more = true;
    for (std::size_t i = 0; i < pieces && more; ++i) {
      all[i] = {true, work(i), getpid()};
      more = !heard || heard(i, all[i]);
    }
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
