#include "isodyne/ports/modbus/image.h"

#include <algorithm>

namespace isodyne::ports::modbus {

using io::RegisterTable;
using io::RegisterTag;

namespace {

std::size_t index_of(RegisterTable table) {
  return static_cast<std::size_t>(table);
}

int big_endian(std::span<const std::uint8_t> bytes, std::size_t at) {
  return at + 1 < bytes.size() ? bytes[at] << 8 | bytes[at + 1] : -1;
}

}  // namespace

RegisterImage::RegisterImage(io::RegisterMap map) : map_(std::move(map)), mapping_(nullptr, modbus_mapping_free) {
  const auto sizes = map_.sizes();
  for (std::size_t t = 0; t < io::kRegisterTables; ++t) places_[t].assign(static_cast<std::size_t>(sizes[t]), -1);
  for (std::size_t i = 0; i < map_.tags.size(); ++i) {
    const RegisterTag& tag = map_.tags[i];
    for (int w = 0; w < tag.words; ++w)
      places_[index_of(tag.table)][static_cast<std::size_t>(tag.address + w)] = static_cast<std::int32_t>(i);
  }
  mapping_.reset(modbus_mapping_new(sizes[index_of(RegisterTable::coil)], sizes[index_of(RegisterTable::discrete)],
                                    sizes[index_of(RegisterTable::holding)], sizes[index_of(RegisterTable::input)]));
}

void RegisterImage::set_words(const RegisterTag& tag, std::span<const std::uint16_t> words) {
  for (int w = 0; w < tag.words; ++w) {
    const int at = tag.address + w;
    const std::uint16_t value = words[static_cast<std::size_t>(w)];
    switch (tag.table) {
      case RegisterTable::coil:
        mapping_->tab_bits[at] = static_cast<std::uint8_t>(value);
        break;
      case RegisterTable::discrete:
        mapping_->tab_input_bits[at] = static_cast<std::uint8_t>(value);
        break;
      case RegisterTable::holding:
        mapping_->tab_registers[at] = value;
        break;
      case RegisterTable::input:
        mapping_->tab_input_registers[at] = value;
        break;
    }
  }
}

std::array<std::uint16_t, 4> RegisterImage::words_of(const RegisterTag& tag) const {
  std::array<std::uint16_t, 4> words{};
  for (int w = 0; w < tag.words; ++w) {
    const int at = tag.address + w;
    std::uint16_t& to = words[static_cast<std::size_t>(w)];
    switch (tag.table) {
      case RegisterTable::coil:
        to = mapping_->tab_bits[at];
        break;
      case RegisterTable::discrete:
        to = mapping_->tab_input_bits[at];
        break;
      case RegisterTable::holding:
        to = mapping_->tab_registers[at];
        break;
      case RegisterTable::input:
        to = mapping_->tab_input_registers[at];
        break;
    }
  }
  return words;
}

void RegisterImage::put(std::span<const double> values, bool into_controller) {
  std::array<std::uint16_t, 4> words{};
  for (const RegisterTag& tag : map_.tags) {
    if (tag.into_controller != into_controller) continue;
    io::encode(tag, values[tag.index], words);
    set_words(tag, words);
  }
}

bool RegisterImage::get(std::span<double> values, bool into_controller) const {
  bool all = true;
  for (const RegisterTag& tag : map_.tags) {
    if (tag.into_controller != into_controller) continue;
    const auto value = io::decode(tag, words_of(tag));
    if (value) values[tag.index] = *value;
    all = all && value.has_value();
  }
  return all;
}

bool RegisterImage::writes(std::uint8_t function) {
  return function == MODBUS_FC_WRITE_SINGLE_COIL || function == MODBUS_FC_WRITE_SINGLE_REGISTER ||
         function == MODBUS_FC_WRITE_MULTIPLE_COILS || function == MODBUS_FC_WRITE_MULTIPLE_REGISTERS ||
         function == MODBUS_FC_MASK_WRITE_REGISTER || function == MODBUS_FC_WRITE_AND_READ_REGISTERS;
}

/// 0 if all these places exist and may be written where that is wanted; half a number may not.
int RegisterImage::covers(RegisterTable table, int first, int count, bool writing) const {
  const auto& places = places_[index_of(table)];
  if (first < 0 || count <= 0 || static_cast<std::size_t>(first + count) > places.size())
    return MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS;
  for (int at = first; at < first + count; ++at) {
    const std::int32_t index = places[static_cast<std::size_t>(at)];
    if (index < 0) return MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS;
    const RegisterTag& tag = map_.tags[static_cast<std::size_t>(index)];
    // Also to be read: half of one value and half of the next one make a number that never was.
    const bool half = tag.address < first || tag.address + tag.words > first + count;
    if ((writing && tag.into_controller) || half) return MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS;
  }
  return 0;
}

/// 0 if every tag within these registers would get a value that it can have.
int RegisterImage::values_fit(int first, std::span<const std::uint8_t> data) const {
  const auto& places = places_[index_of(RegisterTable::holding)];
  const int count = static_cast<int>(data.size() / 2);
  std::array<std::uint16_t, 4> words{};
  for (int at = 0; at < count;) {
    const RegisterTag& tag = map_.tags[static_cast<std::size_t>(places[static_cast<std::size_t>(first + at)])];
    for (int w = 0; w < tag.words; ++w)
      words[static_cast<std::size_t>(w)] =
          static_cast<std::uint16_t>(big_endian(data, 2 * static_cast<std::size_t>(at + w)));
    if (!io::decode(tag, words)) return MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE;
    at += tag.words;
  }
  return 0;
}

namespace {

bool reads(std::uint8_t function) {
  return function == MODBUS_FC_READ_COILS || function == MODBUS_FC_READ_DISCRETE_INPUTS ||
         function == MODBUS_FC_READ_HOLDING_REGISTERS || function == MODBUS_FC_READ_INPUT_REGISTERS;
}

/// Whether a request is as long as it says, and asks for no more than the standard allows.
bool well_formed(std::span<const std::uint8_t> pdu, int count) {
  const auto more = [&](std::size_t bytes) { return pdu.size() >= 6 + bytes && pdu[5] == bytes; };
  switch (pdu[0]) {
    case MODBUS_FC_READ_COILS:
    case MODBUS_FC_READ_DISCRETE_INPUTS:
      return count >= 1 && count <= MODBUS_MAX_READ_BITS;
    case MODBUS_FC_READ_HOLDING_REGISTERS:
    case MODBUS_FC_READ_INPUT_REGISTERS:
      return count >= 1 && count <= MODBUS_MAX_READ_REGISTERS;
    case MODBUS_FC_WRITE_SINGLE_COIL:
      return count == 0 || count == 0xFF00;
    case MODBUS_FC_WRITE_MULTIPLE_COILS:
      return count >= 1 && count <= MODBUS_MAX_WRITE_BITS && more((static_cast<std::size_t>(count) + 7) / 8);
    case MODBUS_FC_WRITE_MULTIPLE_REGISTERS:
      return count >= 1 && count <= MODBUS_MAX_WRITE_REGISTERS && more(2 * static_cast<std::size_t>(count));
    case MODBUS_FC_MASK_WRITE_REGISTER:
      return pdu.size() >= 7;
    case MODBUS_FC_WRITE_AND_READ_REGISTERS: {
      const int written = big_endian(pdu, 7);
      return count >= 1 && count <= MODBUS_MAX_WR_READ_REGISTERS && written >= 1 &&
             written <= MODBUS_MAX_WR_WRITE_REGISTERS && pdu.size() >= 10 + 2 * static_cast<std::size_t>(written) &&
             pdu[9] == 2 * written;
    }
    default:
      return true;
  }
}

}  // namespace

int RegisterImage::refusal_of_write(int first, std::span<const std::uint8_t> data) const {
  const int refused = covers(RegisterTable::holding, first, static_cast<int>(data.size() / 2), true);
  return refused != 0 ? refused : values_fit(first, data);
}

int RegisterImage::refusal(std::span<const std::uint8_t> pdu) const {
  if (pdu.empty() || !(writes(pdu[0]) || reads(pdu[0]))) return MODBUS_EXCEPTION_ILLEGAL_FUNCTION;
  if (pdu.size() < 5) return MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE;
  const int first = big_endian(pdu, 1), count = big_endian(pdu, 3);
  // Here and not in the library, which would wait half a second before it refuses.
  if (!well_formed(pdu, count)) return MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE;
  switch (pdu[0]) {
    case MODBUS_FC_READ_COILS:
      return covers(RegisterTable::coil, first, count, false);
    case MODBUS_FC_READ_DISCRETE_INPUTS:
      return covers(RegisterTable::discrete, first, count, false);
    case MODBUS_FC_READ_HOLDING_REGISTERS:
      return covers(RegisterTable::holding, first, count, false);
    case MODBUS_FC_READ_INPUT_REGISTERS:
      return covers(RegisterTable::input, first, count, false);
    case MODBUS_FC_WRITE_SINGLE_COIL:
      return covers(RegisterTable::coil, first, 1, true);
    case MODBUS_FC_WRITE_MULTIPLE_COILS:
      return covers(RegisterTable::coil, first, count, true);
    case MODBUS_FC_WRITE_SINGLE_REGISTER:
      return refusal_of_write(first, pdu.subspan(3, 2));
    case MODBUS_FC_WRITE_MULTIPLE_REGISTERS:
      return refusal_of_write(first, pdu.subspan(6, 2 * static_cast<std::size_t>(count)));
    case MODBUS_FC_MASK_WRITE_REGISTER: {
      const int refused = covers(RegisterTable::holding, first, 1, true);
      if (refused != 0) return refused;
      const int kept = mapping_->tab_registers[first] & count, set = big_endian(pdu, 5) & ~count;
      const std::array<std::uint8_t, 2> bytes{static_cast<std::uint8_t>((kept | set) >> 8),
                                              static_cast<std::uint8_t>(kept | set)};
      return values_fit(first, bytes);
    }
    case MODBUS_FC_WRITE_AND_READ_REGISTERS: {
      const int refused = covers(RegisterTable::holding, first, count, false);
      if (refused != 0) return refused;
      return refusal_of_write(big_endian(pdu, 5), pdu.subspan(10, 2 * static_cast<std::size_t>(big_endian(pdu, 7))));
    }
    default:
      return MODBUS_EXCEPTION_ILLEGAL_FUNCTION;
  }
}

}  // namespace isodyne::ports::modbus
