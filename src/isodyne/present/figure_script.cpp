#include "isodyne/present/figure_script.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <sstream>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/time.h"
#include "isodyne/present/label_places.h"
#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

/// The time axis in the unit that gives readable numbers.
struct TimeAxis {
  double factor = 1;
  const char* unit = "s";
  explicit TimeAxis(double length) {
    if (length > 5 * 3600) {
      factor = 3600;
      unit = "h";
    } else if (length > 300) {
      factor = 60;
      unit = "min";
    }
  }
};

constexpr int kSheetWidth = 1280, kPlotLeft = 110, kPlotRight = 190, kPlotWidth = kSheetWidth - kPlotLeft - kPlotRight;
constexpr const char* kFaultInk = "#6B6000";
constexpr const char* kBreachInk = "#A33F00";
/// Limits are of no curve's colour and not of that of what was broken.
constexpr const char* kLimitInk = "#4B5560";

/// Dashes would say nothing of a curve that turns this often, or would look like one that does.
bool dense(const Curve& curve) {
  constexpr int kMostTurns = 12;
  int turns = 0, before = 0;
  double last = NAN;
  for (const auto& [t, y] : curve.points) {
    if (!std::isfinite(y)) continue;
    const int now = y > last ? 1 : y < last ? -1 : 0;
    if (now != 0 && before != 0 && now != before && ++turns > kMostTurns) return true;
    if (now != 0) before = now;
    last = y;
  }
  return false;
}

struct CurveText {
  std::string data, clauses;
  void clause(const std::string& text) { clauses += (clauses.empty() ? "" : ", \\\n  ") + text; }
};

/// The data blocks of a panel's curves, and the clauses that draw them. Where dashes cannot tell curves apart, their
/// width and a sign at their end do. In a panel of truth values each curve has a lane of its own, the first on top.
CurveText curves_of(const Panel& panel, const std::string& block, const TimeAxis& axis, bool named) {
  CurveText text;
  std::vector<std::string> names;
  constexpr std::size_t kRoom = 18;  // columns right of the panel
  std::vector<std::size_t> rooms;
  for (const Curve& c : panel.curves) {
    names.push_back(c.label);
    rooms.push_back(kRoom - std::min<std::size_t>(kRoom - 6, display_width(c.remark)));
  }
  // Only those that do not fit are cut.
  std::vector<std::string> cut =
      shortened_apart(names, rooms.empty() ? kRoom : *std::min_element(rooms.begin(), rooms.end()));
  for (std::size_t i = 0; i < names.size(); ++i)
    if (display_width(names[i]) > rooms[i]) names[i] = std::move(cut[i]);
  const bool signs = std::any_of(panel.curves.begin(), panel.curves.end(), dense) && panel.curves.size() > 1;
  for (std::size_t i = 0; i < panel.curves.size(); ++i) {
    const Curve& curve = panel.curves[i];
    const double lane = panel.lanes ? static_cast<double>(panel.curves.size() - 1 - i) : 0;
    const double height = panel.lanes ? 0.7 : 1;
    const std::string own = fmt::format("{}c{}", block, i);
    text.data += own + " << END\n";
    bool gap = false;
    std::string end;
    for (const auto& [t, y] : curve.points) {
      const bool finite = std::isfinite(y);
      if (finite) text.data += end = fmt::format("{:.12g} {:.12g}\n", t / axis.factor, lane + height * y);
      if (!finite && !gap) text.data += "\n";  // a hole stays a hole
      gap = !finite;
    }
    text.data += "END\n";
    const char* colour = kColours[i % std::size(kColours)];
    const int dashes = panel.lanes || signs ? 1 : static_cast<int>(i % 4) + 1;
    const double wide = signs ? 2.4 - 0.5 * static_cast<double>(std::min<std::size_t>(i, 3)) : 2;
    const std::string title = named && !panel.lanes ? present::quoted(names[i] + curve.remark) : "";
    const bool sign = signs && !end.empty();
    text.clause(fmt::format("{} using 1:2 with {} lc rgb \"{}\" lw {:.3g} dt {} {}", own,
                            curve.steps ? "steps" : "lines", colour, wide, dashes,
                            title.empty() || sign ? "notitle" : "title " + title));
    if (!sign) continue;
    const std::string look =
        fmt::format("lc rgb \"{}\" lw {:.3g} pt {} ps 0.9", colour, wide, std::vector{7, 5, 9, 11, 13, 6}[i % 6]);
    text.data += fmt::format("{}e << END\n{}END\n", own, end);
    text.clause(fmt::format("{}e using 1:2 with points {} notitle", own, look));
    if (!title.empty()) text.clause(fmt::format("keyentry with linespoints {} title {}", look, title));
  }
  return text;
}

