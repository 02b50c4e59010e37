#pragma once
// The registers of a Modbus device as bytes in memory, and which of them exist: what is asked for is checked here,
// before a library touches it.

#include <array>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include <modbus.h>

#include "isodyne/io/registers.h"

namespace isodyne::ports::modbus {

class RegisterImage {
 public:
  explicit RegisterImage(io::RegisterMap map);

  const io::RegisterMap& map() const { return map_; }
  modbus_mapping_t* mapping() { return mapping_.get(); }

  /// Values of the plant, in the order of the controller's reads, into their registers.
  void put_reads(std::span<const double> reads) { put(reads, true); }
  void put_writes(std::span<const double> writes) { put(writes, false); }
  /// And back; false where a register holds no value: `writes` stays as it is there.
  bool get_writes(std::span<double> writes) const { return get(writes, false); }

  /// Whether a request may be answered: a Modbus exception code, or 0. `pdu` begins with the function code.
  int refusal(std::span<const std::uint8_t> pdu) const;
  /// Whether the function writes.
  static bool writes(std::uint8_t function);

 private:
  int covers(io::RegisterTable table, int first, int count, bool writing) const;
  int refusal_of_write(int first, std::span<const std::uint8_t> data) const;
  int values_fit(int first, std::span<const std::uint8_t> data) const;
  void put(std::span<const double> values, bool into_controller);
  bool get(std::span<double> values, bool into_controller) const;
  std::array<std::uint16_t, 4> words_of(const io::RegisterTag& tag) const;
  void set_words(const io::RegisterTag& tag, std::span<const std::uint16_t> words);

  io::RegisterMap map_;
  std::array<std::vector<std::int32_t>, io::kRegisterTables> places_;  ///< index of the tag, −1: there is nothing
  std::unique_ptr<modbus_mapping_t, decltype(&modbus_mapping_free)> mapping_;
};

}  // namespace isodyne::ports::modbus
