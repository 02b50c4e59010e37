#pragma once
// Pictures by gnuplot: one look for all.

#include <string>

#include "isodyne/core/result.h"

namespace isodyne::present {

/// Text for gnuplot in single quotes, where nothing but the quote itself has a meaning.
std::string quoted(const std::string& text);

/// Draws a gnuplot script, 1280 wide and `height` high, into BASE.svg and BASE.png.
Status plot(const std::string& script, int height, const std::string& base);

}  // namespace isodyne::present