std::string tics(const Panel& panel) {
  if (panel.lanes) {
    std::string lanes;
    std::vector<std::string> names;
    for (const Curve& c : panel.curves) names.push_back(c.label);
    names = shortened_apart(names, 14);
    for (std::size_t i = 0; i < panel.curves.size(); ++i) {
      lanes += fmt::format("{}{} {}", i == 0 ? "" : ", ", present::quoted(names[i]),
                           static_cast<double>(panel.curves.size() - 1 - i) + 0.35);
    }
    return fmt::format("set ytics ({})\n", lanes);
  }
  if (panel.labels.empty()) return "set ytics auto\n";
  std::string list;
  for (std::size_t i = 0; i < panel.labels.size(); ++i)
    list += fmt::format("{}{} {}", i == 0 ? "" : ", ", present::quoted(panel.labels[i]), i);
  return fmt::format("set ytics ({})\n", list);
}

/// Lines of a text that are at most so wide, broken between words.
std::vector<std::string> wrapped(const std::string& text, std::size_t columns) {
  std::vector<std::string> lines;
  std::string line;
  std::istringstream words(text);
  for (std::string word; words >> word;) {
    if (!line.empty() && display_width(line) + 1 + display_width(word) > columns) {
      lines.push_back(line);
      line = "    ";  // it goes on
    } else if (!line.empty()) {
      line += ' ';
    }
    line += word;
  }
  if (!line.empty()) lines.push_back(line);
  return lines;
}

class Script {
 public:
  explicit Script(const FigureData& data) : d_(data), axis_(data.end - data.begin) {
    panel_height_ = d_.panels.size() == 1 ? 300 : d_.closer != nullptr ? 240 : 165;
    titles_ = wrapped(d_.title, 115);
    subtitles_ = wrapped(d_.subtitle, 165);
    for (const auto* bands : {&d_.faults, &d_.breaches}) {
      for (const Band& b : *bands) {
        if (std::find(named_.begin(), named_.end(), b.label) == named_.end()) named_.push_back(b.label);
      }
    }
    top_ = 46 + 20 * static_cast<int>(titles_.size()) + 15 * static_cast<int>(subtitles_.size()) +
           (named_.empty() ? 0 : 4) + kBandLine * static_cast<int>(named_.size());
    for (const Panel& p : d_.panels) places_.push_back(limits_of(p));
    write_notes();
    bottom_ = 62 + 16 * static_cast<int>((notes_.size() + columns_ - 1) / columns_);
    height_ = top_ + bottom_ + panel_height_ * static_cast<int>(std::max<std::size_t>(1, d_.panels.size()));
    for (const Limits& l : places_) height_ += l.lifted.empty() ? 0 : kLifted;
  }

  int height() const { return height_; }

  std::string text() const {
    std::string out = "set encoding utf8\nset style textbox opaque noborder\nset multiplot\n";
    out += header();
    double from_top = top_;
    for (std::size_t i = 0; i < d_.panels.size(); ++i) {
      if (!places_[i].lifted.empty()) from_top += kLifted;
      out += panel(i, from_top);
      from_top += panel_height_;
    }
    return out + "unset multiplot\n";
  }

 private:
  static constexpr std::size_t kHalfWidth = 78;  ///< characters of a note that has another one beside it
  static constexpr int kLifted = 14;             ///< height of a line of words above a panel
  static constexpr int kBandLine = 19;           ///< height of a line with the name of a band and its bar

