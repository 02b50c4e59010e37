#include "isodyne/io/frame.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>

namespace isodyne::io {

using model::BitRange;
using model::FrameField;

namespace {

std::uint64_t ones(int width) {
  return width >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << width) - 1;
}

/// The whole number nearest to a value that a field can hold.
double in_field(const FrameField& f, double x, bool& outside) {
  if (x >= f.lowest && x <= f.highest) return x;
  outside = true;
  return x > f.highest ? f.highest : f.lowest;
}

/// The bits of a field's number, as many as it has.
std::uint64_t bits_of(const FrameField& f, double raw) {
  return static_cast<std::uint64_t>(static_cast<std::int64_t>(raw)) & ones(f.bits.width);
}
double number_of(const FrameField& f, std::uint64_t bits) {
  const int spare = 64 - f.bits.width;
  if (f.is_signed) return static_cast<double>(static_cast<std::int64_t>(bits << spare) >> spare);
  return static_cast<double>(bits);
}

}  // namespace

// The quick conversions: beside 1.5 * 2^52, whole numbers from -2^51 to 2^51 are the last bits of a double, in two's
// complement. Wider fields (a time of 64 bits) are converted one by one afterwards.
namespace {

constexpr int kMostQuick = 51;
constexpr double kBeside = 6755399441055744.0;  // 1.5 * 2^52

// Simple loops that compilers make wide; for processors that can shift several numbers by different amounts at once
// there is a second version.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define ISODYNE_WIDE [[gnu::target_clones("avx2", "default")]]
#else
#define ISODYNE_WIDE
#endif

ISODYNE_WIDE void shift_in(const double* values, const std::uint64_t* mask, const std::uint64_t* shift,
                           std::uint64_t* out, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i)
    out[i] = (std::bit_cast<std::uint64_t>(values[i] + kBeside) & mask[i]) << shift[i];
}

ISODYNE_WIDE void shift_out(const std::uint64_t* words, const std::uint64_t* mask, const std::uint64_t* shift,
                            const std::uint64_t* sign, double* values, std::size_t n) {
  constexpr auto kBits = std::bit_cast<std::uint64_t>(kBeside);
  for (std::size_t i = 0; i < n; ++i) {
    const std::uint64_t bits = words[i] >> shift[i] & mask[i];
    values[i] = std::bit_cast<double>((bits ^ sign[i]) - sign[i] + kBits) - kBeside;
  }
}

}  // namespace

FrameCodec::FrameCodec(const model::Frame& frame)
    : word_end_(static_cast<std::size_t>(frame.words)),
      swap_(frame.bytes_from_high != (std::endian::native == std::endian::big)) {
  for (std::size_t i = 0; i < frame.fields.size(); ++i) value_.push_back(static_cast<std::uint32_t>(i));
  std::stable_sort(value_.begin(), value_.end(), [&](std::uint32_t a, std::uint32_t b) {
    return frame.fields[a].bits.word < frame.fields[b].bits.word;
  });
  for (const std::uint32_t v : value_) {
    const FrameField& f = frame.fields[v];
    if (f.bits.width > kMostQuick) wide_.push_back(static_cast<std::uint32_t>(mask_.size()));
    mask_.push_back(ones(f.bits.width));
    shift_.push_back(static_cast<std::uint64_t>(f.bits.shift));
    sign_.push_back(f.is_signed ? std::uint64_t{1} << (f.bits.width - 1) : 0);
    word_end_[static_cast<std::size_t>(f.bits.word)] = mask_.size();
  }
  for (std::size_t w = 1; w < word_end_.size(); ++w) word_end_[w] = std::max(word_end_[w], word_end_[w - 1]);
  for (std::size_t w = 0; w < word_end_.size(); ++w) {
    const std::size_t begin = w == 0 ? 0 : word_end_[w - 1];
    if (blocks_.empty() || word_end_[w] - blocks_.back().begin > kBlock) blocks_.push_back({w, w, begin, begin});
    blocks_.back().end_word = w + 1;
    blocks_.back().end = word_end_[w];
  }
  for (Block& b : blocks_) {
    for (std::size_t i = b.begin; i < b.end; ++i)
      b.straight = b.straight && value_[i] == value_[b.begin] + (i - b.begin);
  }
}

void FrameCodec::pack(std::span<const double> values, std::byte* bytes) const {
  for (const Block& b : blocks_) pack_block(b, values.data(), bytes);
}
void FrameCodec::unpack(const std::byte* bytes, std::span<double> values) const {
  for (const Block& b : blocks_) unpack_block(b, bytes, values.data());
}

