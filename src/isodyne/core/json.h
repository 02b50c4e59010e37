#pragma once
// JSON of others: bounded in depth, so that no text can overflow the stack of whoever walks through it.

#include <string_view>

#include <nlohmann/json.hpp>

#include "isodyne/core/result.h"

namespace isodyne {

constexpr int kMostJsonDepth = 100;

/// What the text says, or why it is no JSON. Never throws.
Result<nlohmann::ordered_json> parse_json(std::string_view text);

}  // namespace isodyne