  /// Where the words of a panel's limits are.
  struct Limits {
    struct Line {
      double value = 0;
      std::string text;
      std::optional<PixelBox> box;  ///< of the words, in the panel; none: they are above it, or with the line opposite
    };
    std::vector<Line> lines;
    std::string lifted;  ///< what found no place beside its line
  };

  void write_notes() {
    for (std::size_t i = 0; i < d_.marks.size(); ++i)
      notes_.push_back(fmt::format("{}  {}  {}", i + 1, moment(d_.marks[i].at), d_.marks[i].text));
    if (d_.unmarked > 0) notes_.push_back(fmt::format("and {} more, not marked here", counted(d_.unmarked, "action")));
    // Side by side where all of them are short enough.
    const auto wide = [](const std::string& n) { return display_width(n) > kHalfWidth; };
    if (std::none_of(notes_.begin(), notes_.end(), wide)) return;
    columns_ = 1;
    std::vector<std::string> lines;
    for (const std::string& n : notes_) {
      for (const std::string& line : wrapped(n, 2 * kHalfWidth)) lines.push_back(line);
    }
    notes_ = std::move(lines);
  }
  static std::string moment(double seconds) { return format_instant(time_from_seconds(seconds).value_or(Time{})); }

  double panel_plot() const { return panel_height_ - 16; }  ///< pixels of a panel inside its axes

  /// What stands in a panel beside its curves takes its room before the words of limits do.
  Limits limits_of(const Panel& p) const {
    Limits made;
    const auto range = axis_range(p);
    if (!range) return made;
    std::map<double, std::string> by_value;
    for (const LimitMark& l : p.limits) {
      // gnuplot would draw a line outside the range across the neighbouring panel.
      if (l.value < range->first || l.value > range->second) continue;
      std::string& names = by_value[l.value];
      if (names.find(l.label) == std::string::npos) list_on(names, l.label);
    }
    if (by_value.empty()) return made;
    const double tall = panel_plot(), unit = tall / (range->second - range->first);
    const auto up = [&](double value) { return (value - range->first) * unit; };
    const auto across = [&](double t) { return (t - d_.begin) / length() * kPlotWidth; };
    LabelPlaces places(kPlotWidth, tall);
    for (const Curve& c : p.curves) {
      std::vector<std::pair<double, double>> drawn;
      for (const auto& [t, v] : c.points) drawn.emplace_back(across(t), up(v));
      places.take_curve(drawn, c.steps);
    }
    for (std::size_t i = 0; i < p.notes.size(); ++i) {
      const double top = tall * (0.94 + 0.05) - 14.0 * static_cast<double>(i);
      places.take({0, 12 + 6.5 * static_cast<double>(display_width(p.notes[i])), top - 14, top});
      if (d_.closer) places.take({0, kPlotWidth, 0, 18 + 14.0 * static_cast<double>(i)});
    }
    for (const PointMark& m : p.points) {
      const double wide = 6.5 * static_cast<double>(display_width(m.text)) + 20, x0 = across(m.at), y0 = up(m.value);
      places.take({x0 - wide, x0 + wide, y0 - 24, y0 + 24});
    }
    if (has_closer(p)) {
      const Box b = place_of_closer(p, 0);
      places.take(
          {(b.left - kCloserTics) * kSheetWidth - kPlotLeft, (b.right + 0.015) * kSheetWidth - kPlotLeft, 0, tall});
      places.take({across(d_.closer->begin) - 2, across(d_.closer->end) + 2, 0, tall});
    }
    for (const auto& [value, names] : by_value) {
      Limits::Line line{value, {}, {}};
      const auto opposite = by_value.find(-value);
      const bool pair = value != 0 && opposite != by_value.end() && opposite->second == names;
      if (!pair || value > 0) {  // one label for both
        line.text = fmt::format("{} {}{}", names, pair ? "±" : "", format_number(value));
        line.box = places.beside_line(up(value), 6.5 * static_cast<double>(display_width(line.text)) + 4, 13);
        if (!line.box) made.lifted += (made.lifted.empty() ? "" : ",  ") + line.text;
      }
      made.lines.push_back(std::move(line));
    }
    if (!made.lifted.empty()) made.lifted = cut_to_line("limits: " + made.lifted);
    return made;
  }

