#pragma once
// What every page has in common: its look, and text of others in it.

#include <string>

namespace isodyne::present {

/// CSS.
const char* page_style();
/// Text as HTML shows it, whatever is in it.
std::string escaped(const std::string& text);

}  // namespace isodyne::present
