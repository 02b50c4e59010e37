#pragma once
// Numbers into the bits of a frame, and back.

#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "isodyne/engine/running_plant.h"
#include "isodyne/io/channel.h"
#include "isodyne/io/frame_wide.h"
#include "isodyne/program/program.h"

namespace isodyne::io {

/// The bits alone. Values stand in the order of the frame's fields and are whole numbers that their fields can
/// hold: what does not fit is cut off. Never changes; may be shared by threads.
class FrameCodec {
 public:
  explicit FrameCodec(const program::Frame& frame);

  std::size_t bytes() const { return word_end_.size() * 8; }
  /// Bits that are spare become 0.
  void pack(std::span<const double> values, std::byte* bytes) const;
  void unpack(const std::byte* bytes, std::span<double> values) const;

 private:
  struct Entry {
    std::uint64_t mask = 0, sign = 0;  ///< sign: the sign bit of the number; 0: it has none
    std::uint32_t value = 0;           ///< which of the values
    std::uint16_t word = 0, shift = 0;
  };
  std::uint64_t ordered(std::uint64_t word) const { return swap_ ? __builtin_bswap64(word) : word; }

  bool swap_;                          ///< the frame's order of bytes is not the processor's
  WideWords wide_;                     ///< takes the first words, and the first fields
  std::vector<Entry> entries_;         ///< of all fields, in the order of their words
  std::vector<std::size_t> word_end_;  ///< per word: end of its entries
};

/// The fields of one frame during a run: quantities of the state that hold the raw numbers, with faults on fields and
/// on ports. Not thread-safe: counts exchanges. Never fails, allocates or blocks after construction.
class FrameFields {
 public:
  explicit FrameFields(const program::Frame& frame) : frame_(&frame), saturation_(frame.fields.size()) {}

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
  void port(const program::FramePort& port, engine::PlantState& state, double now) const;

  const program::Frame* frame_;
  std::vector<Saturation> saturation_;
  std::uint64_t exchanges_ = 0;
};

}  // namespace isodyne::io
