#pragma once
// Pieces of work beside each other, each in a process of its own that may die without taking the others along: a
// controller's library is promised one thread, and has one memory in each process.

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace isodyne::app {

/// What each piece handed over, in their order; nothing where a process ended before it did (said). So many at a time;
/// 0: as many as there are cores. `done` is told how many are. Without the right to start processes they are done one
/// after the other.
std::vector<std::optional<std::string>> beside(std::size_t pieces, std::size_t at_once,
                                               const std::function<std::string(std::size_t)>& work,
                                               const std::function<void(std::size_t)>& done);

}  // namespace isodyne::app
