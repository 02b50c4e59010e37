#pragma once
// JSON of others: bounded in depth, so that no text can overflow the stack of whoever walks through it; and whole
// numbers are whole and fit, where the library itself would make something of 1e20 or 2.5.

#include <cmath>
#include <string_view>
#include <type_traits>
#include <utility>

#include <nlohmann/json.hpp>

#include "isodyne/core/json_fwd.h"
#include "isodyne/core/result.h"

namespace isodyne {

constexpr int kMostJsonDepth = 100;

[[noreturn]] void throw_not_whole(const std::string& what);

/// It as a T, if it is a whole number that fits; else throws as the library does.
template <typename T, typename J>
T whole_of(const J& j) {
  // As a number that others may have written as 3.0, up to where every whole number is one.
  if (j.is_number_float()) {
    const double v = j.template get<double>();
    if (std::abs(v) <= 9007199254740992.0 && v == std::floor(v)) {
      const auto n = static_cast<long long>(v);
      if (std::in_range<T>(n)) return static_cast<T>(n);
    }
  } else if (j.is_number_unsigned()) {
    const auto n = *j.template get_ptr<const typename J::number_unsigned_t*>();
    if (std::in_range<T>(n)) return static_cast<T>(n);
  } else if (j.is_number_integer()) {
    const auto n = *j.template get_ptr<const typename J::number_integer_t*>();
    if (std::in_range<T>(n)) return static_cast<T>(n);
  }
  throw_not_whole(j.dump().substr(0, 40));
}

/// How values go into and out of CheckedJson: as the library has it, but for whole numbers.
template <typename T, typename>
struct JsonValue {
  template <typename J>
  requires(std::is_integral_v<T> && !std::is_same_v<T, bool>) static void from_json(J&& j, T& value) {
    value = whole_of<T>(j);
  }
  template <typename J>
  static auto from_json(J&& j, T& value) -> decltype(nlohmann::from_json(std::forward<J>(j), value)) {
    return nlohmann::from_json(std::forward<J>(j), value);
  }
  template <typename J, typename U>
  static auto to_json(J& j, U&& value) -> decltype(nlohmann::to_json(j, std::forward<U>(value))) {
    return nlohmann::to_json(j, std::forward<U>(value));
  }
};

/// What the text says, or why it is no JSON. Never throws.
Result<CheckedJson> parse_json(std::string_view text);

}  // namespace isodyne
