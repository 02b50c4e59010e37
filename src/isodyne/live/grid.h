#pragma once
// A page of a terminal as cells: what is drawn here can be read without a terminal.
//
// A cell is a column of a line. Text of others is made printable on its way in; what takes two columns has a cell
// without a glyph behind it. Nothing is ever drawn outside.

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace isodyne::live {

/// What a piece of text means; how that looks is the terminal's matter. Traces follow each other.
enum class Ink : std::uint8_t { plain, dim, strong, good, warn, bad, frame, focus, trace };
constexpr int kTraceInks = 6;
struct Style {
  Ink ink = Ink::plain;
  std::uint8_t trace = 0;  ///< of Ink::trace: which
  bool reverse = false;
  bool operator==(const Style&) const = default;
};

struct Cell {
  char32_t glyph = U' ';  ///< 0: the second column of the one before
  Style style;
  bool operator==(const Cell&) const = default;
};

struct Area {
  int x = 0, y = 0, width = 0, height = 0;
  bool has(int px, int py) const { return px >= x && py >= y && px < x + width && py < y + height; }
  Area inner() const { return {x + 1, y + 1, width - 2, height - 2}; }
};

class Grid {
 public:
  /// `plain_ascii`: only characters of ASCII, for terminals that know no others.
  Grid(int width, int height, bool plain_ascii = false);
  int width() const { return width_; }
  int height() const { return height_; }
  bool plain_ascii() const { return ascii_; }
  Area all() const { return {0, 0, width_, height_}; }
  const Cell& at(int x, int y) const { return cells_[static_cast<std::size_t>(y * width_ + x)]; }

  void set(int x, int y, char32_t glyph, Style style = {});
  /// One line, within so many columns; cut with a mark if it is longer. Gives the columns that it took.
  int put(int x, int y, std::string_view utf8, Style style = {}, int columns = 1 << 20);
  /// The same, ending before column `end`.
  void put_right(int end, int y, std::string_view utf8, Style style = {});
  void box(const Area& area, std::string_view title, Style style = {Ink::frame});
  void reverse(const Area& area);

  /// Line by line, without blanks at the ends.
  std::string text() const;

 private:
  char32_t known(char32_t glyph) const;
  int width_, height_;
  bool ascii_;
  std::vector<Cell> cells_;
};

/// Columns of a terminal that a text takes.
int columns_of(std::string_view utf8);
/// Its code points; what is no UTF-8 is U+FFFD.
std::u32string code_points(std::string_view utf8);
std::string utf8_of(char32_t code);

}  // namespace isodyne::live
