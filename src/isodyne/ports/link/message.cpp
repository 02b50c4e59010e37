#include "isodyne/ports/link/message.h"

#include <bit>
#include <cstring>

#include "isodyne/core/crc.h"

namespace isodyne::ports::link {

namespace {

static_assert(std::endian::native == std::endian::little, "the link is little endian, and so are all machines so far");

constexpr char kMark[4] = {'I', 'D', 'Y', 'L'};
constexpr std::size_t kSumAt = 44;

template <typename T>
void put(std::span<std::byte> to, std::size_t at, T value) {
  std::memcpy(to.data() + at, &value, sizeof value);
}
template <typename T>
T get(std::span<const std::byte> from, std::size_t at) {
  T value{};
  std::memcpy(&value, from.data() + at, sizeof value);
  return value;
}

std::uint32_t sum_of(std::span<const std::byte> bytes) {
  return crc32c(bytes.subspan(kHeadBytes), crc32c(bytes.first(kSumAt)));
}

}  // namespace

std::size_t write(const Message& m, std::span<std::byte> to) {
  const std::size_t bytes = kHeadBytes + m.payload.size();
  std::memcpy(to.data(), kMark, 4);
  put(to, 4, kVersion);
  put(to, 5, m.kind);
  put(to, 6, m.code);
  put(to, 8, m.session);
  put(to, 12, m.sequence);
  put(to, 16, m.time_ns);
  put(to, 24, m.period_ns);
  put(to, 32, m.layout);
  put(to, 40, static_cast<std::uint32_t>(m.payload.size()));
  if (!m.payload.empty()) std::memcpy(to.data() + kHeadBytes, m.payload.data(), m.payload.size());
  put(to, kSumAt, sum_of(to.first(bytes)));
  return bytes;
}

Reading read(std::span<const std::byte> from, Message& m) {
  if (from.size() < kHeadBytes || std::memcmp(from.data(), kMark, 4) != 0) return Reading::malformed;
  m.kind = get<Kind>(from, 5);
  if (get<std::uint8_t>(from, 4) != kVersion) return Reading::other_version;
  const auto payload = get<std::uint32_t>(from, 40);
  if (payload > kMostPayload || from.size() != kHeadBytes + payload) return Reading::malformed;
  if (get<std::uint32_t>(from, kSumAt) != sum_of(from)) return Reading::corrupted;
  if (m.kind < Kind::hello || m.kind > Kind::bye) return Reading::malformed;
  m.code = get<std::uint16_t>(from, 6);
  m.session = get<std::uint32_t>(from, 8);
  m.sequence = get<std::uint32_t>(from, 12);
  m.time_ns = get<std::int64_t>(from, 16);
  m.period_ns = get<std::int64_t>(from, 24);
  m.layout = get<std::uint64_t>(from, 32);
  m.payload = from.subspan(kHeadBytes);
  return Reading::good;
}

}  // namespace isodyne::ports::link