void FrameCodec::pack_block(const Block& b, const double* values, std::byte* bytes) const {
  std::array<double, kBlock> in_order;
  std::array<std::uint64_t, kBlock> bits;
  const std::size_t n = b.end - b.begin;
  const double* from = n == 0 ? values : values + value_[b.begin];
  if (!b.straight) {
    for (std::size_t i = 0; i < n; ++i) in_order[i] = values[value_[b.begin + i]];
    from = in_order.data();
  }
  shift_in(from, mask_.data() + b.begin, shift_.data() + b.begin, bits.data(), n);
  for (const std::uint32_t w : wide_) {
    if (w < b.begin || w >= b.end) continue;
    const double x = values[value_[w]];
    const auto whole =
        x < 0x1p63 ? static_cast<std::uint64_t>(static_cast<std::int64_t>(x)) : static_cast<std::uint64_t>(x);
    bits[w - b.begin] = (whole & mask_[w]) << shift_[w];
  }
  std::size_t i = 0;
  for (std::size_t w = b.first_word; w < b.end_word; ++w) {
    std::uint64_t word = 0;
    for (const std::size_t end = word_end_[w] - b.begin; i < end; ++i) word |= bits[i];
    word = ordered(word);
    std::memcpy(bytes + 8 * w, &word, 8);
  }
}

void FrameCodec::unpack_block(const Block& b, const std::byte* bytes, double* values) const {
  std::array<double, kBlock> in_order;
  std::array<std::uint64_t, kBlock> words;
  const std::size_t n = b.end - b.begin;
  std::size_t i = 0;
  for (std::size_t w = b.first_word; w < b.end_word; ++w) {
    std::uint64_t word = 0;
    std::memcpy(&word, bytes + 8 * w, 8);
    word = ordered(word);
    for (const std::size_t end = word_end_[w] - b.begin; i < end; ++i) words[i] = word;
  }
  double* to = b.straight && n > 0 ? values + value_[b.begin] : in_order.data();
  shift_out(words.data(), mask_.data() + b.begin, shift_.data() + b.begin, sign_.data() + b.begin, to, n);
  if (!b.straight) {
    for (std::size_t k = 0; k < n; ++k) values[value_[b.begin + k]] = in_order[k];
  }
  for (const std::uint32_t w : wide_) {
    if (w < b.begin || w >= b.end) continue;
    const std::uint64_t bits = words[w - b.begin] >> shift_[w] & mask_[w];
    const auto whole = static_cast<std::int64_t>((bits ^ sign_[w]) - sign_[w]);
    values[value_[w]] = sign_[w] != 0 ? static_cast<double>(whole) : static_cast<double>(bits);
  }
}

void FrameFields::gather_field(std::size_t i, engine::PlantState& state) {
  const FrameField& f = frame_->fields[i];
  double x = 0;
  bool outside = false;
  switch (f.kind) {
    case FrameField::Kind::value:
      x = in_field(f, state[f.of], outside);
      break;
    case FrameField::Kind::constant:
      x = f.constant;
      break;
    case FrameField::Kind::time:
      x = static_cast<double>(static_cast<std::uint64_t>(state.now / f.unit) & ones(f.bits.width));
      break;
    case FrameField::Kind::counter:
      x = static_cast<double>(exchanges_ & ones(f.bits.width));
      break;
  }
  note(saturation_[i], outside, state.now);
  state[f.raw] = x;
}

void FrameFields::faults(engine::PlantState& state) const {
  const double now = to_seconds(state.now);
  for (const FrameField& f : frame_->fields) {
    if (f.tap == model::kNone) continue;
    engine::TapState& tap = state.taps[static_cast<std::size_t>(f.tap)];
    bool ignored = false;
    if (tap.active) state[f.raw] = in_field(f, std::round(engine::through_tap(tap, state[f.raw], now)), ignored);
  }
  for (const model::FramePort& p : frame_->ports) port(p, state, now);
}

/// A port is made of its fields; a fault on the port reaches them.
void FrameFields::port(const model::FramePort& p, engine::PlantState& state, double now) const {
  std::uint64_t bits = 0;
  for (const std::int32_t i : p.fields) {
    const FrameField& f = frame_->fields[static_cast<std::size_t>(i)];
    bits |= bits_of(f, state[f.raw]) << (f.bits.shift - p.bits.shift);
  }
  state[p.raw] = static_cast<double>(bits);
  if (p.tap == model::kNone || !state.taps[static_cast<std::size_t>(p.tap)].active) return;
  const double faulted =
      std::round(engine::through_tap(state.taps[static_cast<std::size_t>(p.tap)], state[p.raw], now));
  const double most = static_cast<double>(ones(p.bits.width));
  state[p.raw] = faulted >= 0 ? std::min(faulted, most) : 0;  // what is no number becomes 0
  for (const std::int32_t i : p.fields) {
    const FrameField& f = frame_->fields[static_cast<std::size_t>(i)];
    const auto all = static_cast<std::uint64_t>(state[p.raw]);
    state[f.raw] = number_of(f, all >> (f.bits.shift - p.bits.shift) & ones(f.bits.width));
  }
}

}  // namespace isodyne::io
