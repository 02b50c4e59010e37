#include "isodyne/record/byte_planes.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <memory>

#include <libdeflate.h>

namespace isodyne::record {

namespace {

/// RFC 1951, 3.2.6: the fixed Huffman codes of literals and lengths, as the bits go out.
struct Code {
  std::uint16_t bits = 0;
  std::uint8_t count = 0;
};

constexpr Code fixed_code(unsigned symbol) {
  unsigned code = 0, count = 0;
  if (symbol < 144) {
    code = 0x30 + symbol, count = 8;
  } else if (symbol < 256) {
    code = 0x190 + symbol - 144, count = 9;
  } else if (symbol < 280) {
    code = symbol - 256, count = 7;
  } else {
    code = 0xC0 + symbol - 280, count = 8;
  }
  unsigned turned = 0;
  for (unsigned i = 0; i < count; ++i) turned |= ((code >> i) & 1u) << (count - 1 - i);
  return {static_cast<std::uint16_t>(turned), static_cast<std::uint8_t>(count)};
}

constexpr auto kCodes = [] {
  std::array<Code, 288> codes{};
  for (unsigned i = 0; i < codes.size(); ++i) codes[i] = fixed_code(i);
  return codes;
}();

/// The whole of a repetition of the byte before, `length` times (3 to 258): length code, extra bits, distance 1.
struct Repetition {
  std::uint32_t bits = 0;
  std::uint8_t count = 0;
};

constexpr auto kRepetitions = [] {
  constexpr std::array<unsigned, 29> base = {3,  4,  5,  6,  7,  8,  9,  10, 11,  13,  15,  17,  19,  23, 27,
                                             31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227, 258};
  constexpr std::array<unsigned, 29> extra = {0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2,
                                              2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0};
  std::array<Repetition, 259> all{};
  for (unsigned length = 3; length <= 258; ++length) {
    unsigned i = 28;
    while (base[i] > length) --i;
    const Code code = kCodes[257 + i];
    const unsigned more = extra[i];
    all[length].bits = code.bits | ((length - base[i]) << code.count);
    all[length].count = static_cast<std::uint8_t>(code.count + more + 5);  // the code of distance 1 is five zeros
  }
  return all;
}();

constexpr std::size_t kMostStored = 65535;

/// How many bytes are the same as the one before.
std::size_t repeated(const std::uint8_t* from, std::size_t bytes) {
  std::size_t count = 0;
  for (std::size_t begin = 1; begin < bytes;) {
    const std::size_t end = std::min(bytes, begin + 255);
    std::uint8_t some = 0;  // of 255 at most, so that the loop works on bytes side by side
    for (std::size_t i = begin; i < end; ++i) some = static_cast<std::uint8_t>(some + (from[i] == from[i - 1] ? 1 : 0));
    count += some;
    begin = end;
  }
  return count;
}

/// Eight elements of eight bytes become eight bytes of each plane: a transposition in three steps of swaps.
void transpose(std::array<std::uint64_t, 8>& x) {
  const auto swap = [&](std::size_t a, std::size_t b, unsigned by, std::uint64_t mask) {
    const std::uint64_t t = ((x[a] >> by) ^ x[b]) & mask;
    x[b] ^= t;
    x[a] ^= t << by;
  };
  for (const std::size_t i : {0, 2, 4, 6}) swap(i, i + 1, 8, 0x00FF00FF00FF00FFULL);
  for (const std::size_t i : {0, 1, 4, 5}) swap(i, i + 2, 16, 0x0000FFFF0000FFFFULL);
  for (const std::size_t i : {0, 1, 2, 3}) swap(i, i + 4, 32, 0x00000000FFFFFFFFULL);
}

}  // namespace

void BytePlanes::shuffle(const std::uint8_t* from, std::size_t rows, std::size_t size) {
  std::size_t row = 0;
  if (size == 8) {
    for (; row + 8 <= rows; row += 8) {
      std::array<std::uint64_t, 8> x{};
      std::memcpy(x.data(), from + row * 8, sizeof x);
      transpose(x);
      for (std::size_t b = 0; b < 8; ++b) std::memcpy(&planes_[b * rows + row], &x[b], 8);
    }
  }
  for (; row < rows; ++row) {
    for (std::size_t b = 0; b < size; ++b) planes_[b * rows + row] = from[row * size + b];
  }
}

inline void BytePlanes::put(std::uint64_t bits, unsigned count) {
  bits_ |= bits << held_;
  held_ += count;
  if (held_ < 32) return;
  const auto low = static_cast<std::uint32_t>(bits_);
  std::memcpy(&out_[used_], &low, 4);
  used_ += 4;
  bits_ >>= 32;
  held_ -= 32;
}

void BytePlanes::pad() {
  while (held_ > 0) {
    out_[used_++] = static_cast<std::uint8_t>(bits_);
    bits_ >>= 8;
    held_ -= std::min(held_, 8u);
  }
  bits_ = 0;
}

void BytePlanes::bytes_out(const void* from, std::size_t bytes) {
  std::memcpy(&out_[used_], from, bytes);
  used_ += bytes;
}

void BytePlanes::stored(const std::uint8_t* from, std::size_t bytes, bool last) {
  while (bytes > 0) {
    const std::size_t now = std::min(bytes, kMostStored);
    put(last && now == bytes ? 1 : 0, 3);
    pad();
    const auto length = static_cast<std::uint16_t>(now), not_length = static_cast<std::uint16_t>(~length);
    bytes_out(&length, 2);
    bytes_out(&not_length, 2);
    bytes_out(from, now);
    from += now;
    bytes -= now;
  }
}

void BytePlanes::runs(const std::uint8_t* from, std::size_t bytes, bool last) {
  put(last ? 3 : 2, 3);  // fixed codes
  for (std::size_t i = 0; i < bytes;) {
    const std::uint8_t byte = from[i];
    const std::uint64_t eight = 0x0101010101010101ULL * byte;
    std::size_t end = i + 1;
    for (std::uint64_t next = 0; end + 8 <= bytes; end += 8) {
      std::memcpy(&next, from + end, 8);
      if (next != eight) break;
    }
    while (end < bytes && from[end] == byte) ++end;
    put(kCodes[byte].bits, kCodes[byte].count);
    std::size_t left = end - i - 1;
    while (left >= 3) {
      const std::size_t now = left > 258 && left < 261 ? 200 : std::min<std::size_t>(left, 258);
      put(kRepetitions[now].bits, kRepetitions[now].count);
      left -= now;
    }
    for (; left > 0; --left) put(kCodes[byte].bits, kCodes[byte].count);
    i = end;
  }
  put(kCodes[256].bits, kCodes[256].count);
}

std::span<const std::uint8_t> BytePlanes::compress(const void* elements, std::size_t rows, std::size_t size) {
  const std::size_t bytes = rows * size;
  planes_.resize(bytes);
  out_.resize(bytes + bytes / 4 + size * 16 + 64);  // a literal takes 9 bits at most
  used_ = 0;
  shuffle(static_cast<const std::uint8_t*>(elements), rows, size);
  out_[used_++] = 0x78;
  out_[used_++] = 0x01;
  for (std::size_t b = 0; b < size; ++b) {
    const std::uint8_t* plane = planes_.data() + b * rows;
    // A run costs a literal and a repetition, some 20 bits: worth it from a half on.
    const bool in_runs = repeated(plane, rows) * 3 > rows * 2;
    in_runs ? runs(plane, rows, b + 1 == size) : stored(plane, rows, b + 1 == size);
  }
  pad();
  const std::uint32_t sum = libdeflate_adler32(1, planes_.data(), bytes);
  for (const unsigned by : {24u, 16u, 8u, 0u}) out_[used_++] = static_cast<std::uint8_t>(sum >> by);
  return {out_.data(), used_};
}

bool expand_planes(std::span<const std::uint8_t> stream, std::size_t rows, std::size_t size, void* elements) {
  const std::unique_ptr<libdeflate_decompressor, decltype(&libdeflate_free_decompressor)> by(
      libdeflate_alloc_decompressor(), libdeflate_free_decompressor);
  std::vector<std::uint8_t> planes(rows * size);
  std::size_t got = 0;
  const auto result =
      libdeflate_zlib_decompress(by.get(), stream.data(), stream.size(), planes.data(), planes.size(), &got);
  if (result != LIBDEFLATE_SUCCESS || got != planes.size()) return false;
  auto* to = static_cast<std::uint8_t*>(elements);
  for (std::size_t b = 0; b < size; ++b) {
    for (std::size_t row = 0; row < rows; ++row) to[row * size + b] = planes[b * rows + row];
  }
  return true;
}

}  // namespace isodyne::record
