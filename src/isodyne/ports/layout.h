#pragma once
// The struct that a controller reads and the one it writes: members, C types, offsets, identity.

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "isodyne/model/program.h"

namespace isodyne::ports {

struct Field {
  enum class Kind { real, integer, boolean, choice };
  std::string name;  ///< C identifier
  model::VarId variable = model::kNone;
  Kind kind = Kind::real;
  std::size_t offset = 0;
  std::int32_t labels = 0;  ///< of a choice: values 0 … labels − 1 are valid
};

struct Layout {
  std::vector<Field> reads, writes;
  std::size_t reads_bytes = 0, writes_bytes = 0;
  std::uint64_t identity = 0;  ///< FNV-1a over names, types, units and order
};

/// double, int32_t (whole numbers and choices) and bool, in declared order with natural alignment.
Layout layout_of(const model::Program& program, const model::Controller& controller);

/// "upper.level" → "upper_level".
std::string c_name(const std::string& name);

/// Values in the order of the fields → bytes of the struct, and back.
void pack(const std::vector<Field>& fields, std::span<const double> values, std::byte* bytes);
/// Index of the first field with a value it cannot have (a number that is not finite, no label), or −1.
int unpack(const std::vector<Field>& fields, const std::byte* bytes, std::span<double> values);

/// The C header for one controller of a bench.
std::string header_text(const model::Program& program, const model::Controller& controller);

}  // namespace isodyne::ports
