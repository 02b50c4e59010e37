#include "isodyne/remote/clients.h"

#include <cerrno>
#include <csignal>
#include <cstring>
#include <filesystem>

#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/eventfd.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/remote/rpc.h"

namespace isodyne::remote {

namespace {

using std::chrono::milliseconds;

Failure failed(const std::string& what, const std::string& path) {
  return {what, path, std::strerror(errno)};
}

/// Paths of folders may be longer than an address may be: it goes over the open folder.
sockaddr_un address_in(const Descriptor& folder, const std::string& name) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  const std::string path = fmt::format("/proc/self/fd/{}/{}", folder.number(), name);
  std::memcpy(address.sun_path, path.c_str(), std::min(path.size(), sizeof address.sun_path - 1));
  return address;
}

const sockaddr* general(const sockaddr_un& address) {
  return reinterpret_cast<const sockaddr*>(&address);
}

int left_of(std::chrono::steady_clock::time_point end) {
  const auto left = std::chrono::ceil<milliseconds>(end - std::chrono::steady_clock::now());
  return static_cast<int>(std::max<std::int64_t>(0, left.count()));
}

}  // namespace

Result<std::unique_ptr<Clients>> Clients::listen(const std::string& folder, const std::string& name) {
  const std::string path = (std::filesystem::path(folder) / name).string();
  const auto trouble = [&] { return failed("cannot let others in through", path); };
  Descriptor place(::open(folder.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  Descriptor listener(::socket(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0));
  Descriptor waker(::eventfd(0, EFD_NONBLOCK | EFD_CLOEXEC));
  if (!place.good() || !listener.good() || !waker.good()) return trouble();
  struct stat there {};
  if (fstatat(place.number(), name.c_str(), &there, AT_SYMLINK_NOFOLLOW) == 0 && S_ISSOCK(there.st_mode))
    unlinkat(place.number(), name.c_str(), 0);
  const sockaddr_un address = address_in(place, name);
  if (::bind(listener.number(), general(address), sizeof address) != 0) return trouble();
  // Nobody comes in before it listens.
  if (fchmodat(place.number(), name.c_str(), S_IRUSR | S_IWUSR, 0) != 0 ||
      ::listen(listener.number(), static_cast<int>(kMost)) != 0) {
    const Failure failure = trouble();
    unlinkat(place.number(), name.c_str(), 0);
    return failure;
  }
  return std::unique_ptr<Clients>(new Clients(name, std::move(place), std::move(listener), std::move(waker)));
}

Clients::~Clients() {
  unlinkat(folder_.number(), name_.c_str(), 0);
}

void Clients::wake() {
  const std::uint64_t one = 1;
  [[maybe_unused]] const ssize_t n = ::write(waker_.number(), &one, sizeof one);
}

void Clients::see(milliseconds most, const std::function<void(int, std::string_view)>& line,
                  const std::function<void(int)>& gone) {
  std::vector<pollfd> files{{waker_.number(), POLLIN, 0}, {listener_.number(), POLLIN, 0}};
  std::vector<int> whose;
  for (auto& [number, one] : all_) {
    const bool reads = !one.last && one.waiting() < kMostWaiting;
    files.push_back(
        {one.socket.number(), static_cast<short>((reads ? POLLIN : 0) | (one.waiting() > 0 ? POLLOUT : 0)), 0});
    whose.push_back(number);
    // It was not heard to the end while there was no room for answers.
    if (one.waiting() < kMostWaiting && one.in.find('\n') != std::string::npos) hear(number, one, line);
  }
  // Also where nothing comes: one that has said all may have got the last of its answers meanwhile.
  if (::poll(files.data(), files.size(), static_cast<int>(most.count())) < 0) return;
  std::uint64_t count = 0;
  [[maybe_unused]] const ssize_t woken = ::read(waker_.number(), &count, sizeof count);
  for (std::size_t i = 0; i < whose.size(); ++i) {
    One& one = all_.at(whose[i]);
    const short what = files[i + 2].revents;
    const bool stays = (what & (POLLERR | POLLNVAL)) == 0 && ((what & POLLOUT) == 0 || write(one)) &&
                       (one.last || (what & (POLLIN | POLLHUP)) == 0 || read(whose[i], one, line));
    const bool heard_out =
        one.last &&
        ((what & POLLHUP) != 0 || (one.waiting() == 0 && one.owed == 0 && one.in.find('\n') == std::string::npos));
    if (stays && !heard_out) continue;
    all_.erase(whose[i]);
    gone(whose[i]);
  }
  if (files[1].revents != 0) welcome();
}

void Clients::welcome() {
  for (;;) {
    Descriptor socket(::accept4(listener_.number(), nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC));
    if (!socket.good()) return;
    if (all_.size() >= kMost) {
      const std::string no =
          line_of(error_of(nullptr, RpcError::too_many, fmt::format("{} clients are here already", kMost)));
      [[maybe_unused]] const ssize_t n = ::send(socket.number(), no.data(), no.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
      continue;
    }
    all_[next_++].socket = std::move(socket);
  }
}

/// False: it has gone. One that says no more gets what is owed to it.
bool Clients::read(int number, One& one, const std::function<void(int, std::string_view)>& line) {
  char block[65'536];
  const ssize_t n = ::recv(one.socket.number(), block, sizeof block, MSG_DONTWAIT);
  if (n == 0) return one.last = true;
  if (n < 0) return errno == EAGAIN || errno == EINTR;
  one.in.append(block, static_cast<std::size_t>(n));
  hear(number, one, line);
  return true;
}

/// As many lines as there is room for answers.
void Clients::hear(int number, One& one, const std::function<void(int, std::string_view)>& line) {
  std::size_t at = 0;
  for (std::size_t end; one.waiting() < kMostWaiting && (end = one.in.find('\n', at)) != std::string::npos;
       at = end + 1) {
    const std::string_view text(one.in.data() + at, end - at);
    if (!text.empty() && text != "\r") line(number, text);
  }
  one.in.erase(0, at);
  if (one.in.size() > kLongestLine && one.in.find('\n') == std::string::npos)
    refuse(number, line_of(error_of(nullptr, RpcError::not_json, "a line is longer than a megabyte")));
}

bool Clients::write(One& one) {
  while (one.waiting() > 0) {
    const ssize_t n =
        ::send(one.socket.number(), one.out.data() + one.sent, one.waiting(), MSG_NOSIGNAL | MSG_DONTWAIT);
    if (n < 0) return errno == EAGAIN || errno == EINTR;
    one.sent += static_cast<std::size_t>(n);
  }
  one.out.clear();
  one.sent = 0;
  return true;
}

/// What cannot go out now goes with see(); whoever has gone is noticed there.
void Clients::send(int client, const std::string& line) {
  const auto found = all_.find(client);
  if (found == all_.end()) return;
  found->second.out += line;
  write(found->second);
}

void Clients::send_all(const std::string& line) {
  for (auto& [number, one] : all_) send(number, line);
}

bool Clients::room(int client) const {
  const auto found = all_.find(client);
  return found != all_.end() && found->second.waiting() < kMostWaiting / 4;
}

void Clients::refuse(int client, const std::string& line) {
  send(client, line);
  if (const auto found = all_.find(client); found != all_.end()) found->second.last = true;
}

void Clients::finish(milliseconds most) {
  const auto end = std::chrono::steady_clock::now() + most;
  for (bool waits = true; waits && left_of(end) > 0;) {
    std::vector<pollfd> files;
    waits = false;
    for (auto& [number, one] : all_) {
      if (one.waiting() > 0 && write(one) && one.waiting() > 0) files.push_back({one.socket.number(), POLLOUT, 0});
    }
    waits = !files.empty();
    if (waits) ::poll(files.data(), files.size(), left_of(end));
  }
}

Result<std::unique_ptr<Connection>> Connection::to(const std::string& folder, const std::string& name) {
  const Descriptor place(::open(folder.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (!place.good()) return failed("cannot open the run", folder);
  Descriptor socket(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  const sockaddr_un address = address_in(place, name);
  if (!socket.good() || ::connect(socket.number(), general(address), sizeof address) != 0) {
    if (errno == ENOENT || errno == ECONNREFUSED)
      return Failure{"nobody can speak to the run " + folder, "", "it is over, or was begun without --open"};
    return failed("cannot speak to the run", folder);
  }
  return std::unique_ptr<Connection>(new Connection(std::move(socket)));
}

Result<std::unique_ptr<Connection>> Connection::through(const std::vector<std::string>& words) {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) return failed("cannot start", words.at(0));
  Descriptor ours(ends[0]), theirs(ends[1]), complaints(::memfd_create("complaints", MFD_CLOEXEC));
  posix_spawn_file_actions_t files;
  posix_spawn_file_actions_init(&files);
  posix_spawn_file_actions_adddup2(&files, theirs.number(), 0);
  posix_spawn_file_actions_adddup2(&files, theirs.number(), 1);
  posix_spawn_file_actions_adddup2(&files, complaints.number(), 2);
  std::vector<char*> arguments;
  for (const std::string& w : words) arguments.push_back(const_cast<char*>(w.c_str()));
  arguments.push_back(nullptr);
  pid_t program = 0;
  const int trouble = ::posix_spawnp(&program, arguments[0], &files, nullptr, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&files);
  if (trouble != 0) return Failure{"cannot start", words[0], std::strerror(trouble)};
  std::unique_ptr<Connection> made(new Connection(std::move(ours)));
  made->complaints_ = std::move(complaints);
  made->program_ = program;
  return made;
}

/// It ends when nobody reads it; and if it does not, it is told to.
Connection::~Connection() {
  if (program_ <= 0) return;
  socket_ = Descriptor();
  for (int i = 0; i < 100; ++i) {
    if (::waitpid(program_, nullptr, WNOHANG) != 0) return;
    if (i == 50) ::kill(program_, SIGTERM);
    ::poll(nullptr, 0, 10);
  }
  ::kill(program_, SIGKILL);
  ::waitpid(program_, nullptr, 0);
}

std::string Connection::complaint() const {
  if (!complaints_.good()) return {};
  std::string text(4096, '\0');
  const ssize_t n = ::pread(complaints_.number(), text.data(), text.size(), 0);
  text.resize(n > 0 ? static_cast<std::size_t>(n) : 0);
  return one_line(printable(text));
}

bool Connection::send(const std::string& line) {
  for (std::size_t sent = 0; sent < line.size();) {
    const ssize_t n = ::send(socket_.number(), line.data() + sent, line.size() - sent, MSG_NOSIGNAL);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    sent += static_cast<std::size_t>(n);
  }
  return true;
}

std::optional<std::string> Connection::line(milliseconds most) {
  const auto end = std::chrono::steady_clock::now() + most;
  for (;;) {
    if (const std::size_t at = in_.find('\n'); at != std::string::npos) {
      std::string text = in_.substr(0, at);
      in_.erase(0, at + 1);
      return text;
    }
    if (closed_) return std::nullopt;
    pollfd file{socket_.number(), POLLIN, 0};
    if (::poll(&file, 1, left_of(end)) <= 0 && left_of(end) == 0) return std::nullopt;
    char block[65'536];
    const ssize_t n = ::recv(socket_.number(), block, sizeof block, MSG_DONTWAIT);
    if (n == 0 || (n < 0 && errno != EAGAIN && errno != EINTR)) closed_ = true;
    if (n > 0) in_.append(block, static_cast<std::size_t>(n));
    if (in_.size() > kMostUnread) closed_ = true, in_.clear();  // that is no run
  }
}

}  // namespace isodyne::remote
