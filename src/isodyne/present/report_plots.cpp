#include "isodyne/present/report_plots.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/present/figure.h"

namespace isodyne::present {

extern const char* const kPlotsScript;   // page/plots.js
extern const char* const kChartLibrary;  // dygraphs
extern const char* const kChartStyle;

namespace {

using Json = nlohmann::ordered_json;

/// Columns of a curve: for the whole run, at most as wide as a pixel; and for what is zoomed into. The more curves, the
/// fewer finer columns each of them has: a browser takes a second for some 15 MB of page.
constexpr std::size_t kCoarse = 1200, kFine = 12000, kLeastFine = 2 * kCoarse, kFineOfRun = 100'000;

/// A curve at any time, asked in order: held, or on the straight line between two points.
class Along {
 public:
  explicit Along(const Curve& curve) : curve_(curve) {}
  double at(double t) {
    const auto& p = curve_.points;
    while (next_ < p.size() && p[next_].first <= t) ++next_;
    if (next_ == 0) return NAN;
    const auto& [before, value] = p[next_ - 1];
    if (curve_.steps || before == t) return value;
    if (next_ == p.size()) return NAN;
    const auto& [behind, other] = p[next_];
    return value + (other - value) * (t - before) / (behind - before);
  }

 private:
  const Curve& curve_;
  std::size_t next_ = 0;
};

/// Times as numbers of steps, which take half the room; empty if one of them is not at the end of a step.
std::vector<std::uint32_t> as_steps(const std::vector<double>& times, double step) {
  std::vector<std::uint32_t> steps;
  for (const double t : times) {
    const double n = std::round(t / step);
    if (n < 0 || n > 4e9 || std::abs(n * step - t) > 1e-6 * step) return {};
    steps.push_back(static_cast<std::uint32_t>(n));
  }
  return steps;
}

double middle_of(const Curve& curve) {
  double low = INFINITY, high = -INFINITY;
  for (const auto& [t, v] : curve.points) {
    if (!std::isfinite(v)) continue;
    low = std::min(low, v);
    high = std::max(high, v);
  }
  return low <= high ? low / 2 + high / 2 : 0;
}

/// All curves of a panel at the times of any of them.
Json level_json(const Panel& panel, double step) {
  std::vector<double> times;
  for (const Curve& c : panel.curves) {
    for (const auto& [t, v] : c.points) times.push_back(t);
  }
  std::sort(times.begin(), times.end());
  times.erase(std::unique(times.begin(), times.end()), times.end());
  // Half as long as doubles, as distances from a value in the middle: a ripple on something large is no stairs.
  Json values = Json::array(), bases = Json::array();
  double column_s = 0;
  for (const Curve& c : panel.curves) {
    Along along(c);
    const double base = middle_of(c);
    std::vector<float> column;
    for (const double t : times) {
      const double v = along.at(t) - base;
      column.push_back(std::isfinite(v) ? static_cast<float>(v) : NAN);
    }
    values.push_back(base64(column.data(), column.size() * sizeof(float)));
    bases.push_back(base);
    column_s = std::max(column_s, c.column_s);
  }
  Json level{{"v", values}, {"base", bases}, {"column", column_s}};
  const std::vector<std::uint32_t> steps = as_steps(times, step);
  if (steps.size() == times.size())
    level["n"] = base64(steps.data(), steps.size() * sizeof(steps[0]));
  else
    level["t"] = base64(times.data(), times.size() * sizeof(double));
  return level;
}

Json panel_json(const Panel& coarse, double step) {
  Json curves = Json::array(), limits = Json::array();
  for (const Curve& c : coarse.curves) curves.push_back({{"name", c.label}, {"steps", c.steps}});
  for (const LimitMark& l : coarse.limits) limits.push_back({{"name", l.label}, {"value", l.value}});
  Json panel{{"unit", coarse.unit}, {"labels", coarse.labels}, {"lanes", coarse.lanes},
             {"curves", curves},    {"limits", limits},        {"coarse", level_json(coarse, step)}};
  const auto range = range_of(coarse);
  if (range && !coarse.lanes && coarse.labels.empty()) panel["range"] = {range->first, range->second};
  return panel;
}

/// Which of the bands a panel is about.
Json bands_of(const std::vector<Band>& bands, const Panel& panel) {
  Json all = Json::array();
  for (std::size_t i = 0; i < bands.size(); ++i) {
    if (bands[i].concerns(panel)) all.push_back(i);
  }
  return all;
}

Json bands_json(const std::vector<Band>& bands) {
  Json all = Json::array();
  for (const Band& b : bands) all.push_back({{"begin", b.begin}, {"end", b.end}, {"label", b.label}});
  return all;
}

/// Which of the values are in the page.
std::string stated(const std::vector<FigureData>& fine) {
  double column_s = 0;
  for (const FigureData& f : fine) {
    for (const Panel& p : f.panels) {
      for (const Curve& c : p.curves) column_s = std::max(column_s, c.column_s);
    }
  }
  if (column_s == 0) return "Every recorded value is in this page.";
  return fmt::format(
      "Of each {} the first, the least, the greatest and the last of the recorded values are in this page; all are in "
      "the recording.",
      format_span(Time{std::llround(column_s * 1e9)}));
}

}  // namespace

std::string base64(const void* from, std::size_t bytes) {
  constexpr char kDigits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  const auto* in = static_cast<const unsigned char*>(from);
  std::string out;
  out.reserve((bytes + 2) / 3 * 4);
  for (std::size_t i = 0; i < bytes; i += 3) {
    const std::size_t left = std::min<std::size_t>(3, bytes - i);
    std::uint32_t three = 0;
    for (std::size_t k = 0; k < 3; ++k) three = three << 8 | (k < left ? in[i + k] : 0u);
    for (std::size_t k = 0; k < 4; ++k) out += k <= left ? kDigits[three >> (18 - 6 * k) & 63u] : '=';
  }
  return out;
}

std::string plots_script() {
  return fmt::format("<script>{}</script>\n<script>{}</script>\n", kChartLibrary, kPlotsScript);
}

std::string plots_style() {
  return kChartStyle;
}

namespace {

/// As the content of a script element, which nothing in it may end, or begin anew.
std::string script_text(const Json& data) {
  std::string text = data.dump(-1, ' ', true, Json::error_handler_t::replace), out;
  for (const char c : text)
    out += c == '<' ? "\\u003c" : c == '>' ? "\\u003e" : c == '&' ? "\\u0026" : std::string(1, c);
  return out;
}

}  // namespace

PagePlots plots_of(const session::RunFolder& run, std::size_t number) {
  const double step = static_cast<double>(run.program->step.count()) / 1e9;
  Json data{{"run", number}, {"begin", 0.0}, {"end", 0.0}, {"step", step}, {"colours", curve_colours()}};
  data["figures"] = Json::array();
  PagePlots plots;
  std::vector<FigureData> coarse, fine;
  std::size_t curves = 0;
  for (const program::Figure& figure : figures_of(*run.program)) {
    coarse.push_back(gather(*run.program, figure, *run.recording, run.summary, kCoarse));
    for (const Panel& p : coarse.back().panels) curves += p.curves.size();
  }
  if (coarse.empty()) return {};
  const std::size_t most = std::clamp(kFineOfRun / std::max<std::size_t>(1, curves), kLeastFine, kFine);
  for (const program::Figure& figure : figures_of(*run.program)) {
    fine.push_back(gather(*run.program, figure, *run.recording, run.summary, most));
    const FigureData& all = coarse[fine.size() - 1];
    Json shown = Json::array();
    for (std::size_t i = 0; i < all.panels.size(); ++i) {
      shown.push_back(panel_json(all.panels[i], step));
      shown.back()["faults"] = bands_of(all.faults, all.panels[i]);
      shown.back()["breaches"] = bands_of(all.breaches, all.panels[i]);
      shown.back()["fine"] = fmt::format("fine{}-{}-{}", number, fine.size(), i);
      plots.finer +=
          fmt::format("<script type=\"application/json\" id=\"{}\">{}</script>\n",
                      shown.back()["fine"].get<std::string>(), script_text(level_json(fine.back().panels[i], step)));
    }
    data["figures"].push_back({{"title", figure.title}, {"panels", shown}});
  }
  data["begin"] = coarse.back().begin;
  data["end"] = coarse.back().end;
  data["faults"] = bands_json(coarse.back().faults);
  data["breaches"] = bands_json(coarse.back().breaches);
  data["marks"] = Json::array();
  for (const Mark& m : coarse.back().marks) data["marks"].push_back({{"at", m.at}, {"text", m.text}});
  // The charts are drawn when this much is read; the drawings behind them are some MB that nobody may ever see.
  plots.behind = "</div>\n</div>\n";
  plots.before = fmt::format(
      "<div class=\"plots\" id=\"plots{0}\">\n<p class=\"tools soft\">Drag over a stretch to see it closer, hold Shift "
      "to move it; all plots of the run go with it. {1} </p>\n<div class=\"charts\"></div>\n"
      "<script type=\"application/json\" class=\"plotdata\">{2}</script>\n<script>drawPlots({0})</script>\n"
      "<div class=\"still\">",
      number, stated(fine), script_text(data));
  return plots;
}

}  // namespace isodyne::present
