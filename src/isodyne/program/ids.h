#pragma once
// Numbers by which the lists of a program name each other's elements.

#include <cstddef>
#include <cstdint>

namespace isodyne::program {

using VarId = std::int32_t;
using NodeId = std::int32_t;
constexpr std::int32_t kNone = -1;
constexpr VarId kTime = 0, kSeed = 1;

/// The element of a list that a number in the program means.
template <typename List>
const auto& at(const List& list, std::int32_t index) {
  return list[static_cast<std::size_t>(index)];
}

}  // namespace isodyne::program
