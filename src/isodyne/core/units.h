#pragma once
// Dimensions and units. Inside, every real is a double in coherent SI units; a Unit only says how people
// read and type it.
//
// A unit with an offset (degC) is an absolute temperature, kept in kelvin; K alone is a difference.

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/time.h"

namespace isodyne {

/// Exponents of m, kg, s, A, K, mol, cd, rad and two tags that keep apparent (VA) and reactive (var)
/// power apart from active power (W).
///
/// The radian counts only in angles and angular speeds, which it keeps apart from numbers and from Hz. Beside
/// any other base it is dropped, so that torque times angular speed is a power, torque over inertia an
/// angular acceleration, and angular speed times radius a speed.
struct Dimension {
  static constexpr std::size_t kBases = 10;
  std::array<std::int8_t, kBases> exponents{};

  bool operator==(const Dimension&) const = default;
  bool none() const { return *this == Dimension{}; }
};

/// Products, quotients and powers; nothing if an exponent leaves ±100 (far beyond any physics).
std::optional<Dimension> multiply(const Dimension& a, const Dimension& b);
std::optional<Dimension> divide(const Dimension& a, const Dimension& b);
std::optional<Dimension> power(const Dimension& a, int exponent);
/// Nothing if an exponent is odd.
std::optional<Dimension> square_root(const Dimension& a);

/// The dimension in coherent SI units, by name where it has one: "m^2", "N", "kg/(m*s)", "1".
std::string si_text(const Dimension& dimension);

/// For messages: "m/s (speed)", "1 (no unit)".
std::string describe(const Dimension& dimension);

/// A unit as written. value_in_SI = value * factor + offset.
struct Unit {
  std::string text = "1";
  double factor = 1;
  Dimension dimension;
  double offset = 0;  ///< not 0: an absolute scale

  bool absolute() const { return offset != 0; }
  /// A value in SI as people read it in this unit.
  double read(double coherent) const { return (coherent - offset) / factor; }
  /// And back.
  double coherent(double read) const { return read * factor + offset; }
};

/// Names that a model gives to units of its own choice.
using UnitNames = std::map<std::string, Unit, std::less<>>;

/// Reads `text` such as "m", "m/s^2", "kg/(m*s)", "%". Nothing if a name or the form is unknown; an offset
/// unit stands alone (no "W/degC"), but a name of `own` that stands for one is taken as a difference there.
std::optional<Unit> parse_unit(std::string_view text, const UnitNames* own = nullptr);

/// What to do about a text that is no unit: why a known scale is refused, or the closest name.
std::string unit_advice(std::string_view text);

/// The unit of differences between values in `unit`: K for degC, otherwise the same.
Unit difference_unit(const Unit& unit);

/// The coherent SI unit of a dimension.
Unit si_unit(const Dimension& dimension);

/// Every unit name, for suggestions.
const std::vector<std::string>& unit_names();

/// "3.2 cm": a coherent SI value in `unit`, six significant digits; the unit "1" is not written.
std::string format_value(double coherent, const Unit& unit);

/// "90 s", "2 min", "1 h 12 min 3.5 s": a span of time as people write it, and as format_span() does. Not negative.
std::optional<Time> read_span(const std::string& text);

}  // namespace isodyne
