#pragma once
// Where each quantity lies in the array of values.

#include "isodyne/program/program.h"

namespace isodyne::program {

/// Renumbers the variables of a finished program: first time and seed, then the states of each group side by side,
/// then their derivatives in the same order, then all others as they are. Methods walk over states and slopes as
/// arrays, so these must not lie scattered between what is declared beside them. Sets Program::listed to the order
/// of the text. Nothing outside the program may hold an index of it before.
void number_variables(Program& program);

/// The place of the first of `count` variables that lie side by side in this order; kNone if they do not.
/// `of(i)` gives the i-th.
template <typename Of>
VarId first_of_row(std::size_t count, Of&& of) {
  for (std::size_t i = 1; i < count; ++i) {
    if (of(i) != of(0) + static_cast<VarId>(i)) return kNone;
  }
  return count == 0 ? kNone : of(0);
}

/// Whether the value of a variable could become no finite number in a run: those come first, so that one look over the
/// beginning of an image tells whether all are finite.
bool may_be_no_number(const Variable& variable);

}  // namespace isodyne::program
