#include "isodyne/core/units.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne {

namespace {

struct Entry {
  const char* name;
  double factor;
  double offset;
  Dimension dimension;
};

constexpr Dimension dim(int m, int kg, int s, int a, int k, int mol, int cd, int rad, int va, int var) {
  const auto e = [](int x) { return static_cast<std::int8_t>(x); };
  return {{e(m), e(kg), e(s), e(a), e(k), e(mol), e(cd), e(rad), e(va), e(var)}};
}

constexpr Entry kUnits[] = {
#define UNIT(name, factor, m, kg, s, a, k, mol, cd, rad, va, var) \
  {name, factor, 0, dim(m, kg, s, a, k, mol, cd, rad, va, var)},
#define SCALE(name, factor, offset) {name, factor, offset, dim(0, 0, 0, 0, 1, 0, 0, 0, 0, 0)},
#define REFUSED(name, advice)
#include "isodyne/core/units.def"
#undef UNIT
#undef SCALE
#undef REFUSED
};

constexpr std::pair<const char*, const char*> kRefused[] = {
#define UNIT(name, factor, m, kg, s, a, k, mol, cd, rad, va, var)
#define SCALE(name, factor, offset)
#define REFUSED(name, advice) {name, advice},
#include "isodyne/core/units.def"
#undef UNIT
#undef SCALE
#undef REFUSED
};

constexpr std::size_t kSecond = 2, kRadian = 7;

/// Drops the radian except in angles and angular speeds, and what is one over them.
Dimension normalised(Dimension d) {
  const int s = d.exponents[kSecond], rad = d.exponents[kRadian];
  bool keep = s == 0 || (s == -rad && (rad == 1 || rad == -1));
  for (std::size_t i = 0; i < Dimension::kBases; ++i)
    keep = keep && (i == kSecond || i == kRadian || d.exponents[i] == 0);
  if (!keep) d.exponents[kRadian] = 0;
  return d;
}

const std::unordered_map<std::string_view, const Entry*>& table() {
  static const auto* map = [] {
    auto* m = new std::unordered_map<std::string_view, const Entry*>;
    for (const Entry& entry : kUnits) m->emplace(entry.name, &entry);
    return m;
  }();
  return *map;
}

std::optional<Dimension> combine(const Dimension& a, const Dimension& b, int sign) {
  Dimension result;
  for (std::size_t i = 0; i < Dimension::kBases; ++i) {
    const int sum = a.exponents[i] + sign * b.exponents[i];
    if (sum > 100 || sum < -100) return std::nullopt;
    result.exponents[i] = static_cast<std::int8_t>(sum);
  }
  return normalised(result);
}

/// unit = factor { ("*" | "/") factor } ; factor = (name | "(" unit ")") [ "^" integer ]
class UnitReader {
 public:
  UnitReader(std::string_view text, const UnitNames* own) : text_(text), own_(own) {}

  std::optional<Unit> read() {
    auto unit = product(0);
    if (!unit || at_ != text_.size()) return std::nullopt;
    unit->text = std::string(text_);
    return unit;
  }

 private:
  char peek() const { return at_ < text_.size() ? text_[at_] : '\0'; }

  std::optional<Unit> product(int depth) {
    auto left = factor(depth);
    while (left && (peek() == '*' || peek() == '/')) {
      const bool over = text_[at_++] == '/';
      auto right = factor(depth);
      if (!right || !relative(*left) || !relative(*right)) return std::nullopt;
      const auto combined = combine(left->dimension, right->dimension, over ? -1 : 1);
      if (!combined) return std::nullopt;
      left->dimension = *combined;
      left->factor = over ? left->factor / right->factor : left->factor * right->factor;
    }
    return left;
  }

  std::optional<Unit> factor(int depth) {
    std::optional<Unit> unit;
    if (peek() == '(') {
      if (depth > 8) return std::nullopt;
      ++at_;
      unit = product(depth + 1);
      if (!unit || peek() != ')') return std::nullopt;
      ++at_;
    } else {
      unit = name();
    }
    if (unit && peek() == '^') return raised(*unit);
    return unit;
  }

