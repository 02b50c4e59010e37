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

/// Values of a curve at most, in all curves of a panel together: for the whole run, and for what is zoomed into.
constexpr std::size_t kCoarse = 2000, kFine = 24000;

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

/// All curves of a panel at the times of any of them.
Json level_json(const Panel& panel) {
  std::vector<double> times;
  for (const Curve& c : panel.curves) {
    for (const auto& [t, v] : c.points) times.push_back(t);
  }
  std::sort(times.begin(), times.end());
  times.erase(std::unique(times.begin(), times.end()), times.end());
  Json values = Json::array();
  for (const Curve& c : panel.curves) {
    Along along(c);
    std::vector<float> column;
    for (const double t : times) {
      const double v = along.at(t);
      column.push_back(std::isfinite(v) ? static_cast<float>(v) : NAN);
    }
    values.push_back(base64(column.data(), column.size() * sizeof(float)));
  }
  return {{"t", base64(times.data(), times.size() * sizeof(double))}, {"v", values}};
}

Json panel_json(const Panel& coarse, const Panel& fine) {
  Json curves = Json::array(), limits = Json::array();
  for (const Curve& c : coarse.curves) curves.push_back({{"name", c.label}, {"steps", c.steps}});
  for (const LimitMark& l : coarse.limits) limits.push_back({{"name", l.label}, {"value", l.value}});
  Json panel{{"unit", coarse.unit}, {"labels", coarse.labels}, {"lanes", coarse.lanes},
             {"curves", curves},    {"limits", limits},        {"coarse", level_json(coarse)}};
  const auto range = range_of(coarse);
  if (range && !coarse.lanes && coarse.labels.empty()) panel["range"] = {range->first, range->second};
  panel["fine"] = level_json(fine);
  return panel;
}

Json bands_json(const std::vector<Band>& bands) {
  Json all = Json::array();
  for (const Band& b : bands) all.push_back({{"begin", b.begin}, {"end", b.end}, {"label", b.label}});
  return all;
}

/// How many values the longest of the curves has, and how many of them are in the page.
std::string stated(const RunFolder& run, const std::vector<FigureData>& fine) {
  std::size_t most = 0, drawn = 0;
  for (const FigureData& f : fine) {
    for (const Panel& p : f.panels) {
      for (const Curve& c : p.curves) {
        const std::size_t all = run.recording->times_of(c.label).size();
        if (all <= most) continue;
        most = all;
        drawn = c.points.size();
      }
    }
  }
  if (most <= kFine) return "Every recorded value is in this page.";
  return fmt::format(
      "Of {} recorded values of a curve some {} are in this page, among them the least and the greatest of every "
      "stretch; all are in the recording.",
      most, drawn);
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

std::string plots_html(const RunFolder& run, std::size_t number, const std::string& figures) {
  Json data{{"run", number}, {"begin", 0.0}, {"end", 0.0}, {"colours", curve_colours()}, {"figures", Json::array()}};
  std::vector<FigureData> all;
  for (const model::Figure& figure : figures_of(*run.program)) {
    const FigureData coarse = gather(*run.program, figure, *run.recording, run.summary, kCoarse);
    all.push_back(gather(*run.program, figure, *run.recording, run.summary, kFine));
    Json panels = Json::array();
    for (std::size_t i = 0; i < coarse.panels.size(); ++i)
      panels.push_back(panel_json(coarse.panels[i], all.back().panels[i]));
    data["figures"].push_back({{"title", figure.title}, {"panels", panels}});
    data["begin"] = coarse.begin;
    data["end"] = coarse.end;
    data["faults"] = bands_json(coarse.faults);
    data["breaches"] = bands_json(coarse.breaches);
    data["marks"] = Json::array();
    for (const Mark& m : coarse.marks) data["marks"].push_back({{"at", m.at}, {"text", m.text}});
  }
  if (all.empty()) return figures;
  std::string text = data.dump(-1, ' ', true, Json::error_handler_t::replace);
  // Nothing in it may end the script.
  for (std::size_t at = text.find("</"); at != std::string::npos; at = text.find("</", at + 2))
    text.insert(at + 1, "\\");
  return fmt::format(
      "<div class=\"plots\" id=\"plots{0}\">\n<p class=\"tools soft\">Drag over a stretch to see it closer, hold Shift "
      "to "
      "move it; all plots of the run go with it. {1} </p>\n<div class=\"charts\"></div>\n<div "
      "class=\"still\">{2}</div>\n"
      "</div>\n<script type=\"application/json\" class=\"plotdata\">{3}</script>\n",
      number, stated(run, all), figures, text);
}

}  // namespace isodyne::present
