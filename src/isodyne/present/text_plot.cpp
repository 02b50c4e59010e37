#include "isodyne/present/text_plot.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <limits>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::present {

namespace {

constexpr std::size_t kScale = 11;  // columns of the numbers on the left, with a blank

std::string right(const std::string& text, std::size_t width) {
  const std::string fits(first_columns(text, width));
  return std::string(width - display_width(fits), ' ') + fits;
}
std::string left(const std::string& text, std::size_t width) {
  const std::string fits(first_columns(text, width));
  return fits + std::string(width - display_width(fits), ' ');
}

/// One end of the scale, in as many digits as put it in its place on the way to the other one; as far as there is room.
std::string short_number(double v, double other) {
  const auto text = [&](int digits) { return fmt::format("{:.{}g}", v == 0 ? 0 : v, digits); };
  const auto off = [&](const std::string& written) { return std::abs(std::strtod(written.c_str(), nullptr) - v); };
  int digits = 4;
  while (digits < 12 && off(text(digits)) > std::abs(other - v) / 50 && text(digits + 1).size() < kScale) ++digits;
  return text(digits);
}

/// An instant, to a thousandth of what is drawn.
std::string instant_text(double seconds, double length) {
  const int decimals = std::clamp(3 - static_cast<int>(std::floor(std::log10(std::max(length, 1e-9)))), 0, 9);
  const double unit = std::pow(10, decimals);
  const auto at = time_from_seconds(std::round(seconds * unit) / unit);
  return at ? format_instant(*at) : format_seconds(seconds);
}

std::size_t plot_columns(const TextPlotStyle& s) {
  return std::max<std::size_t>(s.width, 40) - kScale - 1;
}

/// What is drawn in each column of dots: from the least to the greatest value, or nothing.
struct Extremes {
  double low = std::numeric_limits<double>::infinity(), high = -low;
  bool empty() const { return low > high; }
  void add(double v) {
    if (!std::isfinite(v)) return;
    low = std::min(low, v);
    high = std::max(high, v);
  }
};

/// Where an instant lies among so many columns.
std::size_t column_of(double seconds, const TextPlotStyle& s, std::size_t columns) {
  const double share = s.end > s.begin ? (seconds - s.begin) / (s.end - s.begin) : 0;
  return std::min(columns - 1, static_cast<std::size_t>(std::max(0.0, share * static_cast<double>(columns))));
}

std::vector<Extremes> extremes(const SignalView& c, const TextPlotStyle& s, std::size_t columns) {
  std::vector<Extremes> all(columns);
  for (std::size_t i = 0; i < c.values.size(); ++i) {
    const std::size_t at = column_of(c.seconds[i], s, columns);
    all[at].add(c.values[i]);
    if (i == 0 || !std::isfinite(c.values[i]) || !std::isfinite(c.values[i - 1])) continue;
    // The way from the instant before: what is held, or a straight line.
    const std::size_t before = column_of(c.seconds[i - 1], s, columns);
    for (std::size_t k = before; k <= at; ++k) {
      const double share = at == before ? 1 : static_cast<double>(k - before) / static_cast<double>(at - before);
      all[k].add(c.steps ? c.values[i - 1] : c.values[i - 1] + share * (c.values[i] - c.values[i - 1]));
    }
  }
  return all;
}

std::string utf8(char32_t code) {
  return {static_cast<char>(0xE0 | (code >> 12)), static_cast<char>(0x80 | ((code >> 6) & 0x3F)),
          static_cast<char>(0x80 | (code & 0x3F))};
}

/// A field of dots, in characters of 2 × 4 of them, or of one.
class Dots {
 public:
  Dots(std::size_t columns, std::size_t lines, bool ascii)
      : ascii_(ascii), columns_(columns), cells_(columns * lines), across_(ascii ? 1 : 2), down_(ascii ? 1 : 4) {}
  std::size_t across() const { return columns_ * across_; }
  std::size_t down() const { return cells_.size() / columns_ * down_; }
  void set(std::size_t x, std::size_t y) {
    constexpr std::uint8_t kDots[4][2] = {{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}};
    cells_[y / down_ * columns_ + x / across_] |= kDots[y % down_][x % across_];
  }
  std::string line(std::size_t number) const {
    std::string text;
    for (std::size_t i = 0; i < columns_; ++i) {
      const std::uint8_t dots = cells_[number * columns_ + i];
      text += dots == 0 ? " " : ascii_ ? "*" : utf8(0x2800 + dots);
    }
    return text;
  }

