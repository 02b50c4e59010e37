#pragma once
// Who has come in through a Unix socket: lines from them, and lines to them.
//
// One thread calls everything but wake(). Nobody is waited for: what a client does not take is kept for it up to a
// bound, from which on nothing more is read of it either; what may be left out (see room()) is then left out.

#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/descriptor.h"
#include "isodyne/core/result.h"

namespace isodyne::remote {

class Clients {
 public:
  static constexpr std::size_t kMost = 16, kLongestLine = 1u << 20, kMostWaiting = 1u << 20;

  /// A socket of this name in the folder, for this user alone. One that a killed run has left behind is taken over.
  static Result<std::unique_ptr<Clients>> listen(const std::string& folder, const std::string& name);
  ~Clients();

  /// Waits for something to happen, for so long at most, and sees to it: `line(client, text)`, `gone(client)`.
  void see(std::chrono::milliseconds most, const std::function<void(int, std::string_view)>& line,
           const std::function<void(int)>& gone);
  /// From any thread: see() returns.
  void wake();

  void send(int client, const std::string& line);
  void send_all(const std::string& line);
  /// Whether a client takes what it gets: else what may be left out is.
  bool room(int client) const;
  /// So many answers more are on their way to it: it stays for them when it has said all.
  void owe(int client, int more) {
    if (const auto found = all_.find(client); found != all_.end()) found->second.owed += more;
  }
  /// Its line is the last one.
  void refuse(int client, const std::string& line);
  bool here(int client) const { return all_.contains(client); }
  /// What waits goes out, as far as it is taken within this time.
  void finish(std::chrono::milliseconds most);

 private:
  struct One {
    Descriptor socket;
    std::string in, out;
    std::size_t sent = 0;
    int owed = 0;
    bool last = false;  ///< nothing more is read of it
    std::size_t waiting() const { return out.size() - sent; }
  };
  Clients(std::string name, Descriptor folder, Descriptor listener, Descriptor waker)
      : name_(std::move(name)), folder_(std::move(folder)), listener_(std::move(listener)), waker_(std::move(waker)) {}
  void welcome();
  bool read(int number, One& one, const std::function<void(int, std::string_view)>& line);
  void hear(int number, One& one, const std::function<void(int, std::string_view)>& line);
  static bool write(One& one);

  std::string name_;
  Descriptor folder_, listener_, waker_;
  std::map<int, One> all_;  ///< by numbers that are never given twice
  int next_ = 1;
};

/// The other end: lines to a run and from it.
class Connection {
 public:
  static Result<std::unique_ptr<Connection>> to(const std::string& folder, const std::string& name);
  /// Through the standard input and output of a program, found along the path: ssh, and what it starts at its other
  /// end.
  static Result<std::unique_ptr<Connection>> through(const std::vector<std::string>& words);
  ~Connection();
  /// False: nobody is there any more.
  bool send(const std::string& line);
  /// The next line, without its end. Nothing: there was none within this time, or nobody is there any more.
  std::optional<std::string> line(std::chrono::milliseconds most);
  bool closed() const { return closed_; }
  int number() const { return socket_.number(); }
  /// What the program has complained about; empty without one.
  std::string complaint() const;

 private:
  explicit Connection(Descriptor socket) : socket_(std::move(socket)) {}
  static constexpr std::size_t kMostUnread = 64u << 20;
  Descriptor socket_, complaints_;
  int program_ = 0;
  std::string in_;
  bool closed_ = false;
};

}  // namespace isodyne::remote
