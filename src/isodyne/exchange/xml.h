#pragma once
// Elements of XML by their names, whatever prefix their namespace has.

#include <string_view>

#include <pugixml.hpp>

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

}  // namespace isodyne::exchange
