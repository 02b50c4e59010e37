#pragma once
// The formatter: one look for every text, without a change of meaning.
//
// Lines stay where their writer broke them. Indentation follows the blocks (two blanks each), operators get
// their blanks, commas one after them, runs of empty lines become one. Where the writer aligned something
// with two or more blanks, that stays. Formatting a formatted text changes nothing.

#include <string>
#include <string_view>

#include "isodyne/core/diagnostics.h"
#include "isodyne/core/source.h"

namespace isodyne::lang {

/// The formatted text of a source. Nothing of its words and comments is lost. A text with mistakes (reported
/// to `diagnostics`) is returned as it is.
std::string format_text(const Sources& sources, std::int32_t source, Diagnostics& diagnostics);

}  // namespace isodyne::lang
