#pragma once
// Numbers into the bits of a frame, and back.

#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "isodyne/engine/plant.h"
#include "isodyne/io/channel.h"
#include "isodyne/model/program.h"

namespace isodyne::io {

/// The bits alone. Values stand in the order of the frame's fields and are whole numbers that their fields can
/// hold: what does not fit is cut off. Never changes; may be shared by threads.
class FrameCodec {
 public:
  explicit FrameCodec(const model::Frame& frame);

  std::size_t bytes() const { return word_end_.size() * 8; }
  /// Bits that are spare become 0.
  void pack(std::span<const double> values, std::byte* bytes) const;
  void unpack(const std::byte* bytes, std::span<double> values) const;

 private:
  /// Some words at a time, so that what lies between is on the stack and close.
  struct Block {
    std::size_t first_word = 0, end_word = 0, begin = 0, end = 0;
    bool straight = true;  ///< the values of its fields stand side by side, in order
  };
  static constexpr std::size_t kBlock = 256;

  void pack_block(const Block& block, const double* values, std::byte* bytes) const;
  void unpack_block(const Block& block, const std::byte* bytes, double* values) const;
  std::uint64_t ordered(std::uint64_t word) const { return swap_ ? __builtin_bswap64(word) : word; }

  // Per field, in the order of words:
  std::vector<std::uint64_t> mask_, shift_;
  std::vector<std::uint64_t> sign_;    ///< the sign bit of the number; 0: it has none
  std::vector<std::uint32_t> value_;   ///< which of the values
  std::vector<std::uint32_t> wide_;    ///< which fields are too wide for the quick conversion
  std::vector<std::size_t> word_end_;  ///< per word: end of its fields
  std::vector<Block> blocks_;
  bool swap_;  ///< the frame's order of bytes is not the processor's
};

/// The fields of one frame during a run: quantities of the state that hold the raw numbers, with faults on fields and
/// on ports. Not thread-safe: counts exchanges. Never fails, allocates or blocks after construction.
class FrameFields {
 public:
  explicit FrameFields(const model::Frame& frame) : frame_(&frame), saturation_(frame.fields.size()) {}

  /// To a controller: every field gets what it stands for at this exchange. Calls `saturates` with the number of a
  /// field that begins to be unable to hold its value.
  template <typename Saturates>
  void gather(engine::PlantState& state, Saturates saturates) {
    for (std::size_t i = 0; i < frame_->fields.size(); ++i) {
      const bool before = saturation_[i].now;
      gather_field(i, state);
      if (saturation_[i].now && !before) saturates(i);
    }
    ++exchanges_;
    faults(state);
  }
  /// From a controller: the fields have its answer.
  void arrive(engine::PlantState& state) const { faults(state); }

  const Saturation& saturation(std::size_t field) const { return saturation_[field]; }

 private:
  void gather_field(std::size_t i, engine::PlantState& state);
  void faults(engine::PlantState& state) const;
  void port(const model::FramePort& port, engine::PlantState& state, double now) const;

  const model::Frame* frame_;
  std::vector<Saturation> saturation_;
  std::uint64_t exchanges_ = 0;
};

}  // namespace isodyne::io