  std::optional<Unit> name() {
    const std::size_t begin = at_;
    while (at_ < text_.size() && std::string_view("*/^()").find(text_[at_]) == std::string_view::npos) ++at_;
    const std::string_view word = text_.substr(begin, at_ - begin);
    if (own_ != nullptr) {
      const auto own = own_->find(word);
      if (own != own_->end()) {
        own_used_ = own_used_ || own->second.absolute();
        return own->second;
      }
    }
    const auto found = table().find(word);
    if (found == table().end()) return std::nullopt;
    return Unit{{}, found->second->factor, found->second->dimension, found->second->offset};
  }

  /// In a product only differences make sense: "K/s". A name of the model's own stands for them too.
  bool relative(Unit& unit) const {
    if (!unit.absolute()) return true;
    unit.offset = 0;
    return own_used_;
  }

  std::optional<Unit> raised(Unit unit) {
    ++at_;
    if (!relative(unit)) return std::nullopt;
    const bool negative = peek() == '-';
    if (negative) ++at_;
    int exponent = 0;
    const std::size_t begin = at_;
    while (peek() >= '0' && peek() <= '9' && at_ - begin < 2) exponent = exponent * 10 + (text_[at_++] - '0');
    if (at_ == begin) return std::nullopt;
    if (negative) exponent = -exponent;
    const auto dimension = power(unit.dimension, exponent);
    if (!dimension) return std::nullopt;
    unit.dimension = *dimension;
    unit.factor = std::pow(unit.factor, exponent);
    return unit;
  }

  std::string_view text_;
  const UnitNames* own_;
  bool own_used_ = false;
  std::size_t at_ = 0;
};

struct Quantity {
  const char* unit;
  const char* name;
};

/// What people call the dimensions that turn up in messages.
constexpr Quantity kQuantities[] = {
    {"1", "no unit"},
    {"m", "length"},
    {"m^2", "area"},
    {"m^3", "volume"},
    {"s", "time"},
    {"1/s", "rate"},
    {"m/s", "speed"},
    {"m/s^2", "acceleration"},
    {"m^2/s", "flow per width"},
    {"m^3/s", "flow"},
    {"kg", "mass"},
    {"kg/m^3", "density"},
    {"kg/s", "mass flow"},
    {"N", "force"},
    {"Pa", "pressure"},
    {"J", "energy or torque"},
    {"W", "active power"},
    {"VA", "apparent power"},
    {"var", "reactive power"},
    {"V", "voltage"},
    {"A", "current"},
    {"ohm", "resistance"},
    {"F", "capacitance"},
    {"H", "inductance"},
    {"C", "charge"},
    {"K", "temperature difference"},
    {"rad", "angle"},
    {"rad/s", "angular speed"},
    {"Wb", "flux"},
    {"T", "flux density"},
    {"S", "conductance"},
};

const Quantity* quantity(const Dimension& dimension) {
  static const auto* dimensions = [] {
    auto* list = new std::vector<Dimension>;
    for (const Quantity& q : kQuantities) list->push_back(parse_unit(q.unit)->dimension);
    return list;
  }();
  const auto found = std::find(dimensions->begin(), dimensions->end(), dimension);
  return found == dimensions->end() ? nullptr : &kQuantities[found - dimensions->begin()];
}

std::string product_text(const Dimension& dimension, bool positive) {
  static constexpr const char* kNames[] = {"m", "kg", "s", "A", "K", "mol", "cd", "rad", "VA/W", "var/W"};
  std::string text;
  for (std::size_t i = 0; i < Dimension::kBases; ++i) {
    const int e = positive ? dimension.exponents[i] : -dimension.exponents[i];
    if (e <= 0) continue;
    if (!text.empty()) text += '*';
    text += kNames[i];
    if (e > 1) text += fmt::format("^{}", e);
  }
  return text;
}

}  // namespace