  /// As many of the words above a panel as it is wide; how many are left out is said.
  static std::string cut_to_line(const std::string& all) {
    constexpr std::size_t kMost = static_cast<std::size_t>(kPlotWidth / 6.5) - 20;
    if (display_width(all) <= kMost) return all;
    const std::string kept(first_columns(all, kMost));
    const std::size_t end = kept.rfind(",  ");
    std::size_t more = 1;
    for (std::size_t at = all.find(",  ", end + 1); at != std::string::npos; at = all.find(",  ", at + 1)) ++more;
    return end == std::string::npos ? kept + "…" : fmt::format("{}, and {} more", all.substr(0, end), more);
  }

  /// So narrow that the usual six digits would not tell its ticks apart.
  static bool narrow(const std::pair<double, double>& range) {
    return range.second - range.first < 1e-4 * std::max(std::abs(range.first), std::abs(range.second));
  }
  static std::string ends(const std::pair<double, double>& range) {
    const int digits = narrow(range) ? 12 : 9;
    return fmt::format("{:.{}g}:{:.{}g}", range.first, digits, range.second, digits);
  }

  /// The range of the axis: that of the values, and room for the notes above the curves.
  std::optional<std::pair<double, double>> axis_range(const Panel& p) const {
    auto range = range_of(p);
    if (!range) return range;
    const double room = d_.closer || p.notes.empty() ? 0 : 15.0 * static_cast<double>(p.notes.size()) + 4;
    range->second += room / (panel_plot() - room) * (range->second - range->first);
    return range;
  }
  bool has_closer(const Panel& p) const { return d_.closer != nullptr && !p.lanes && p.labels.empty(); }

  double length() const { return std::max(d_.end - d_.begin, 1e-9); }
  double y(double pixels_from_top) const { return 1.0 - pixels_from_top / height_; }
  double x(double seconds) const {
    return (kPlotLeft + (kSheetWidth - kPlotLeft - kPlotRight) * (seconds - d_.begin) / length()) / kSheetWidth;
  }

