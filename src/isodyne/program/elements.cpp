#include "isodyne/program/elements.h"

#include <algorithm>

#include "isodyne/program/plant.h"

namespace isodyne::program {

void Network::list_quantities() {
  inputs.clear();
  outputs.clear();
  for (const Element& e : elements) {
    for (const Quantity& q : e.inputs) inputs.push_back(q.id);
    for (const Quantity& q : e.outputs) outputs.push_back(q.id);
  }
  for (const Element& e : elements) {
    for (const Quantity& q : e.parameters) inputs.push_back(q.id);
  }
  for (const Probe& p : probes) outputs.push_back(p.id);
}

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
  return std::any_of(all.begin(), all.end(),
                     [&](const ElementKind& kind) { return kind.network == word && kind.tie != Tie::none; });
}

}  // namespace isodyne::program
