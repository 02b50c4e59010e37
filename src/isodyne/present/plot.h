#pragma once
// Pictures by gnuplot: one look for all.

#include <string>

#include "isodyne/core/result.h"

namespace isodyne::present {

/// Colours of curves, in this order everywhere: Okabe and Ito's, which people with any kind of colour vision can tell
/// apart ("Color Universal Design", 2008).
inline constexpr const char* kColours[] = {"#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000"};

/// Text for gnuplot in single quotes, where nothing but the quote itself has a meaning.
std::string quoted(const std::string& text);

/// Of a picture, in pixels.
struct PictureSize {
  int width = 1280, height = 800;
};

/// Draws a gnuplot script, 1280 wide and `height` high, into BASE.svg and BASE.png, and if wanted BASE.pdf.
Status plot(const std::string& script, int height, const std::string& base, bool pdf = false);
/// The same in another size.
Status plot(const std::string& script, PictureSize size, const std::string& base, bool pdf = false);

}  // namespace isodyne::present
