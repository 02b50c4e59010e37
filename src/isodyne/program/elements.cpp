#include "isodyne/program/elements.h"

#include <algorithm>

namespace isodyne::program {

const std::vector<ElementKind>& element_kinds() {
  static const std::vector<ElementKind> kinds = {
#define ELEMENT(name, network, tie) {name, network, Tie::tie},
#include "isodyne/program/elements.def"
#undef ELEMENT
  };
  return kinds;
}

const ElementKind* element_kind(std::string_view name) {
  for (const ElementKind& kind : element_kinds()) {
    if (kind.name == name) return &kind;
  }
  return nullptr;
}

bool is_network_kind(std::string_view word) {
  const auto& all = element_kinds();
  return std::any_of(all.begin(), all.end(), [&](const ElementKind& kind) { return kind.network == word && kind.tie != Tie::none; });
}

}  // namespace isodyne::program
