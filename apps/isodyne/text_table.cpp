#include "text_table.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::app {

namespace {

/// Cut at blanks so that no line is wider than `width`, if words allow.
std::vector<std::string> wrapped(const std::string& text, std::size_t width) {
  std::vector<std::string> lines{""};
  std::size_t at = 0;
  while (at < text.size()) {
    const std::size_t blank = std::min(text.find(' ', at), text.size());
    const std::string word = text.substr(at, blank - at);
    const bool fits =
        lines.back().empty() || width == 0 || display_width(lines.back()) + 1 + display_width(word) <= width;
    if (!fits) lines.emplace_back();
    lines.back() += (lines.back().empty() ? "" : " ") + word;
    at = blank + 1;
  }
  return lines;
}

}  // namespace

void TextTable::row(std::vector<std::string> cells, std::string colour, std::size_t coloured) {
  cells.resize(columns_.size());
  for (std::string& cell : cells) std::replace(cell.begin(), cell.end(), '\n', ' ');
  rows_.push_back({std::move(cells), std::move(colour), coloured});
}

namespace {
/// Column widths that fit into `width` (0: any): the widest column gives way first, none below kLeast.
std::vector<std::size_t> fitted(std::vector<std::size_t> widths, std::size_t width) {
  constexpr std::size_t kLeast = 12;
  std::size_t total = 2 * (widths.size() - 1);
  for (const std::size_t w : widths) total += w;
  while (width > 0 && total > width) {
    const auto widest = std::max_element(widths.begin(), widths.end());
    if (*widest <= kLeast) break;
    --*widest;
    --total;
  }
  return widths;
}
}  // namespace

std::string TextTable::text(std::size_t width, bool colours) const {
  std::vector<std::size_t> widths;
  for (std::size_t c = 0; c < columns_.size(); ++c) {
    std::size_t w = display_width(columns_[c].title);
    for (const Row& r : rows_) w = std::max(w, display_width(r.cells[c]));
    widths.push_back(w);
  }
  widths = fitted(std::move(widths), width);
  std::string out;
  const auto line = [&](const std::vector<std::string>& cells, const std::string& colour, std::size_t coloured) {
    std::string text;
    for (std::size_t c = 0; c < cells.size(); ++c) {
      const std::string pad(widths[c] > display_width(cells[c]) ? widths[c] - display_width(cells[c]) : 0, ' ');
      std::string cell =
          columns_[c].align == Align::right ? pad + cells[c] : cells[c] + (c + 1 < cells.size() ? pad : "");
      if (colours && !colour.empty() && c == coloured) cell = fmt::format("\x1b[{}m{}\x1b[0m", colour, cell);
      text += (c == 0 ? "" : "  ") + cell;
    }
    while (!text.empty() && text.back() == ' ') text.pop_back();
    out += text + "\n";
  };
  std::vector<std::string> titles;
  for (const Column& c : columns_) titles.push_back(c.title);
  const bool titled = std::any_of(titles.begin(), titles.end(), [](const std::string& t) { return !t.empty(); });
  if (titled) line(titles, "", 0);
  if (titled && colours) out = "\x1b[2m" + out.substr(0, out.size() - 1) + "\x1b[0m\n";
  for (const Row& r : rows_) {
    std::vector<std::vector<std::string>> cells;
    std::size_t height = 1;
    for (std::size_t c = 0; c < r.cells.size(); ++c) {
      cells.push_back(wrapped(r.cells[c], widths[c]));
      height = std::max(height, cells.back().size());
    }
    for (std::size_t i = 0; i < height; ++i) {
      std::vector<std::string> part;
      for (const auto& lines : cells) part.push_back(i < lines.size() ? lines[i] : "");
      line(part, i == 0 ? r.colour : "", r.coloured);
    }
  }
  return out;
}

}  // namespace isodyne::app
