#include "isodyne/present/figure.h"

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/plot.h"
#include "isodyne/present/signals.h"

namespace isodyne::present {

namespace {

/// As much of a text as there is room for.
std::string shortened(const std::string& text, std::size_t most) {
  if (display_width(text) <= most) return text;
  return std::string(first_columns(text, most - 1)) + "…";
}

/// The time axis in the unit that gives readable numbers.
struct TimeAxis {
  double factor = 1;
  const char* unit = "s";
  explicit TimeAxis(double end) {
    if (end > 5 * 3600) {
      factor = 3600;
      unit = "h";
    } else if (end > 300) {
      factor = 60;
      unit = "min";
    }
  }
};

std::string unit_text(const model::Variable& v) {
  if (v.type.kind == model::Type::Kind::real) return v.unit.text == "1" ? "" : v.unit.text;
  return v.type.kind == model::Type::Kind::integer ? "count" : "";
}

Panel panel_of(const model::Program& program, const std::vector<model::VarId>& ids, const record::Recording& recording,
               std::size_t columns) {
  const model::Variable& first = program.variable(ids.front());
  Panel panel;
  panel.unit = unit_text(first);
  panel.lanes = first.type.kind == model::Type::Kind::boolean;
  if (first.type.kind == model::Type::Kind::choice)
    panel.labels = program.choices[static_cast<std::size_t>(first.type.choice)].labels;
  for (const model::VarId id : ids) {
    const model::Variable& v = program.variable(id);
    Curve curve;
    curve.label = v.name;
    if (const auto view = signal_view(recording, v.name, {}, columns)) {
      curve.steps = view->steps;
      curve.column_s = view->column_s;
      // A panel has one unit: that of its first signal.
      for (std::size_t i = 0; i < view->values.size(); ++i)
        curve.points.emplace_back(view->seconds[i], first.unit.read(view->values[i] * v.unit.factor + v.unit.offset));
      if (curve.steps) drop_repeated(curve);
    }
    panel.curves.push_back(std::move(curve));
    if (panel.lanes) continue;  // a limit on a truth value is no line
    for (const model::Requirement& r : program.requirements) {
      for (const model::LimitLine& line : r.limits) {
        if (line.variable == id) panel.limits.push_back({r.name, first.unit.read(line.value)});
      }
    }
  }
  return panel;
}

std::vector<Band> fault_bands(const record::Recording& recording, double end) {
  std::vector<Band> bands;
  for (const record::RecordedEvent& e : recording.events()) {
    if (e.kind == bench::event_word(bench::EventKind::fault_on)) bands.push_back({to_seconds(e.at), end, e.subject});
    if (e.kind != bench::event_word(bench::EventKind::fault_off)) continue;
    for (Band& band : bands) {
      if (band.label == e.subject && band.end == end) band.end = to_seconds(e.at);
    }
  }
  return bands;
}

/// One curve's data block, and the plot clause that draws it.
/// In a panel of truth values each curve has a lane of its own, the first on top.
void add_curve(std::string& data, std::string& plot, const Panel& panel, std::size_t index, const std::string& block,
               const TimeAxis& axis) {
  const Curve& curve = panel.curves[index];
  const double lane = panel.lanes ? static_cast<double>(panel.curves.size() - 1 - index) : 0;
  const double height = panel.lanes ? 0.7 : 1;
  data += fmt::format("{} << END\n", block);
  bool gap = false;
  for (const auto& [t, y] : curve.points) {
    const bool finite = std::isfinite(y);
    if (finite) data += fmt::format("{:.12g} {:.12g}\n", t / axis.factor, lane + height * y);
    if (!finite && !gap) data += "\n";  // a hole stays a hole
    gap = !finite;
  }
  data += "END\n";
  const char* colour = kColours[index % std::size(kColours)];
  plot += fmt::format(
      "{}{} using 1:2 with {} lc rgb \"{}\" lw 2 dt {} title {}", plot.empty() ? "" : ", \\\n  ", block,
      curve.steps ? "steps" : "lines", colour, panel.lanes || index % 4 == 0 ? 1 : index % 4 + 1,
      quoted(panel.lanes
                 ? ""
                 : shortened(curve.label, 19 - std::min<std::size_t>(12, display_width(curve.remark))) + curve.remark));
}

std::string tics(const Panel& panel) {
  if (panel.lanes) {
    std::string lanes;
    for (std::size_t i = 0; i < panel.curves.size(); ++i) {
      lanes += fmt::format("{}{} {}", i == 0 ? "" : ", ", quoted(shortened(panel.curves[i].label, 13)),
                           static_cast<double>(panel.curves.size() - 1 - i) + 0.35);
    }
    return fmt::format("set ytics ({})\n", lanes);
  }
  if (panel.labels.empty()) return "set ytics auto\n";
  std::string list;
  for (std::size_t i = 0; i < panel.labels.size(); ++i)
    list += fmt::format("{}{} {}", i == 0 ? "" : ", ", quoted(panel.labels[i]), i);
  return fmt::format("set ytics ({})\n", list);
}

class Script {
 public:
  explicit Script(const FigureData& data) : d_(data), axis_(data.end) {
    panel_height_ = d_.panels.size() == 1 ? 300 : d_.closer != nullptr ? 240 : 165;
    std::set<std::string> named;
    for (const auto* bands : {&d_.faults, &d_.breaches}) {
      for (const Band& b : *bands) named.insert(b.label);
    }
    top_ = 84 + 13 * static_cast<int>(named.size());
    for (std::size_t i = 0; i < d_.marks.size(); ++i)
      notes_.push_back(fmt::format("{}  {:.6g} s  {}", i + 1, d_.marks[i].at, d_.marks[i].text));
    if (d_.unmarked > 0) notes_.push_back(fmt::format("and {} more, not marked here", counted(d_.unmarked, "action")));
    // Side by side where all of them are short enough.
    if (std::any_of(notes_.begin(), notes_.end(), [](const std::string& n) { return display_width(n) > kHalfWidth; }))
      columns_ = 1;
    bottom_ = 62 + 16 * static_cast<int>((notes_.size() + columns_ - 1) / columns_);
    height_ = top_ + bottom_ + panel_height_ * static_cast<int>(std::max<std::size_t>(1, d_.panels.size()));
  }

