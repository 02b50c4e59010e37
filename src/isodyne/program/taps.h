#pragma once
// Runs in which nothing is replaced.

#include <memory>

#include "isodyne/program/program.h"

namespace isodyne::program {

/// The same program without any tap: for runs in which nothing is replaced, so that declared faults cost nothing. Its
/// variables are the same; its faults and scenarios must not be played where they need a tap.
std::shared_ptr<const Program> without_taps(const std::shared_ptr<const Program>& program);

}  // namespace isodyne::program
