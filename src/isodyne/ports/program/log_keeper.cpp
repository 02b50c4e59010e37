#include "isodyne/ports/program/log_keeper.h"

#include <algorithm>
#include <cerrno>
#include <cstring>

#include <fcntl.h>
#include <poll.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::ports {

namespace {
constexpr std::size_t kMostLines = 5, kMostColumns = 200;
}

Result<int> LogKeeper::start() {
  stop();
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return Failure{"cannot make a pipe for", file_, std::strerror(errno)};
  stopping_.store(false);
  thread_ = std::thread([this, from = ends[0]] { keep(from); });
  return ends[1];
}

void LogKeeper::stop() {
  stopping_.store(true);
  if (thread_.joinable()) thread_.join();
}

void LogKeeper::keep(int from) {
  const int to = file_.empty() ? -1 : ::open(file_.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0666);
  char block[16384];
  for (bool stopping = false;;) {
    pollfd wait{from, POLLIN, 0};
    // Once it shall stop, only what is there already is taken.
    const int ready = ::poll(&wait, 1, stopping ? 0 : 20);
    if (ready <= 0 && stopping) break;
    stopping = stopping_.load();
    if (ready <= 0) continue;
    const ssize_t bytes = ::read(from, block, sizeof block);
    if (bytes < 0 && errno == EINTR) continue;
    if (bytes <= 0) break;
    take(block, static_cast<std::size_t>(bytes), to);
  }
  if (to >= 0 && dropped_ > 0) {
    const std::string said = fmt::format("\n[{} bytes more were printed, and are not kept]\n", dropped_);
    (void)!::write(to, said.data(), said.size());
  }
  if (to >= 0) ::close(to);
  ::close(from);
}

void LogKeeper::take(const char* text, std::size_t bytes, int to) {
  const std::size_t kept = std::min<std::uint64_t>(bytes, kMostBytes - std::min(written_, kMostBytes));
  if (to >= 0 && kept > 0 && ::write(to, text, kept) < 0) dropped_ += kept;
  written_ += kept;
  dropped_ += bytes - kept;
  const std::lock_guard lock(mutex_);
  for (std::size_t i = 0; i < bytes; ++i) {
    if (lines_.empty()) lines_.emplace_back();
    if (text[i] == '\n') {
      lines_.emplace_back();
    } else if (lines_.back().size() < 4 * kMostColumns) {
      lines_.back() += text[i];
    }
    if (lines_.size() > kMostLines + 1) lines_.pop_front();
  }
}

std::string LogKeeper::last_lines() {
  const std::lock_guard lock(mutex_);
  std::string all;
  for (const std::string& line : lines_) {
    if (!line.empty()) all += "\n    " + std::string(first_columns(printable(line), kMostColumns));
  }
  return all;
}

}  // namespace isodyne::ports
