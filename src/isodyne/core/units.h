#pragma once
// Dimensions and units. Inside, every real is a double in coherent SI units; a Unit only says how people
// read and type it. Offset units (°C) are not in this table yet; absolute temperatures are given in K.

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace isodyne {

/// Exponents of m, kg, s, A, K, mol, cd, rad and two tags that keep apparent (VA) and reactive (var)
/// power apart from active power (W).
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

/// A unit as written. value_in_SI = value * factor.
struct Unit {
  std::string text = "1";
  double factor = 1;
  Dimension dimension;
};

/// Reads `text` such as "m", "m/s^2", "kg/(m*s)", "%". Nothing if a name or the form is unknown.
std::optional<Unit> parse_unit(std::string_view text);

/// The coherent SI unit of a dimension.
Unit si_unit(const Dimension& dimension);

/// Every unit name, for suggestions.
const std::vector<std::string>& unit_names();

/// "3.2 cm": a coherent SI value in `unit`, six significant digits; the unit "1" is not written.
std::string format_value(double coherent, const Unit& unit);

}  // namespace isodyne
