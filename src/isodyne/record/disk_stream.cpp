#include "isodyne/record/disk_stream.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <memory>
#include <vector>

#include <fcntl.h>
#include <unistd.h>

namespace isodyne::record {

namespace {

constexpr std::size_t kPage = 4096;
constexpr std::size_t kBuffer = 1 << 20;  ///< larger ones are slower again on the disks that were measured
constexpr std::size_t kBuffers = 4;

}  // namespace

int write_at(int descriptor, const void* from, std::size_t bytes, std::uint64_t at) {
  const auto* next = static_cast<const unsigned char*>(from);
  while (bytes > 0) {
    const ssize_t put = ::pwrite(descriptor, next, bytes, static_cast<off_t>(at));
    if (put < 0 && errno == EINTR) continue;
    if (put <= 0) return put < 0 ? errno : EIO;
    next += put;
    at += static_cast<std::uint64_t>(put);
    bytes -= static_cast<std::size_t>(put);
  }
  return 0;
}

struct DiskStream::Buffer {
  std::uint64_t page = 0;  ///< where in the file its memory begins, a multiple of the page size
  std::size_t begin = 0, end = 0;
  std::vector<unsigned char> room = std::vector<unsigned char>(kBuffer + kPage);

  unsigned char* memory() {
    void* first = room.data();
    std::size_t bytes = room.size();
    return static_cast<unsigned char*>(std::align(kPage, kBuffer, first, bytes));
  }
};

DiskStream::DiskStream() = default;

DiskStream::~DiskStream() {
  finish();
}

void DiskStream::begin(const std::string& file, int descriptor) {
  ordinary_ = descriptor;
  direct_ = ::open(file.c_str(), O_WRONLY | O_DIRECT | O_CLOEXEC);
  for (std::size_t i = 0; i < kBuffers; ++i) empty_.push_back(std::make_unique<Buffer>());
  thread_ = std::thread([this] { work(); });
}

int DiskStream::write(std::uint64_t at, const void* from, std::size_t bytes) {
  const auto* next = static_cast<const unsigned char*>(from);
  while (bytes > 0) {
    if (filling_ && filling_->page + filling_->end != at) hand_over();
    if (!filling_) {
      filling_ = empty_buffer();
      filling_->page = at / kPage * kPage;
      filling_->begin = filling_->end = at % kPage;
    }
    const std::size_t some = std::min(bytes, kBuffer - filling_->end);
    std::memcpy(filling_->memory() + filling_->end, next, some);
    filling_->end += some;
    next += some;
    at += some;
    bytes -= some;
    if (filling_->end == kBuffer) hand_over();
  }
  const std::lock_guard lock(mutex_);
  return error_;
}

std::unique_ptr<DiskStream::Buffer> DiskStream::empty_buffer() {
  std::unique_lock lock(mutex_);
  written_.wait(lock, [&] { return !empty_.empty(); });
  auto first = std::move(empty_.front());
  empty_.pop_front();
  return first;
}

void DiskStream::hand_over() {
  {
    const std::lock_guard lock(mutex_);
    full_.push_back(std::move(filling_));
  }
  full_there_.notify_one();
}

int DiskStream::drain() {
  if (filling_) hand_over();
  std::unique_lock lock(mutex_);
  written_.wait(lock, [&] { return full_.empty() && !busy_; });
  return error_;
}

int DiskStream::finish() {
  const int error = drain();
  if (!thread_.joinable()) return error;
  {
    const std::lock_guard lock(mutex_);
    leave_ = true;
  }
  full_there_.notify_one();
  thread_.join();
  return error;
}

// ---- on the thread that writes --------------------------------------------------------------------------

void DiskStream::work() {
  std::unique_lock lock(mutex_);
  while (true) {
    full_there_.wait(lock, [&] { return leave_ || !full_.empty(); });
    if (full_.empty()) break;
    auto buffer = std::move(full_.front());
    full_.pop_front();
    busy_ = true;
    const bool good = error_ == 0;
    lock.unlock();
    const int error = good ? to_disk(*buffer) : 0;
    lock.lock();
    busy_ = false;
    if (good) error_ = error;
    empty_.push_back(std::move(buffer));
    written_.notify_one();
  }
  if (direct_ >= 0) ::close(direct_);
}

int DiskStream::to_disk(Buffer& buffer) {
  const std::size_t whole_from = (buffer.begin + kPage - 1) / kPage * kPage, whole_to = buffer.end / kPage * kPage;
  if (whole_from >= whole_to) return through_cache(buffer, buffer.begin, buffer.end);
  int error = through_cache(buffer, buffer.begin, whole_from);
  if (error == 0) error = directly(buffer, whole_from, whole_to);
  return error != 0 ? error : through_cache(buffer, whole_to, buffer.end);
}

int DiskStream::directly(Buffer& buffer, std::size_t from, std::size_t to) {
  if (direct_ >= 0) {
    const int error = write_at(direct_, buffer.memory() + from, to - from, buffer.page + from);
    if (error != EINVAL) return error;
    ::close(direct_);  // the file could be opened so, but not written
    direct_ = -1;
  }
  return through_cache(buffer, from, to);
}

int DiskStream::through_cache(Buffer& buffer, std::size_t from, std::size_t to) {
  return write_at(ordinary_, buffer.memory() + from, to - from, buffer.page + from);
}

}  // namespace isodyne::record
