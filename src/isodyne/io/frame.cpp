#include "isodyne/io/frame.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <numeric>

namespace isodyne::io {

using program::BitRange;
using program::FrameField;

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

FrameCodec::FrameCodec(const program::Frame& frame)
    : swap_(frame.bytes_from_high != (std::endian::native == std::endian::big)),
      wide_(frame, swap_),
      word_end_(static_cast<std::size_t>(frame.words)) {
  std::vector<std::uint32_t> order(frame.fields.size());
  std::iota(order.begin(), order.end(), 0u);
  std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
    return frame.fields[a].bits.word < frame.fields[b].bits.word;
  });
  for (const std::uint32_t i : order) {
    const FrameField& f = frame.fields[i];
    entries_.push_back({ones(f.bits.width), f.is_signed ? std::uint64_t{1} << (f.bits.width - 1) : 0, i,
                        static_cast<std::uint16_t>(f.bits.word), static_cast<std::uint16_t>(f.bits.shift)});
    word_end_[static_cast<std::size_t>(f.bits.word)] = entries_.size();
  }
  for (std::size_t w = 1; w < word_end_.size(); ++w) word_end_[w] = std::max(word_end_[w], word_end_[w - 1]);
}

void FrameCodec::pack(std::span<const double> values, std::byte* bytes) const {
  const std::size_t first = wide_.words();
  if (first > 0) wide_.pack(values.data(), bytes);
  const Entry* e = entries_.data() + (first > 0 ? word_end_[first - 1] : 0);
  for (std::size_t w = first; w < word_end_.size(); ++w) {
    std::uint64_t word = 0;
    for (const Entry* end = entries_.data() + word_end_[w]; e != end; ++e)
      word |= (static_cast<std::uint64_t>(static_cast<std::int64_t>(values[e->value])) & e->mask) << e->shift;
    word = ordered(word);
    std::memcpy(bytes + 8 * w, &word, 8);
  }
}

void FrameCodec::unpack(const std::byte* bytes, std::span<double> values) const {
  if (wide_.fields() > 0) wide_.unpack(bytes, values.data());
  const Entry* const end = entries_.data() + entries_.size();
  for (const Entry* e = entries_.data() + wide_.fields(); e != end; ++e) {
    std::uint64_t word = 0;
    std::memcpy(&word, bytes + 8 * std::size_t{e->word}, 8);
    const std::uint64_t bits = ordered(word) >> e->shift & e->mask;
    const auto number = static_cast<std::int64_t>((bits ^ e->sign) - e->sign);
    values[e->value] = e->sign != 0 || number >= 0 ? static_cast<double>(number) : static_cast<double>(bits);
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
    if (f.tap == program::kNone) continue;
    engine::TapState& tap = state.taps[static_cast<std::size_t>(f.tap)];
    bool ignored = false;
    if (tap.any_on) state[f.raw] = in_field(f, std::round(engine::through_tap(tap, state[f.raw], now)), ignored);
  }
  for (const program::FramePort& p : frame_->ports) port(p, state, now);
}

/// A port is made of its fields; a fault on the port reaches them.
void FrameFields::port(const program::FramePort& p, engine::PlantState& state, double now) const {
  std::uint64_t bits = 0;
  for (const std::int32_t i : p.fields) {
    const FrameField& f = frame_->fields[static_cast<std::size_t>(i)];
    bits |= bits_of(f, state[f.raw]) << (f.bits.shift - p.bits.shift);
  }
  state[p.raw] = static_cast<double>(bits);
  if (p.tap == program::kNone || !state.taps[static_cast<std::size_t>(p.tap)].any_on) return;
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
