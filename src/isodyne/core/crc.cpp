#include "isodyne/core/crc.h"

#include <array>
#include <cstring>

#if defined(__x86_64__) && defined(__GNUC__)
#include <nmmintrin.h>
#define ISODYNE_CRC_INSTRUCTION 1
#endif

namespace isodyne {

namespace {

constexpr std::array<std::uint32_t, 256> make_table() {
  std::array<std::uint32_t, 256> table{};
  for (std::uint32_t i = 0; i < 256; ++i) {
    std::uint32_t c = i;
    for (int bit = 0; bit < 8; ++bit) c = (c >> 1) ^ ((c & 1u) != 0 ? 0x82F63B78u : 0u);
    table[i] = c;
  }
  return table;
}
constexpr auto kTable = make_table();

std::uint32_t by_table(std::span<const std::byte> bytes, std::uint32_t c) {
  for (const std::byte b : bytes) c = (c >> 8) ^ kTable[(c ^ static_cast<std::uint32_t>(b)) & 0xFFu];
  return c;
}

#ifdef ISODYNE_CRC_INSTRUCTION
__attribute__((target("sse4.2"))) std::uint32_t by_instruction(std::span<const std::byte> bytes, std::uint32_t c) {
  std::uint64_t wide = c;
  std::size_t at = 0;
  for (; at + 8 <= bytes.size(); at += 8) {
    std::uint64_t eight = 0;
    std::memcpy(&eight, bytes.data() + at, 8);
    wide = _mm_crc32_u64(wide, eight);
  }
  return by_table(bytes.subspan(at), static_cast<std::uint32_t>(wide));
}
#endif

}  // namespace

std::uint32_t crc32c(std::span<const std::byte> bytes, std::uint32_t before) {
#ifdef ISODYNE_CRC_INSTRUCTION
  static const bool quick = __builtin_cpu_supports("sse4.2") != 0;
  if (quick) return ~by_instruction(bytes, ~before);
#endif
  return ~by_table(bytes, ~before);
}

}  // namespace isodyne
