#include "isodyne/live/grid.h"

#include <algorithm>

#include "isodyne/core/text.h"

namespace isodyne::live {

namespace {

/// Columns that a character takes: marks that stand over others none, those of East Asia two (Unicode 15, annex 11).
int columns_of(char32_t c) {
  const auto within = [c](char32_t a, char32_t b) { return c >= a && c <= b; };
  if (within(0x300, 0x36f) || within(0x200b, 0x200f) || within(0x20d0, 0x20ff) || within(0xfe00, 0xfe0f)) return 0;
  const bool wide = within(0x1100, 0x115f) || within(0x2e80, 0xa4cf) || within(0xac00, 0xd7a3) ||
                    within(0xf900, 0xfaff) || within(0xfe30, 0xfe6f) || within(0xff00, 0xff60) ||
                    within(0xffe0, 0xffe6) || within(0x1f300, 0x1faff) || within(0x20000, 0x3fffd);
  return wide ? 2 : 1;
}

}  // namespace

std::u32string code_points(std::string_view given) {
  std::u32string all;
  const std::string utf8 = printable(given);
  for (std::size_t i = 0; i < utf8.size();) {
    const auto byte = [&](std::size_t k) {
      return i + k < utf8.size() ? static_cast<unsigned char>(utf8[i + k]) : static_cast<unsigned char>(0);
    };
    const unsigned char first = byte(0);
    const std::size_t length = first < 0x80 ? 1 : first < 0xe0 ? 2 : first < 0xf0 ? 3 : 4;
    char32_t code = first;
    if (length > 1) code &= (0x7fu >> length);
    for (std::size_t k = 1; k < length; ++k) code = (code << 6) | (byte(k) & 0x3fu);
    all += code == U'\n' || code == U'\t' ? U' ' : code;
    i += length;
  }
  return all;
}

int columns_of(std::string_view utf8) {
  int columns = 0;
  for (const char32_t c : code_points(utf8)) columns += columns_of(c);
  return columns;
}

std::string utf8_of(char32_t c) {
  std::string out;
  const auto add = [&out](char32_t byte) { out += static_cast<char>(byte); };
  if (c < 0x80) {
    add(c);
  } else if (c < 0x800) {
    add(0xc0 | c >> 6), add(0x80 | (c & 0x3f));
  } else if (c < 0x10000) {
    add(0xe0 | c >> 12), add(0x80 | (c >> 6 & 0x3f)), add(0x80 | (c & 0x3f));
  } else {
    add(0xf0 | c >> 18), add(0x80 | (c >> 12 & 0x3f)), add(0x80 | (c >> 6 & 0x3f)), add(0x80 | (c & 0x3f));
  }
  return out;
}

Grid::Grid(int width, int height, bool plain_ascii)
    : width_(std::max(1, width)),
      height_(std::max(1, height)),
      ascii_(plain_ascii),
      cells_(static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_)) {}

/// What stands for it where only ASCII is known.
char32_t Grid::known(char32_t c) const {
  if (!ascii_ || c < 0x80) return c;
  if (c >= 0x2800 && c <= 0x28ff) {  // dots: where most of them are
    const auto dots = static_cast<unsigned>(c - 0x2800);
    if (dots == 0) return U' ';
    const bool high = (dots & 0x1bu) != 0, low = (dots & 0xe4u) != 0;
    return high && low ? U'|' : high ? U'\'' : U'.';
  }
  switch (c) {
    case U'─':
      return U'-';
    case U'│':
      return U'|';
    case U'█':
    case U'●':
      return U'#';
    case U'░':
    case U'·':
      return U'.';
    case U'○':
      return U'o';
    case U'◀':
      return U'<';
    case U'▶':
      return U'>';
    case U'…':
      return U'~';
    case U'┌':
    case U'┐':
    case U'└':
    case U'┘':
    case U'┤':
    case U'┼':
      return U'+';
    case U'µ':
      return U'u';
    default:
      return U'?';
  }
}

void Grid::set(int x, int y, char32_t glyph, Style style) {
  if (x < 0 || y < 0 || x >= width_ || y >= height_) return;
  cells_[static_cast<std::size_t>(y * width_ + x)] = {glyph == 0 ? U'\0' : known(glyph), style};
}

int Grid::put(int x, int y, std::string_view utf8, Style style, int columns) {
  const std::u32string text = code_points(utf8);
  int all = 0;
  for (const char32_t c : text) all += columns_of(c);
  const int room = std::min(columns, width_ - x);
  if (room <= 0) return 0;
  const bool cut = all > room;
  int at = 0;
  for (const char32_t c : text) {
    const int needs = columns_of(c);
    if (needs == 0) continue;
    if (at + needs > room - (cut ? 1 : 0)) break;
    set(x + at, y, c, style);
    if (needs == 2) set(x + at + 1, y, 0, style);
    at += needs;
  }
  if (cut) set(x + at++, y, U'…', style);
  return at;
}

void Grid::put_right(int end, int y, std::string_view utf8, Style style) {
  const int columns = std::min(live::columns_of(utf8), end);
  put(end - columns, y, utf8, style, columns);
}

void Grid::box(const Area& a, std::string_view title, Style style) {
  if (a.width < 2 || a.height < 2) return;
  for (int x = a.x; x < a.x + a.width; ++x) {
    set(x, a.y, U'─', style);
    set(x, a.y + a.height - 1, U'─', style);
  }
  for (int y = a.y; y < a.y + a.height; ++y) {
    set(a.x, y, U'│', style);
    set(a.x + a.width - 1, y, U'│', style);
  }
  set(a.x, a.y, U'┌', style);
  set(a.x + a.width - 1, a.y, U'┐', style);
  set(a.x, a.y + a.height - 1, U'└', style);
  set(a.x + a.width - 1, a.y + a.height - 1, U'┘', style);
  if (!title.empty() && a.width > 6) {
    const int took = put(a.x + 2, a.y, title, {Ink::strong}, a.width - 5);
    set(a.x + 1, a.y, U' ', style);
    set(a.x + 2 + took, a.y, U' ', style);
  }
}

void Grid::reverse(const Area& area) {
  for (int y = std::max(0, area.y); y < std::min(height_, area.y + area.height); ++y) {
    for (int x = std::max(0, area.x); x < std::min(width_, area.x + area.width); ++x)
      cells_[static_cast<std::size_t>(y * width_ + x)].style.reverse = true;
  }
}

std::string Grid::text() const {
  std::string all;
  for (int y = 0; y < height_; ++y) {
    std::string line;
    for (int x = 0; x < width_; ++x) {
      if (at(x, y).glyph != 0) line += utf8_of(at(x, y).glyph);
    }
    all += line.substr(0, line.find_last_not_of(' ') + 1) + "\n";
  }
  return all;
}

}  // namespace isodyne::live
