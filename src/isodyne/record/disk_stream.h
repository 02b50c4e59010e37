#pragma once
// Writes large pieces of a file past the page cache, on a thread of its own.
//
// Copying into the page cache costs the kernel as much as all the rest of recording, and ends in pauses of up to a
// second whenever it has to make room. So pieces are gathered in a few buffers, and whole pages go from there to the
// disk; what is before the first whole page of a buffer and behind the last goes the ordinary way, as does everything
// where the file system cannot do without its cache. No page is ever written both ways.
//
// Used by one thread. Errors are values of errno, 0 if there is none; after the first nothing more is written.

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

namespace isodyne::record {

/// All of it, at this place of a file; the error, as everywhere here.
int write_at(int descriptor, const void* from, std::size_t bytes, std::uint64_t at);

class DiskStream {
 public:
  /// A piece of at least so many bytes is worth it.
  static constexpr std::size_t kWorthIt = 32 * 1024;

  DiskStream();
  DiskStream(const DiskStream&) = delete;
  DiskStream& operator=(const DiskStream&) = delete;
  ~DiskStream();

  /// Of a file that is open, and stays so until finish(). Throws what threads and memory throw.
  void begin(const std::string& file, int descriptor);
  bool begun() const { return thread_.joinable(); }
  /// Takes a copy of what belongs at this place of the file.
  int write(std::uint64_t at, const void* from, std::size_t bytes);
  /// Waits until all that was taken is written.
  int drain();
  /// The same, and lets go of the file.
  int finish();

 private:
  struct Buffer;
  std::unique_ptr<Buffer> empty_buffer();
  void hand_over();
  void work();
  int to_disk(Buffer& buffer);
  int directly(Buffer& buffer, std::size_t from, std::size_t to);
  int through_cache(Buffer& buffer, std::size_t from, std::size_t to);

  std::unique_ptr<Buffer> filling_;
  std::thread thread_;

  // Of the thread:
  int ordinary_ = -1, direct_ = -1;  ///< direct -1: there is no way past the cache

  std::mutex mutex_;  ///< of what follows
  std::condition_variable full_there_, written_;
  std::deque<std::unique_ptr<Buffer>> full_, empty_;
  bool busy_ = false, leave_ = false;
  int error_ = 0;
};

}  // namespace isodyne::record
