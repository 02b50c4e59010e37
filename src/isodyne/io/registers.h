#pragma once
// Which value of a controller is in which register, and how: the map of a Modbus device (Modbus application protocol
// V1.1b3, 4.3: four tables of up to 65,536 places each).

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/units.h"
#include "isodyne/program/program.h"

namespace isodyne::io {

/// `coil` and `discrete` hold one bit a place, `holding` and `input` 16; discrete and input can only be read.
enum class RegisterTable { coil, discrete, holding, input };
constexpr std::size_t kRegisterTables = 4;
const char* table_word(RegisterTable table);
inline bool of_bits(RegisterTable t) {
  return t == RegisterTable::coil || t == RegisterTable::discrete;
}
inline bool read_only(RegisterTable t) {
  return t == RegisterTable::discrete || t == RegisterTable::input;
}

struct RegisterTag {
  enum class Form { bit, integer, natural, real };
  std::string channel;
  bool into_controller = true;
  std::size_t index = 0;  ///< among the controller's reads or writes
  RegisterTable table = RegisterTable::holding;
  int address = 0;  ///< as in the protocol, from 0
  Form form = Form::integer;
  int words = 1;            ///< registers that it takes; 1 for a bit
  bool low_first = false;   ///< the register with the lowest bits comes first
  Unit unit;                ///< the number in the register is the value in this unit,
  double factor = 1;        ///< divided by this
  std::int32_t labels = 0;  ///< of a choice, how many; the value of a bool is 0 or 1
  bool boolean = false;

  double lowest() const;
  double highest() const;
};

struct RegisterMap {
  std::vector<RegisterTag> tags;
  /// Places of a table that are used: from 0 to the last one.
  std::array<int, kRegisterTables> sizes() const;
};

/// What a register can be: bool, int16, uint16, int32, … float64.
bool set_type(RegisterTag& tag, const std::string& type);
std::string type_word(const RegisterTag& tag);

/// Reads a map (CSV: channel, table, address, type, and perhaps words, unit, factor). A Failure lists all that is wrong
/// in it, a line each: unknown channels, places used twice, values that no register can bring back.
Result<RegisterMap> read_registers(const std::string& text, const std::string& file, const program::Program& program,
                                   const program::Controller& controller);

/// One place after another: bits to the controller are discrete inputs, numbers input registers; bits from it are
/// coils, numbers holding registers. Real values are float32 in their own unit.
RegisterMap default_registers(const program::Program& program, const program::Controller& controller);

std::string registers_text(const RegisterMap& map);

/// A value (SI) as registers; what does not fit is the nearest that does. Writes `tag.words` numbers, a bit one.
void encode(const RegisterTag& tag, double value, std::span<std::uint16_t> to);
/// And back; nothing if it is no value: not finite, no label.
std::optional<double> decode(const RegisterTag& tag, std::span<const std::uint16_t> from);

}  // namespace isodyne::io