 private:
  bool ascii_;
  std::size_t columns_;
  std::vector<std::uint8_t> cells_;
  std::size_t across_, down_;
};

std::string curve_lines(const SignalView& c, const TextPlotStyle& s) {
  Dots dots(plot_columns(s), s.height, s.ascii);
  const std::vector<Extremes> all = extremes(c, s, dots.across());
  Extremes range;
  for (const Extremes& e : all) {
    if (!e.empty()) range.add(e.low), range.add(e.high);
  }
  if (range.empty()) return right("", kScale) + (c.values.empty() ? "no values in this time\n" : "no finite values\n");
  // Where the scale has no room to tell its ends apart, a curve between them would be a picture of nothing.
  const std::string top = short_number(range.high, range.low), bottom = short_number(range.low, range.high);
  const bool exact = range.low == range.high, constant = exact || top == bottom;
  const auto row = [&](double v) {
    const double share = constant ? 0.5 : (range.high - v) / (range.high - range.low);
    return std::min(dots.down() - 1, static_cast<std::size_t>(share * static_cast<double>(dots.down() - 1) + 0.5));
  };
  for (std::size_t x = 0; x < all.size(); ++x) {
    if (all[x].empty()) continue;
    for (std::size_t y = row(all[x].high); y <= row(all[x].low); ++y) dots.set(x, y);
  }
  std::string text;
  for (std::size_t i = 0; i < s.height; ++i) {
    std::string scale;
    if (constant) {
      if (i == s.height / 2) scale = exact ? short_number(range.low, range.low) : (s.ascii ? "~" : "≈") + top;
    } else if (i == 0) {
      scale = top;
    } else if (i + 1 == s.height) {
      scale = bottom;
    }
    text += right(scale, kScale - 1) + (s.ascii ? " |" : " ┤") + dots.line(i) + "\n";
  }
  return text;
}

/// The name of each value, where it begins. Where it changes more than once within a column there is no room for what it
/// was, and that is shown.
std::string choice_line(const SignalView& c, const TextPlotStyle& s, const std::vector<Extremes>& all) {
  const std::size_t columns = all.size();
  std::vector<int> changes(columns);
  std::vector<double> held(columns);
  std::size_t reached = 0;
  for (std::size_t i = 0; i < c.values.size(); ++i) {
    const std::size_t at = column_of(c.seconds[i], s, columns);
    if (i > 0 && c.values[i] != c.values[i - 1]) ++changes[at];
    for (; i > 0 && reached < at; ++reached) held[reached] = c.values[i - 1];
    held[at] = c.values[i];
  }
  std::string text;
  for (std::size_t i = 0; i < columns;) {
    if (changes[i] > 0) {
      text += changes[i] > 1 ? (s.ascii ? "#" : "▒") : s.ascii ? "|" : "│";
      ++i;
      continue;
    }
    std::size_t end = i + 1;
    while (end < columns && changes[end] == 0 && all[end].empty() == all[i].empty()) ++end;
    const double v = held[i];
    const bool known = v >= 0 && v < static_cast<double>(c.labels.size());
    const std::string name = known ? c.labels[static_cast<std::size_t>(v)] : format_number(v);
    text += left(all[i].empty() ? "" : name, end - i);
    i = end;
  }
  return text;
}

/// A truth is a line that is thick where it holds.
std::string lane_line(const SignalView& c, const TextPlotStyle& s) {
  const std::size_t columns = plot_columns(s);
  const std::vector<Extremes> all = extremes(c, s, columns);
  std::string text = right("", kScale - 1) + (s.ascii ? " |" : " ┤");
  if (c.labels.empty()) {
    for (const Extremes& e : all) {
      const bool both = !e.empty() && e.low != e.high;
      const char* const signs[2][4] = {{" ", "▁", "█", "▒"}, {" ", "_", "#", "|"}};
      text += signs[s.ascii ? 1 : 0][e.empty() ? 0 : both ? 3 : e.high > 0.5 ? 2 : 1];
    }
    return text + "\n";
  }
  return text + choice_line(c, s, all) + "\n";
}

}  // namespace

std::string text_plot(const SignalView& c, const TextPlotStyle& s) {
  const std::string title = c.unit.empty() ? c.name : c.name + " in " + c.unit;
  return right("", kScale) + std::string(first_columns(title, plot_columns(s))) + "\n" +
         (c.lane ? lane_line(c, s) : curve_lines(c, s));
}

std::string text_time_axis(const TextPlotStyle& s) {
  const std::size_t columns = plot_columns(s);
  const double length = s.end - s.begin;
  const std::string begin = instant_text(s.begin, length), end = instant_text(s.end, length),
                    middle = instant_text((s.begin + s.end) / 2, length);
  std::string line = std::string(kScale, ' ') + (s.ascii ? "+" : "└");
  for (std::size_t i = 0; i < columns; ++i)
    line += s.ascii ? (i == columns / 2 ? "+" : "-") : i == columns / 2 ? "┴" : "─";
  std::string numbers(kScale + 1, ' ');
  numbers += begin;
  const std::size_t at = kScale + 1 + columns / 2 - std::min(columns / 2, middle.size() / 2);
  if (numbers.size() + 2 < at) numbers += std::string(at - numbers.size(), ' ') + middle;
  const std::size_t last = kScale + 1 + columns - std::min(columns, end.size());
  if (numbers.size() + 2 < last) numbers += std::string(last - numbers.size(), ' ') + end;
  return line + "\n" + numbers + "\n";
}

}  // namespace isodyne::present