  /// Title, and the marks' numbers above the first panel with their words below the last.
  std::string header() const {
    std::string out;
    int tag = 400;
    const auto label = [&](const std::string& text, double across, double from_top, const std::string& look) {
      out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} {}\n", tag++, present::quoted(text), across,
                         y(from_top), look);
    };
    double line = 22;
    for (const std::string& t : titles_) label(t, double(kPlotLeft) / kSheetWidth, line, "font \",15\""), line += 20;
    line += 2;
    for (const std::string& t : subtitles_)
      label(t, double(kPlotLeft) / kSheetWidth, line, "font \",11\" tc rgb \"#555555\""), line += 15;
    out += bands_above(line + 4, tag);
    for (std::size_t i = 0; i < d_.marks.size();) {  // numbers that would overlap become "1–4"
      std::size_t last = i;
      while (last + 1 < d_.marks.size() && x(d_.marks[last + 1].at) - x(d_.marks[i].at) < 0.02) ++last;
      const std::string number = last == i ? std::to_string(i + 1) : fmt::format("{}–{}", i + 1, last + 1);
      out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} center font \",9\" tc rgb \"#555555\"\n",
                         tag++, present::quoted(number), x(d_.marks[i].at), y(top_ - 8));
      i = last + 1;
    }
    for (std::size_t i = 0; i < notes_.size(); ++i)
      label(notes_[i], i % columns_ == 0 ? double(kPlotLeft) / kSheetWidth : 0.52,
            height_ - bottom_ + 58 + 16 * static_cast<double>(i / columns_), "font \",9\" tc rgb \"#555555\"");
    return out;
  }

  /// A line for each fault and each broken requirement: when, as a bar, with its name. The panels that it is about have
  /// it as their background too.
  std::string bands_above(double from_top, int& tag) const {
    std::string out;
    int object = 500;
    const auto line_of = [&](const Band& b) {
      const auto at = std::find(named_.begin(), named_.end(), b.label) - named_.begin();
      return from_top + kBandLine * static_cast<double>(at);
    };
    std::set<std::string> told;
    for (const auto& [bands, ink, fill] :
         {std::tuple{&d_.faults, kFaultInk, "#D8CB2C"}, std::tuple{&d_.breaches, kBreachInk, "#D55E00"}}) {
      for (const Band& b : *bands) {
        out += fmt::format(
            "set object {} rectangle from screen {:.5f}, screen {:.5f} to screen {:.5f}, screen {:.5f} fc rgb \"{}\" "
            "fs "
            "solid noborder\n",
            object++, x(b.begin), y(line_of(b) + 11), std::max(x(b.end), x(b.begin) + 2.0 / kSheetWidth),
            y(line_of(b) + 8), fill);
        if (!told.insert(b.label).second) continue;  // the first of several bands carries the name
        const std::string text = bands == &d_.faults ? "fault " + b.label : b.label + " broken";
        const bool left = x(b.begin) + 6.5 * static_cast<double>(display_width(text)) / kSheetWidth > 0.99;
        out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} {} font \",9\" tc rgb \"{}\"\n", tag++,
                           present::quoted(text), left ? std::min(x(b.end), 0.99) : x(b.begin), y(line_of(b)),
                           left ? "right" : "left", ink);
      }
    }
    return out;
  }

  std::string panel(std::size_t index, double from_top) const {
    const Panel& p = d_.panels[index];
    const bool last = index + 1 == d_.panels.size();
    const CurveText curves = curves_of(p, fmt::format("$p{}", index), axis_, true);
    std::string out = curves.data;
    out += fmt::format("set lmargin at screen {:.4f}\nset rmargin at screen {:.4f}\n", double(kPlotLeft) / kSheetWidth,
                       1.0 - double(kPlotRight) / kSheetWidth);
    out += fmt::format("set tmargin at screen {:.4f}\nset bmargin at screen {:.4f}\n", y(from_top + 6),
                       y(from_top + panel_height_ - 10));
    out += fmt::format("set xrange [{:.12g}:{:.12g}]\n", d_.begin / axis_.factor, (d_.begin + length()) / axis_.factor);
    const auto range = axis_range(p);
    out += range ? fmt::format("set yrange [{}]\n", ends(*range))
                 : "set yrange [0:1]\nset label 99 'no finite values' at graph 0.5, graph 0.5 center\n";
    out += range && narrow(*range) ? "set format y \"%.10g\"\n" : "set format y\n";
    out += tics(p);
    out += last ? fmt::format("set format x \"%.10g\"\nset xlabel \"time in {}\" offset 0,0.4\n", axis_.unit)
                : "set format x \"\"\nunset xlabel\n";
    out += p.unit.empty() ? "unset ylabel\n" : fmt::format("set ylabel {} offset 0.5,0\n", present::quoted(p.unit));
    out +=
        "set grid xtics ytics lc rgb \"#DDDDDD\" lt 1 lw 0.6\nset border 3 lc rgb \"#666666\"\nset tics nomirror out "
        "scale 0.5 tc rgb \"#333333\"\n";
    out += "set key at graph 1.012, graph 1.0 left top Left reverse samplen 2 spacing 1.15 font \",10\" noautotitle\n";
    out += overlays(p, places_[index]);
    const bool closer = has_closer(p);
    const Box box = closer ? place_of_closer(p, from_top) : Box{};
    // Notes are above, or below the small picture.
    const double middle = y(from_top + 0.5 * panel_height_);
    for (std::size_t i = 0; i < p.notes.size(); ++i) {
      const double line = 14.0 * static_cast<double>(i) / (panel_height_ - 16);
      const double at = closer && box.bottom > middle ? 0.05 + line : 0.94 - line;
      out += fmt::format("set label {} {} at graph 0.01, graph {:.4f} font \",9\" tc rgb \"#1D2730\" front boxed\n",
                         300 + i, present::quoted(p.notes[i]), at);
    }
    for (std::size_t i = 0; i < p.points.size(); ++i) {
      // Towards the middle, where there is room.
      const bool left = p.points[i].at > d_.begin + 0.8 * length();
      const bool below = range && p.points[i].value > 0.5 * (range->first + range->second);
      out += fmt::format(
          "set label {} {} at first {:.9g}, first {:.9g} {} offset char {}, char {} point pt 6 ps 0.9 lc rgb "
          "\"#1D2730\" font \",9\" tc rgb \"#1D2730\" front boxed\n",
          330 + i, present::quoted(p.points[i].text), p.points[i].at / axis_.factor, p.points[i].value,
          left ? "right" : "left", left ? -1.0 : 1.0, below ? -1.2 : 1.2);
    }
    if (closer) out += backing(box);
    out += "plot " + curves.clauses + "\n";
    out += "unset label\nunset object\nunset arrow\n";
    return closer ? out + inside(index, box) : out;
  }

  struct Box {
    double left = 0, right = 0, top = 0, bottom = 0;  ///< screen
  };

  /// Where a small picture begins, left or right, and how wide it is: shares of the panel.
  static constexpr double kCloserLeft = 0.07, kCloserRight = 0.62, kCloserWide = 0.35;
  static constexpr double kCloserTics = 0.044;  ///< room for the numbers beside it, of the whole width

  /// The quarter of the panel, left or right, above or below, in which the curves have least to say.
  Box place_of_closer(const Panel& p, double from_top) const {
    const auto range = range_of(p);
    std::size_t taken[2][2] = {};
    for (const Curve& c : p.curves) {
      for (const auto& [t, v] : c.points) {
        if (!range || !std::isfinite(v)) continue;
        const double across = (t - d_.begin) / length(), up = (v - range->first) / (range->second - range->first);
        if (up > 0.55 || up < 0.45) ++taken[across < 0.5 ? 0 : 1][up > 0.5 ? 1 : 0];
      }
    }
    // Not over the stretch that it shows.
    for (const int s : {0, 1}) {
      const double left = s == 0 ? kCloserLeft : kCloserRight;
      const bool over = (d_.closer->end - d_.begin) / length() > left - 0.04 &&
                        (d_.closer->begin - d_.begin) / length() < left + kCloserWide + 0.02;
      for (std::size_t& t : taken[s]) t += over ? kColumns * 400 : 0;
    }
    int side = 1, high = 1;
    for (const auto& [s, h] : {std::pair{0, 1}, std::pair{1, 0}, std::pair{0, 0}}) {
      if (taken[s][h] < taken[side][high]) side = s, high = h;
    }
    const double left = double(kPlotLeft) / kSheetWidth,
                 wide = double(kSheetWidth - kPlotLeft - kPlotRight) / kSheetWidth;
    const double top = from_top + 6, tall = panel_height_ - 16;
    Box b;
    b.left = left + wide * (side == 0 ? kCloserLeft : kCloserRight);
    b.right = b.left + wide * kCloserWide;
    b.top = y(top + tall * (high == 1 ? 0.05 : 0.47));
    b.bottom = y(top + tall * (high == 1 ? 0.38 : 0.80));
    return b;
  }

  /// White below the small picture and its numbers, and a frame around what it shows.
  std::string backing(const Box& b) const {
    return fmt::format(
        "set object 90 rectangle from screen {:.4f}, screen {:.4f} to screen {:.4f}, screen {:.4f} fc rgb \"#FFFFFF\" "
        "fs solid border lc rgb \"#888888\" front\n"
        "set object 91 rectangle from {:.9g}, graph 0 to {:.9g}, graph 1 fc rgb \"#FFFFFF\" fs empty border lc rgb "
        "\"#555555\" front\n",
        b.left - kCloserTics, b.bottom - 26.0 / height_, b.right + 0.012, b.top + 6.0 / height_,
        d_.closer->begin / axis_.factor, d_.closer->end / axis_.factor);
  }

  /// 1, 2 or 5 times a power of ten, far enough apart for what stands below them.
  static double tics_of_closer(double begin, double length) {
    constexpr double kLetter = 6;  // pixels
    for (double power = std::pow(10, std::floor(std::log10(length)) - 2);; power *= 10) {
      for (const double step : {power, 2 * power, 5 * power}) {
        const double letters = static_cast<double>(fmt::format("{:.10g} s", begin + step).size() + 2);
        if (length / step * letters * kLetter <= kCloserWide * kPlotWidth || step >= length) return step;
      }
    }
  }

  std::string inside(std::size_t index, const Box& b) const {
    const Panel& p = d_.closer->panels[index];
    const CurveText curves = curves_of(p, fmt::format("$z{}", index), TimeAxis(0), false);
    const auto range = range_of(p);
    if (!range) return {};
    return curves.data +
           fmt::format(
               "set lmargin at screen {:.4f}\nset rmargin at screen {:.4f}\nset tmargin at screen {:.4f}\nset bmargin "
               "at "
               "screen {:.4f}\nset xrange [{:.9g}:{:.9g}]\nset yrange [{}]\nunset key\nunset xlabel\nunset "
               "ylabel\nset format x \"%.10g s\"\nset xtics {:.9g} font \",8\"\nset ytics autofreq font \",8\"\nplot "
               "{}\n"
               "set xtics autofreq font \"\"\nset ytics autofreq font \"\"\n",
               b.left, b.right, b.top, b.bottom, d_.closer->begin, d_.closer->end, ends(*range),
               tics_of_closer(d_.closer->begin, d_.closer->end - d_.closer->begin), curves.clauses);
  }

  /// Fault bands, breaches, event lines and limits: everything that is not a curve.
  std::string overlays(const Panel& p, const Limits& limits) const {
    std::string out;
    int object = 1, arrow = 1, label = 200;
    for (const Band& b : d_.faults) {
      if (!b.concerns(p)) continue;
      out += fmt::format(
          "set object {} rectangle from {:.9g}, graph 0 to {:.9g}, graph 1 fc rgb \"#F0E442\" fs transparent solid "
          "0.30 noborder behind\n",
          object++, b.begin / axis_.factor, b.end / axis_.factor);
    }
    for (const Band& b : d_.breaches) {
      if (!b.concerns(p)) continue;
      const double shown_end = std::min(std::max(b.end, b.begin + 0.002 * length()), d_.begin + length());
      out += fmt::format(
          "set object {} rectangle from {:.9g}, graph 0 to {:.9g}, graph 1 fc rgb \"#D55E00\" fs transparent solid "
          "0.22 noborder behind\n",
          object++, b.begin / axis_.factor, shown_end / axis_.factor);
    }
    for (const Mark& m : d_.marks) {
      out += fmt::format(
          "set arrow {} from {:.9g}, graph 0 to {:.9g}, graph 1 nohead lc rgb \"#999999\" lw 0.7 dt 3 back\n", arrow++,
          m.at / axis_.factor, m.at / axis_.factor);
    }
    for (const Limits::Line& l : limits.lines) {
      out += fmt::format(
          "set arrow {} from graph 0, first {:.9g} to graph 1, first {:.9g} nohead lc rgb \"{}\" lw 1.1 dt 2 back\n",
          arrow++, l.value, l.value, kLimitInk);
      if (!l.box) continue;
      out += fmt::format("set label {} {} at graph {:.5f}, graph {:.5f} right font \",9\" tc rgb \"{}\" front\n",
                         label++, present::quoted(l.text), l.box->right / kPlotWidth,
                         (l.box->bottom + l.box->top) / 2 / panel_plot(), kLimitInk);
    }
    if (!limits.lifted.empty())
      out += fmt::format("set label {} {} at graph 1, graph 1 right offset 0,0.6 font \",9\" tc rgb \"{}\"\n", label++,
                         present::quoted(limits.lifted), kLimitInk);
    return out;
  }

  std::vector<std::string> titles_, subtitles_, named_;  ///< above; named_: bands that have a line of their own
  std::vector<Limits> places_;                           ///< per panel
  std::vector<std::string> notes_;                       ///< below the panels
  std::size_t columns_ = 2;
  const FigureData& d_;
  TimeAxis axis_;
  int panel_height_ = 0, top_ = 0, bottom_ = 0, height_ = 0;
};

}  // namespace

FigureScript script_of(const FigureData& data) {
  const Script script(data);
  return {script.text(), script.height()};
}

}  // namespace isodyne::present
