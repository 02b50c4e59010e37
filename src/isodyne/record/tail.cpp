#include "isodyne/record/tail.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <libdeflate.h>

namespace isodyne::record {

namespace {

constexpr char kTitle[] = "isodyne tail 2\n";
constexpr std::size_t kTitleBytes = sizeof kTitle - 1;
constexpr std::uint64_t kRenewBytes = 8u << 20;

enum EntryKind : std::uint32_t { kRows = 1, kChunk = 2, kEvents = 3 };

struct Head {
  std::uint32_t kind, group;
  std::uint64_t first;
  std::uint32_t rows, bytes, sum, unused;
};

std::uint32_t sum_of(Head head, const char* content) {
  head.sum = 0;
  return libdeflate_crc32(libdeflate_crc32(0, &head, sizeof head), content, head.bytes);
}

template <typename T>
void add(std::vector<char>& to, const T* from, std::size_t count) {
  const auto* bytes = reinterpret_cast<const char*>(from);
  to.insert(to.end(), bytes, bytes + count * sizeof(T));
}

}  // namespace

TailWriter::~TailWriter() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

Status TailWriter::create(const std::string& file) {
  name_ = file;
  descriptor_ = ::open(file.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  if (descriptor_ >= 0) ::flock(descriptor_, LOCK_EX | LOCK_NB);  // tells that somebody writes; ends with the process
  if (descriptor_ < 0 || !write(kTitle, kTitleBytes)) return Failure{"cannot write", file, std::strerror(errno)};
  return Done{};
}

bool TailWriter::write(const char* from, std::size_t bytes) {
  while (bytes > 0) {
    const ssize_t put = ::write(descriptor_, from, bytes);
    if (put < 0 && errno == EINTR) continue;
    if (put <= 0) return false;
    from += put;
    bytes -= static_cast<std::size_t>(put);
    written_ += static_cast<std::uint64_t>(put);
  }
  return true;
}

bool TailWriter::entry(std::uint32_t kind, std::uint32_t group, std::uint64_t first, std::uint32_t rows,
                       const std::vector<char>& content, std::vector<char>& kept) {
  Head head{kind, group, first, rows, static_cast<std::uint32_t>(content.size()), 0, 0};
  head.sum = sum_of(head, content.data());
  const std::size_t begin = kept.size();
  add(kept, &head, 1);
  add(kept, content.data(), content.size());
  return write(kept.data() + begin, kept.size() - begin);
}

bool TailWriter::rows(std::uint32_t group, const Block& block, std::size_t from, std::size_t to) {
  std::vector<char> content;
  add(content, block.times.data() + from, to - from);
  for (std::size_t c = 0; c < block.columns(); ++c) add(content, block.column(c) + from, to - from);
  return entry(kRows, group, block.first + from, static_cast<std::uint32_t>(to - from), content, open_[group]);
}

bool TailWriter::chunk(std::uint32_t group, std::uint64_t first, std::uint32_t rows,
                       const std::vector<ChunkPlace>& places) {
  open_[group].clear();
  std::vector<char> content;
  add(content, places.data(), places.size());
  if (!entry(kChunk, group, first, rows, content, chunks_)) return false;
  return written_ < kRenewBytes + 2 * (chunks_.size() + events_.size()) || renew();
}

bool TailWriter::events(std::uint64_t first, const std::vector<EventRow>& rows) {
  std::vector<char> content;
  add(content, rows.data(), rows.size());
  return entry(kEvents, 0, first, static_cast<std::uint32_t>(rows.size()), content, events_);
}

/// Without what is out of date. The old file stays what it is for those who read it.
bool TailWriter::renew() {
  const std::string fresh = name_ + ".new";
  const int old = descriptor_;
  descriptor_ = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  bool good = descriptor_ >= 0;
  if (good) ::flock(descriptor_, LOCK_EX | LOCK_NB);
  written_ = 0;
  good = good && write(kTitle, kTitleBytes) && write(chunks_.data(), chunks_.size());
  for (const auto& [group, entries] : open_) good = good && write(entries.data(), entries.size());
  good = good && write(events_.data(), events_.size());
  if (good) good = ::rename(fresh.c_str(), name_.c_str()) == 0;
  ::close(good || descriptor_ < 0 ? old : std::exchange(descriptor_, old));
  return good;
}

void TailWriter::remove() {
  if (descriptor_ >= 0) ::close(std::exchange(descriptor_, -1));
  ::unlink(name_.c_str());
}

bool tail_grows(const std::string& file) {
  const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
  if (descriptor < 0) return false;
  const bool locked = ::flock(descriptor, LOCK_SH | LOCK_NB) != 0 && errno == EWOULDBLOCK;
  ::close(descriptor);
  return locked;
}

std::string tail_of(const std::string& recording) {
  // Of a run in pieces the recording is a link to the newest, beside which its tail lies.
  std::error_code none;
  std::filesystem::path file(recording);
  if (std::filesystem::is_symlink(file, none)) {
    const auto target = std::filesystem::read_symlink(file, none);
    file = target.is_absolute() ? target : file.parent_path() / target;
  }
  return file.replace_extension(".tail").string();
}

Result<Tail> Tail::read(const std::string& file) {
  std::error_code none;
  if (!std::filesystem::is_regular_file(file, none)) return Failure{"cannot read", file, "it is no file"};
  std::ifstream in(file, std::ios::binary);
  if (!in) return Failure{"cannot read", file, std::strerror(errno)};
  const std::vector<char> all{std::istreambuf_iterator<char>(in), {}};
  if (all.size() < kTitleBytes || std::memcmp(all.data(), kTitle, kTitleBytes) != 0)
    return Failure{"cannot read", file, "it is not the tail of a recording"};
  Tail tail;
  std::map<std::uint32_t, std::uint64_t> settled, known;
  std::uint64_t events = 0;
  Head head{};
  for (std::size_t at = kTitleBytes; all.size() - at >= sizeof head; at += sizeof head + head.bytes) {
    std::memcpy(&head, all.data() + at, sizeof head);
    const char* content = all.data() + at + sizeof head;
    if (head.bytes > all.size() - at - sizeof head || sum_of(head, content) != head.sum) break;
    // No chunk has more rows, so that few bytes cannot speak of many.
    constexpr std::uint32_t kMostChunkRows = 1u << 16;
    if (head.kind == kChunk && head.first == settled[head.group] && head.rows <= kMostChunkRows) {
      Chunk chunk{head.first, head.rows, std::vector<ChunkPlace>(head.bytes / sizeof(ChunkPlace))};
      std::memcpy(chunk.places.data(), content, chunk.places.size() * sizeof(ChunkPlace));
      tail.chunks[head.group].push_back(std::move(chunk));
      settled[head.group] += head.rows;
      known[head.group] = std::max(known[head.group], settled[head.group]);
      std::erase_if(tail.rows[head.group], [&](const Rows& r) { return r.first < settled[head.group]; });
    } else if (head.kind == kRows && head.first == known[head.group] && head.rows > 0 && head.bytes % 8 == 0 &&
               head.bytes / 8 % head.rows == 0 && head.bytes / 8 >= head.rows) {
      Rows rows{head.first, std::vector<std::int64_t>(head.rows), std::vector<double>(head.bytes / 8 - head.rows)};
      std::memcpy(rows.times.data(), content, head.rows * 8u);
      std::memcpy(rows.values.data(), content + head.rows * 8u, rows.values.size() * 8);
      tail.rows[head.group].push_back(std::move(rows));
      known[head.group] += head.rows;
    } else if (head.kind == kEvents && head.bytes == head.rows * sizeof(EventRow)) {
      for (std::uint32_t i = 0; i < head.rows; ++i) {
        EventRow row{};
        std::memcpy(&row, content + i * sizeof row, sizeof row);
        if (head.first + i < events) continue;
        tail.events.emplace_back(head.first + i, row);
        events = head.first + i + 1;
      }
    }
  }
  return tail;
}

}  // namespace isodyne::record
