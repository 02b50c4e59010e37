#pragma once
// The messages of the link, byte by byte as docs/link.md says. All numbers are little endian.

#include <cstddef>
#include <cstdint>
#include <span>

namespace isodyne::ports::link {

constexpr std::size_t kHeadBytes = 48;
constexpr std::uint8_t kVersion = 1;
constexpr std::size_t kMostPayload = 60'000;  ///< what fits a datagram

enum class Kind : std::uint8_t {
  hello = 1,    ///< controller → bench: here I am; code: 0 starting, 1 ready
  welcome = 2,  ///< bench → controller: session, period, layout; code: 0 lockstep, 1 paced
  refusal = 3,  ///< bench → controller: code says why
  reads = 4,    ///< bench → controller
  writes = 5,   ///< controller → bench, with the sequence of the reads it answers
  bye = 6       ///< either: the end
};

/// Why a hello is refused.
enum class Refusal : std::uint16_t { version = 1, layout = 2, busy = 3 };

struct Message {
  Kind kind = Kind::hello;
  std::uint16_t code = 0;
  std::uint32_t session = 0, sequence = 0;
  std::int64_t time_ns = 0, period_ns = 0;
  std::uint64_t layout = 0;
  std::span<const std::byte> payload;  ///< inside the bytes that were read
};

enum class Reading { good, malformed, other_version, corrupted };

/// Writes a message to `to`, which has room for its head and payload; returns how many bytes it has.
std::size_t write(const Message& message, std::span<std::byte> to);
/// Reads one; on anything but `good` the message is not to be used, but for the kind of another version.
Reading read(std::span<const std::byte> from, Message& message);

}  // namespace isodyne::ports::link