  int height() const { return height_; }

  std::string text() const {
    std::string out = "set encoding utf8\nset style textbox opaque noborder\nset multiplot\n";
    out += header();
    for (std::size_t i = 0; i < d_.panels.size(); ++i) out += panel(i);
    return out + "unset multiplot\n";
  }

 private:
  static constexpr int kWidth = 1280, kLeft = 110, kRight = 190;
  static constexpr std::size_t kHalfWidth = 78;  ///< characters of a note that has another one beside it

  double length() const { return std::max(d_.end - d_.begin, 1e-9); }
  double y(double pixels_from_top) const { return 1.0 - pixels_from_top / height_; }
  double x(double seconds) const {
    return (kLeft + (kWidth - kLeft - kRight) * (seconds - d_.begin) / length()) / kWidth;
  }

  /// Title, and the marks' numbers above the first panel with their words below the last.
  std::string header() const {
    std::string out = fmt::format("set label 1 {} at screen {:.4f}, screen {:.4f} font \",15\"\n", quoted(d_.title),
                                  double(kLeft) / kWidth, y(22));
    out += fmt::format("set label 2 {} at screen {:.4f}, screen {:.4f} font \",11\" tc rgb \"#555555\"\n",
                       quoted(d_.subtitle), double(kLeft) / kWidth, y(44));
    int tag = 10;
    int line_of_band = 0;
    std::set<std::string> named;
    for (const auto& [bands, colour] : {std::pair{&d_.faults, "#6B6000"}, std::pair{&d_.breaches, "#A33F00"}}) {
      for (const Band& b : *bands) {
        if (!named.insert(b.label).second) continue;  // the first of several bands carries the name
        const std::string text = bands == &d_.faults ? "fault " + b.label : b.label + " broken";
        out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} font \",9\" tc rgb \"{}\"\n", tag++,
                           quoted(text), x(b.begin), y(62 + 13 * static_cast<double>(line_of_band++)), colour);
      }
    }
    for (std::size_t i = 0; i < d_.marks.size();) {  // numbers that would overlap become "1–4"
      std::size_t last = i;
      while (last + 1 < d_.marks.size() && x(d_.marks[last + 1].at) - x(d_.marks[i].at) < 0.02) ++last;
      const std::string number = last == i ? std::to_string(i + 1) : fmt::format("{}–{}", i + 1, last + 1);
      out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} center font \",9\" tc rgb \"#555555\"\n",
                         tag++, quoted(number), x(d_.marks[i].at), y(top_ - 8));
      i = last + 1;
    }
    for (std::size_t i = 0; i < notes_.size(); ++i) {
      const double column = i % columns_ == 0 ? double(kLeft) / kWidth : 0.52;
      const double line = y(height_ - bottom_ + 58 + 16 * static_cast<double>(i / columns_));
      out += fmt::format("set label {} {} at screen {:.4f}, screen {:.4f} font \",9\" tc rgb \"#555555\"\n", tag++,
                         quoted(shortened(notes_[i], 2 * kHalfWidth)), column, line);
    }
    return out;
  }

  std::string panel(std::size_t index) const {
    const Panel& p = d_.panels[index];
    const bool last = index + 1 == d_.panels.size();
    const double from_top = top_ + panel_height_ * static_cast<double>(index);
    std::string data, plot;
    for (std::size_t c = 0; c < p.curves.size(); ++c)
      add_curve(data, plot, p, c, fmt::format("$p{}c{}", index, c), axis_);
    std::string out = data;
    out += fmt::format("set lmargin at screen {:.4f}\nset rmargin at screen {:.4f}\n", double(kLeft) / kWidth,
                       1.0 - double(kRight) / kWidth);
    out += fmt::format("set tmargin at screen {:.4f}\nset bmargin at screen {:.4f}\n", y(from_top + 6),
                       y(from_top + panel_height_ - 10));
    out += fmt::format("set xrange [{:.9g}:{:.9g}]\n", d_.begin / axis_.factor, (d_.begin + length()) / axis_.factor);
    const auto range = range_of(p);
    // Notes are above the curves.
    const double room = d_.closer || p.notes.empty() ? 0 : 15.0 * static_cast<double>(p.notes.size()) + 4;
    const double higher = range ? room / (panel_height_ - 16 - room) * (range->second - range->first) : 0;
    out += range ? fmt::format("set yrange [{:.9g}:{:.9g}]\n", range->first, range->second + higher)
                 : "set yrange [0:1]\nset label 99 'no finite values' at graph 0.5, graph 0.5 center\n";
    out += tics(p);
    out += last ? fmt::format("set format x \"%g\"\nset xlabel \"time in {}\" offset 0,0.4\n", axis_.unit)
                : "set format x \"\"\nunset xlabel\n";
    out += p.unit.empty() ? "unset ylabel\n" : fmt::format("set ylabel {} offset 0.5,0\n", quoted(p.unit));
    out +=
        "set grid xtics ytics lc rgb \"#DDDDDD\" lt 1 lw 0.6\nset border 3 lc rgb \"#666666\"\nset tics nomirror out "
        "scale 0.5 tc rgb \"#333333\"\n";
    out += "set key at graph 1.012, graph 1.0 left top Left reverse samplen 2 spacing 1.15 font \",10\" noautotitle\n";
    out += overlays(p);
    const bool closer = d_.closer != nullptr && !p.lanes && p.labels.empty();
    const Box box = closer ? place_of_closer(p, from_top) : Box{};
    // Notes are above, or below the small picture.
    const double middle = y(from_top + 0.5 * panel_height_);
    for (std::size_t i = 0; i < p.notes.size(); ++i) {
      const double line = 14.0 * static_cast<double>(i) / (panel_height_ - 16);
      const double at = closer && box.bottom > middle ? 0.05 + line : 0.94 - line;
      out += fmt::format("set label {} {} at graph 0.01, graph {:.4f} font \",9\" tc rgb \"#1D2730\" front boxed\n",
                         300 + i, quoted(p.notes[i]), at);
    }
    for (std::size_t i = 0; i < p.points.size(); ++i) {
      // Towards the middle, where there is room.
      const bool left = p.points[i].at > d_.begin + 0.8 * length();
      const bool below = range && p.points[i].value > 0.5 * (range->first + range->second);
      out += fmt::format(
          "set label {} {} at first {:.9g}, first {:.9g} {} offset char {}, char {} point pt 6 ps 0.9 lc rgb "
          "\"#1D2730\" font \",9\" tc rgb \"#1D2730\" front boxed\n",
          330 + i, quoted(p.points[i].text), p.points[i].at / axis_.factor, p.points[i].value, left ? "right" : "left",
          left ? -1.0 : 1.0, below ? -1.2 : 1.2);
    }
    if (closer) out += backing(box);
    out += "plot " + plot + "\n";
    out += "unset label\nunset object\nunset arrow\n";
    return closer ? out + inside(index, box) : out;
  }

  struct Box {
    double left = 0, right = 0, top = 0, bottom = 0;  ///< screen
  };

  /// Where a small picture begins, left or right, and how wide it is: shares of the panel.
  static constexpr double kCloserLeft = 0.07, kCloserRight = 0.62, kCloserWide = 0.35;

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
    const double left = double(kLeft) / kWidth, wide = double(kWidth - kLeft - kRight) / kWidth;
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
        b.left - 0.034, b.bottom - 26.0 / height_, b.right + 0.012, b.top + 6.0 / height_,
        d_.closer->begin / axis_.factor, d_.closer->end / axis_.factor);
  }

  std::string inside(std::size_t index, const Box& b) const {
    const Panel& p = d_.closer->panels[index];
    std::string data, plot;
    for (std::size_t c = 0; c < p.curves.size(); ++c)
      add_curve(data, plot, p, c, fmt::format("$z{}c{}", index, c), TimeAxis(0));
    const auto range = range_of(p);
    if (!range) return {};
    return data +
           fmt::format(
               "set lmargin at screen {:.4f}\nset rmargin at screen {:.4f}\nset tmargin at screen {:.4f}\nset bmargin "
               "at "
               "screen {:.4f}\nset xrange [{:.9g}:{:.9g}]\nset yrange [{:.9g}:{:.9g}]\nunset key\nunset xlabel\nunset "
               "ylabel\nset format x \"%g s\"\nset xtics autofreq font \",8\"\nset ytics autofreq font \",8\"\nplot "
               "{}\n"
               "set xtics autofreq font \"\"\nset ytics autofreq font \"\"\n",
               b.left, b.right, b.top, b.bottom, d_.closer->begin, d_.closer->end, range->first, range->second, plot);
  }

  /// Fault bands, breaches, event lines and limits: everything that is not a curve.
  std::string overlays(const Panel& p) const {
    std::string out;
    int object = 1, arrow = 1, label = 200;
    for (const Band& b : d_.faults) {
      out += fmt::format(
          "set object {} rectangle from {:.9g}, graph 0 to {:.9g}, graph 1 fc rgb \"#F0E442\" fs transparent solid "
          "0.30 noborder behind\n",
          object++, b.begin / axis_.factor, b.end / axis_.factor);
    }
    for (const Band& b : d_.breaches) {
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
    std::map<double, std::string> by_value;
    const auto range = range_of(p);
    for (const LimitMark& l : p.limits) {
      // gnuplot would draw a line outside the range across the neighbouring panel.
      if (!range || l.value < range->first || l.value > range->second) continue;
      std::string& names = by_value[l.value];
      if (names.find(l.label) == std::string::npos) names += (names.empty() ? "" : ", ") + l.label;
    }
    double above = -1e9, taken = 0;  // where the last label is, in pixels, and how much of its line is taken
    for (const auto& [value, names] : by_value) {
      out += fmt::format(
          "set arrow {} from graph 0, first {:.9g} to graph 1, first {:.9g} nohead lc rgb \"#A33F00\" lw 1.2 dt 2 "
          "back\n",
          arrow++, value, value);
      const auto opposite = by_value.find(-value);
      const bool pair = value != 0 && opposite != by_value.end() && opposite->second == names;
      if (pair && value < 0) continue;  // one label for both
      // Labels of lines that are near each other stand side by side.
      const std::string text = fmt::format("{} {}{}", names, pair ? "±" : "", format_number(value));
      const double pixels = (value - range->first) / (range->second - range->first) * (panel_height_ - 16);
      taken = pixels - above < 13 ? taken : 0;
      above = pixels;
      out += fmt::format(
          "set label {} {} at graph {:.4f}, first {:.9g} right offset 0,0.55 font \",9\" tc rgb \"#A33F00\"\n", label++,
          quoted(text), 0.995 - taken, value);
      taken += (6.5 * static_cast<double>(display_width(text)) + 12) / (kWidth - kLeft - kRight);
    }
    return out;
  }

  std::vector<std::string> notes_;  ///< below the panels
  std::size_t columns_ = 2;
  const FigureData& d_;
  TimeAxis axis_;
  int panel_height_ = 0, top_ = 0, bottom_ = 0, height_ = 0;
};

}  // namespace

