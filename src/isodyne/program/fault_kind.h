#pragma once
// What a fault can do to a value, or to a message.

namespace isodyne::program {

enum class FaultKind {
#define FAULT(id, word, amount, where, meaning) id,
#include "isodyne/program/fault_kinds.def"
#undef FAULT
};

const char* fault_word(FaultKind kind);

}  // namespace isodyne::program
