#pragma once
// The elements that networks are made of, as the checker has to know them.

#include <string_view>
#include <vector>

namespace isodyne::program {

enum class Tie { tie, inductive, voltage, current, windings, none };

struct ElementKind {
  std::string_view name;
  std::string_view network;  ///< "electric"
  Tie tie = Tie::tie;
};

const std::vector<ElementKind>& element_kinds();
/// Null: no solver brings it.
const ElementKind* element_kind(std::string_view name);
/// The kinds of networks that there are.
bool is_network_kind(std::string_view word);

}  // namespace isodyne::program
