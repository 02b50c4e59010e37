#pragma once
// Check sums of messages.

#include <cstddef>
#include <cstdint>
#include <span>

namespace isodyne {

/// CRC-32C (polynomial 0x1EDC6F41, reflected, start and end inverted), as in RFC 3720, appendix B.4. `before` is the
/// sum of what came before these bytes.
std::uint32_t crc32c(std::span<const std::byte> bytes, std::uint32_t before = 0);

}  // namespace isodyne