std::vector<std::string> curve_colours() {
  return {std::begin(kColours), std::end(kColours)};
}

std::optional<std::pair<double, double>> range_of(const Panel& panel) {
  if (panel.lanes) return std::pair{-0.2, static_cast<double>(panel.curves.size())};
  double low = INFINITY, high = -INFINITY;
  for (const Curve& c : panel.curves) {
    for (const auto& [t, y] : c.points) {
      if (!std::isfinite(y)) continue;
      low = std::min(low, y);
      high = std::max(high, y);
    }
  }
  if (low > high) return std::nullopt;
  if (!panel.labels.empty()) {
    low = 0;
    high = std::max<double>(1, static_cast<double>(panel.labels.size()) - 1);
  }
  const double room = high > low ? 0.12 * (high - low) : std::max(0.05 * std::abs(high), 1e-3);
  // A limit is drawn if it is near enough not to squash the curves.
  double limit_low = low, limit_high = high;
  for (const LimitMark& l : panel.limits) {
    if (l.value > high && l.value < high + 1.0 * (high - low)) limit_high = std::max(limit_high, l.value);
    if (l.value < low && l.value > low - 1.0 * (high - low)) limit_low = std::min(limit_low, l.value);
  }
  return std::pair{limit_low - room, limit_high + room};
}