std::optional<Dimension> multiply(const Dimension& a, const Dimension& b) {
  return combine(a, b, 1);
}
std::optional<Dimension> divide(const Dimension& a, const Dimension& b) {
  return combine(a, b, -1);
}

std::optional<Dimension> power(const Dimension& a, int exponent) {
  Dimension result;
  for (std::size_t i = 0; i < Dimension::kBases; ++i) {
    const long scaled = static_cast<long>(a.exponents[i]) * exponent;
    if (scaled > 100 || scaled < -100) return std::nullopt;
    result.exponents[i] = static_cast<std::int8_t>(scaled);
  }
  return normalised(result);
}

std::optional<Dimension> square_root(const Dimension& a) {
  Dimension result;
  for (std::size_t i = 0; i < Dimension::kBases; ++i) {
    if (a.exponents[i] % 2 != 0) return std::nullopt;
    result.exponents[i] = static_cast<std::int8_t>(a.exponents[i] / 2);
  }
  return normalised(result);
}

std::string si_text(const Dimension& dimension) {
  if (const Quantity* q = quantity(dimension)) return q->unit;
  const std::string above = product_text(dimension, true);
  const std::string below = product_text(dimension, false);
  if (below.empty()) return above;
  const bool several = below.find('*') != std::string::npos;
  return fmt::format("{}/{}{}{}", above.empty() ? "1" : above, several ? "(" : "", below, several ? ")" : "");
}

std::string describe(const Dimension& dimension) {
  if (const Quantity* q = quantity(dimension)) return fmt::format("{} ({})", q->unit, q->name);
  return si_text(dimension);
}

std::optional<Unit> parse_unit(std::string_view text, const UnitNames* own) {
  if (text.empty() || text.size() > 100) return std::nullopt;
  return UnitReader(text, own).read();
}

std::string unit_advice(std::string_view text) {
  for (const auto& [name, advice] : kRefused) {
    if (text == name) return advice;
  }
  for (const Entry& e : kUnits) {
    if (e.offset != 0 && text.find(e.name) != std::string_view::npos)
      return fmt::format("`{}` is an absolute scale; in products use the difference, K", e.name);
  }
  const auto meant = did_you_mean(text, unit_names());
  return meant.value_or("units are written like `m`, `m/s^2` or `kg/(m*s)`");
}

Unit difference_unit(const Unit& unit) {
  return unit.absolute() ? *parse_unit("K") : unit;
}

Unit si_unit(const Dimension& dimension) {
  return {si_text(dimension), 1, dimension, 0};
}

const std::vector<std::string>& unit_names() {
  static const auto* names = [] {
    auto* list = new std::vector<std::string>;
    for (const Entry& entry : kUnits) list->emplace_back(entry.name);
    return list;
  }();
  return *names;
}

std::string format_value(double coherent, const Unit& unit) {
  const std::string number = format_number(unit.read(coherent));
  return unit.text == "1" ? number : number + " " + unit.text;
}

std::optional<Time> read_span(const std::string& text) {
  // "90 s", "1 h 12 min 3.5 s": as we print them.
  double all = 0, before = INFINITY;  // the unit of the one before
  const char *at = text.data(), *end = at + text.size();
  do {
    double value = 0;
    const auto read = std::from_chars(at, end, value);
    if (read.ec != std::errc{} || value < 0) return std::nullopt;
    const char* unit = std::find_if(read.ptr, end, [](char c) { return c != ' '; });
    const char* behind = std::find(unit, end, ' ');
    const auto parsed = parse_unit(std::string(unit, behind));
    if (!parsed || parsed->dimension != parse_unit("s")->dimension || !(parsed->factor < before)) return std::nullopt;
    before = parsed->factor;
    all += value * parsed->factor;
    at = std::find_if(behind, end, [](char c) { return c != ' '; });
  } while (at != end);
  return time_from_seconds(all);
}

}  // namespace isodyne
