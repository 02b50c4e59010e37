#pragma once
// Text to syntax tree.

#include "isodyne/core/diagnostics.h"
#include "isodyne/lang/syntax.h"

namespace isodyne::lang {

/// Parses one text and appends what it declares to `document`. Mistakes are reported and parsing goes on
/// at the next statement, so a broken declaration costs only itself.
void parse(const Sources& sources, std::int32_t source, Diagnostics& diagnostics, Document& document);

}  // namespace isodyne::lang