void drop_repeated(Curve& curve) {
  auto& p = curve.points;
  std::size_t kept = 0;
  for (std::size_t i = 0; i < p.size(); ++i) {
    if (i == 0 || i + 1 == p.size() || p[i].second != p[i - 1].second) p[kept++] = p[i];
  }
  p.resize(kept);
}

void clip(FigureData& data) {
  for (auto* bands : {&data.faults, &data.breaches}) {
    std::erase_if(*bands, [&](const Band& b) { return b.end < data.begin || b.begin > data.end; });
    for (Band& b : *bands) b = {std::max(b.begin, data.begin), std::min(b.end, data.end), b.label};
  }
  std::erase_if(data.marks, [&](const Mark& m) { return m.at < data.begin || m.at > data.end; });
  for (Panel& p : data.panels) {
    for (Curve& c : p.curves) {
      const auto first = std::lower_bound(c.points.begin(), c.points.end(), std::pair{data.begin, -double{INFINITY}});
      const auto last = std::upper_bound(first, c.points.end(), std::pair{data.end, double{INFINITY}});
      std::vector<std::pair<double, double>> kept;
      // Up to the borders: from the point before, and towards the one behind.
      const auto between = [&](auto before, auto behind, double at) {
        const double share = (at - before->first) / (behind->first - before->first);
        kept.emplace_back(at, c.steps ? before->second : before->second + share * (behind->second - before->second));
      };
      if (first != c.points.begin() && first != c.points.end() && first->first > data.begin)
        between(first - 1, first, data.begin);
      kept.insert(kept.end(), first, last);
      if (last != c.points.begin() && last != c.points.end() && (last - 1)->first < data.end)
        between(last - 1, last, data.end);
      c.points = std::move(kept);
    }
  }
}

