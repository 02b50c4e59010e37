#pragma once
// Elements of XML by their names, whatever prefix their namespace has.

#include <algorithm>
#include <string>
#include <string_view>

#include <fmt/format.h>
#include <pugixml.hpp>

#include "isodyne/core/result.h"

namespace isodyne::exchange {

inline std::string_view local_name(const pugi::xml_node& node) {
  const std::string_view text = node.name();
  const std::size_t colon = text.find(':');
  return colon == std::string_view::npos ? text : text.substr(colon + 1);
}

/// The first child of this name; empty: there is none.
inline pugi::xml_node child_called(const pugi::xml_node& parent, std::string_view name) {
  for (const pugi::xml_node& c : parent.children()) {
    if (local_name(c) == name) return c;
  }
  return {};
}

/// A file of somebody else. Entities of its own stay as they are written, and nothing that it names is opened.
inline Status read_xml(const std::string& file, const std::string& text, pugi::xml_document& document) {
  constexpr std::size_t kMostMiB = 64;
  if (text.size() > kMostMiB << 20)
    return Failure{"cannot read", file, fmt::format("it is larger than {} MiB", kMostMiB)};
  const pugi::xml_parse_result parsed =
      document.load_buffer(text.data(), text.size(), pugi::parse_default, pugi::encoding_auto);
  if (parsed) return Done{};
  const auto end = text.begin() + std::min<std::ptrdiff_t>(parsed.offset, static_cast<std::ptrdiff_t>(text.size()));
  return Failure{"cannot read", fmt::format("{}:{}", file, 1 + std::count(text.begin(), end, '\n')),
                 fmt::format("it is not well-formed XML: {}", parsed.description())};
}

}  // namespace isodyne::exchange
