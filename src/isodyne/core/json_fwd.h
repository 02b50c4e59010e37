#pragma once
// The name of our JSON type, for headers that only mention it; see json.h.

#include <cstdint>
#include <string>
#include <vector>

#include <nlohmann/json_fwd.hpp>

namespace isodyne {

template <typename T, typename = void>
struct JsonValue;

using CheckedJson = nlohmann::basic_json<nlohmann::ordered_map, std::vector, std::string, bool, std::int64_t,
                                         std::uint64_t, double, std::allocator, JsonValue>;

}  // namespace isodyne