/// Marks that a figure has room for.
constexpr std::size_t kMostMarks = 12;

void add_story(FigureData& d, const record::Recording& recording, const Summary& summary) {
  d.faults = fault_bands(recording, d.end);
  for (const SummaryRow& row : summary.rows) {
    for (const auto& [begin, end] : row.breaches_s) d.breaches.push_back({begin, end, row.name});
  }
  for (const record::RecordedEvent& e : recording.events()) {
    const double at = to_seconds(e.at);
    if (e.kind != bench::event_word(bench::EventKind::action) || at < d.begin || at > d.end) continue;
    if (d.marks.size() >= kMostMarks) {
      ++d.unmarked;
      continue;
    }
    const bool sentence = e.text.starts_with("wait") || e.text.starts_with("hold");
    d.marks.push_back({at, sentence ? e.text : e.subject + " " + e.text});
  }
}

FigureData gather(const model::Program& program, const model::Figure& figure, const record::Recording& recording,
                  const Summary& summary, std::size_t columns) {
  FigureData d;
  d.name = figure.name;
  d.title = fmt::format("{}: {}", summary.bench, figure.title);
  d.subtitle = fmt::format("{}, seed {}", summary.title(), summary.seed);
  d.end = recording.times().empty() ? 0 : to_seconds(Time{recording.times().back()});
  for (const auto& ids : figure.panels) d.panels.push_back(panel_of(program, ids, recording, columns));
  add_story(d, recording, summary);
  return d;
}

std::vector<model::Figure> figures_of(const model::Program& program) {
  if (!program.figures.empty()) return program.figures;
  constexpr std::size_t kMostPanels = 6, kMostCurves = 5;
  model::Figure figure;
  figure.name = "states";
  figure.title = "states over time";
  for (const model::State& s : program.states) {
    const auto same_unit = [&](const std::vector<model::VarId>& panel) {
      return program.variable(panel.front()).type == program.variable(s.value).type && panel.size() < kMostCurves;
    };
    const auto panel = std::find_if(figure.panels.begin(), figure.panels.end(), same_unit);
    if (panel != figure.panels.end()) {
      panel->push_back(s.value);
    } else if (figure.panels.size() < kMostPanels) {
      figure.panels.push_back({s.value});
    }
  }
  if (figure.panels.empty()) return {};
  return {figure};
}

Status draw(const FigureData& data, const std::string& folder, bool pdf) {
  const Script script(data);
  return plot(script.text(), script.height(), (std::filesystem::path(folder) / data.name).string(), pdf);
}

}  // namespace isodyne::present
