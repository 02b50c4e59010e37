#include "isodyne/present/axes_figure.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <filesystem>
#include <unordered_set>

#include <unsupported/Eigen/FFT>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

constexpr std::size_t kMostPanels = 6;

/// One signal over another, without what would be drawn again: each way from one cell of a grid finer than the picture
/// to the next is drawn once. Where ways are left out there is a point that is no number.
std::vector<std::pair<double, double>> ways_once(const std::vector<double>& x, const std::vector<double>& y) {
  constexpr double kCells = 4000;
  std::vector<std::pair<double, double>> points;
  constexpr std::size_t kFew = 20'000;
  const auto finite = [&](std::size_t i) { return std::isfinite(x[i]) && std::isfinite(y[i]); };
  double low[2] = {INFINITY, INFINITY}, high[2] = {-INFINITY, -INFINITY};
  for (std::size_t i = 0; i < x.size(); ++i) {
    if (!finite(i)) continue;
    low[0] = std::min(low[0], x[i]), high[0] = std::max(high[0], x[i]);
    low[1] = std::min(low[1], y[i]), high[1] = std::max(high[1], y[i]);
  }
  const auto cell = [&](double v, int axis) {
    const double range = high[axis] - low[axis];
    return range > 0 ? static_cast<std::uint64_t>((v - low[axis]) / range * kCells) : 0;
  };
  std::unordered_set<std::uint64_t> drawn;
  std::uint64_t before = 0;
  bool joined = false;  // the last point is where this way begins
  for (std::size_t i = 0; i < x.size(); ++i) {
    if (!finite(i)) {
      if (joined) points.emplace_back(NAN, NAN);
      joined = false;
      continue;
    }
    const std::uint64_t here = cell(x[i], 0) << 16 | cell(y[i], 1);
    const bool way = i > 0 && finite(i - 1);
    const bool fresh = x.size() <= kFew || !way || drawn.insert(before << 32 | here).second;
    if (fresh) {
      if (!joined && way) {
        if (!points.empty()) points.emplace_back(NAN, NAN);
        points.emplace_back(x[i - 1], y[i - 1]);
      }
      points.emplace_back(x[i], y[i]);
    }
    joined = fresh;
    before = here;
  }
  return points;
}

std::string with_unit(const SignalView& v) {
  return v.unit.empty() ? v.name : v.name + " in " + v.unit;
}

std::vector<double> finite_of(const SignalView& v) {
  std::vector<double> all;
  std::copy_if(v.values.begin(), v.values.end(), std::back_inserter(all), [](double x) { return std::isfinite(x); });
  return all;
}

Status fits(const std::vector<std::string>& names, std::size_t most) {
  if (names.size() <= most) return Done{};
  return Failure{fmt::format("such a figure holds {}, not {}: name fewer", counted(most, "signal"), names.size()), "",
                 ""};
}

/// The greatest number up to `count` without a large prime factor: a transform of such a length is quick.
std::size_t quick_length(std::size_t count) {
  for (std::size_t n = count;; --n) {
    std::size_t rest = n;
    for (std::size_t p = 2; p <= 1000 && p * p <= rest; ++p) {
      while (rest % p == 0) rest /= p;
    }
    if (rest <= 1000) return n;
  }
}

}  // namespace

Result<AxesFigure> figure_over(const record::Recording& recording, const std::vector<std::string>& names,
                               const TimeRange& stretch) {
  if (names.size() < 2) return Failure{"a figure of one signal over another needs both of them", "", ""};
  if (const Status s = fits(names, 7); !s) return s.failure();
  const auto x = signal_view(recording, names[0], stretch);
  if (!x) return x.failure();
  AxesFigure figure;
  for (std::size_t i = 1; i < names.size(); ++i) {
    const auto y = signal_view(recording, names[i], stretch);
    if (!y) return y.failure();
    if (y->seconds != x->seconds)
      return Failure{"cannot draw", names[i], "it is not recorded at the instants of " + names[0]};
    const std::string text = y->unit.empty() ? y->name : "in " + y->unit;
    const bool same = !figure.panels.empty() && figure.panels.back().y_text == text;
    if (!same) {
      figure.panels.emplace_back();
      figure.panels.back().x_text = with_unit(*x);
      figure.panels.back().y_text = text;
    }
    AxesPanel::Line& curve = figure.panels.back().curves.emplace_back();
    curve.label = names[i];
    curve.points = ways_once(x->values, y->values);
  }
  // An axis of one signal has its name; where there are several the legend names them.
  for (AxesPanel& p : figure.panels) {
    if (p.curves.size() == 1) p.y_text = p.curves[0].label + (p.y_text.starts_with("in ") ? " " + p.y_text : "");
  }
  return figure;
}

Spectrum spectrum_of(const std::vector<double>& values, double step_s) {
  const std::size_t n = quick_length(values.size());
  double mean = 0;
  for (std::size_t i = 0; i < n; ++i) mean += values[i] / static_cast<double>(n);
  std::vector<double> windowed(n);
  for (std::size_t i = 0; i < n; ++i) {
    const double hann = 0.5 - 0.5 * std::cos(2 * M_PI * static_cast<double>(i) / static_cast<double>(n));
    windowed[i] = (values[i] - mean) * hann;
  }
  Eigen::FFT<double> transform;
  transform.SetFlag(Eigen::FFT<double>::HalfSpectrum);
  std::vector<std::complex<double>> lines;
  transform.fwd(lines, windowed);
  Spectrum s;
  s.values = n;
  s.step_hz = 1 / (static_cast<double>(n) * step_s);
  for (std::size_t k = 0; k < lines.size(); ++k) {
    const bool single = k == 0 || 2 * k == n;  // has no twin at the negative frequency
    s.amplitude.push_back(std::abs(lines[k]) * (single ? 2.0 : 4.0) / static_cast<double>(n));
  }
  return s;
}

namespace {

/// A figure with a panel for each signal.
Result<AxesFigure> panel_each(const record::Recording& recording, const std::vector<std::string>& names,
                              const TimeRange& stretch,
                              Result<AxesPanel> (*panel_of)(const record::Recording&, const SignalView&)) {
  if (const Status s = fits(names, kMostPanels); !s) return s.failure();
  AxesFigure figure;
  for (const std::string& name : names) {
    const auto view = signal_view(recording, name, stretch);
    if (!view) return view.failure();
    auto panel = panel_of(recording, *view);
    if (!panel) return panel.failure();
    figure.panels.push_back(std::move(*panel));
  }
  return figure;
}

/// Values that are equally spaced and all there; else why not.
Result<std::vector<double>> spaced_values(const record::Recording& recording, const SignalView& view) {
  std::vector<double> values = view.values;
  const double step = to_seconds(recording.period_of(view.name));
  // The last instant of a run need not lie on the grid.
  if (values.size() > 2 && view.seconds.back() - view.seconds[values.size() - 2] < 0.999 * step) values.pop_back();
  const auto no = [&](const char* why) { return Failure{"cannot draw the spectrum of", view.name, why}; };
  if (values.size() < 4) return no("there are too few values");
  if (!std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); }))
    return no("some of its values are no numbers");
  const double length = view.seconds[values.size() - 1] - view.seconds[0];
  if (!recording.throughout(view.name) || std::abs(length - step * static_cast<double>(values.size() - 1)) > 0.5 * step)
    return no("its values are not equally spaced in time");
  return values;
}

Result<AxesPanel> spectrum_panel(const record::Recording& recording, const SignalView& view) {
  const auto values = spaced_values(recording, view);
  if (!values) return values.failure();
  AxesPanel panel;
  panel.x_text = "frequency in Hz";
  panel.y_text = view.unit.empty() ? "amplitude" : "amplitude in " + view.unit;
  panel.log_x = panel.log_y = true;
  panel.curves = {{view.name, {}}};
  const Spectrum s = spectrum_of(*values, to_seconds(recording.period_of(view.name)));
  if (s.values < view.values.size())
    panel.x_text += fmt::format(", of the first {} of {} values", s.values, view.values.size());
  const std::vector<double> drawn(s.amplitude.begin() + 1, s.amplitude.end());
  const double most = *std::max_element(drawn.begin(), drawn.end());
  if (most == 0) {
    panel.note = "constant: no amplitude at any frequency";
    return panel;
  }
  // Columns of the logarithmic axis: of the first decades every line is there.
  const double decades = std::log10(static_cast<double>(std::max<std::size_t>(2, drawn.size())));
  const auto column = [&](std::size_t i) {
    return std::floor(std::log10(static_cast<double>(i + 1)) / decades * static_cast<double>(kColumns));
  };
  bool left_out = false;
  for (const std::size_t i : enough_to_draw(drawn.data(), drawn.size(), column)) {
    // What is less than a millionth of the greatest is noise of the arithmetic, mostly.
    const bool seen = drawn[i] >= most * 1e-6;
    left_out = left_out || !seen;
    panel.curves[0].points.emplace_back(s.step_hz * static_cast<double>(i + 1), seen ? drawn[i] : NAN);
  }
  if (left_out) panel.x_text += "; what is below a millionth of the greatest is not drawn";
  return panel;
}

Result<AxesPanel> histogram_panel(const record::Recording&, const SignalView& view) {
  AxesPanel panel;
  panel.x_text = with_unit(view);
  panel.y_text = "share in %";
  panel.boxes = true;
  panel.box = 1;
  panel.curves = {{view.name, {}}};
  auto& points = panel.curves[0].points;
  std::vector<double> values = finite_of(view);
  std::sort(values.begin(), values.end());
  if (values.empty()) {
    panel.note = "no values";
    return panel;
  }
  const double least = values.front(), range = values.back() - least, count = static_cast<double>(values.size());
  if (range == 0) {
    panel.note = fmt::format("constant: {:.6g}", least);
    panel.box = std::max(1e-9, std::abs(least) * 0.1);
    points = {{least, 100}};
    return panel;
  }
  const double quartiles = values[values.size() * 3 / 4] - values[values.size() / 4];
  const double wanted = quartiles > 0 ? range / (2 * quartiles / std::cbrt(count)) : std::sqrt(count);
  const auto bins = static_cast<std::size_t>(std::clamp(std::ceil(wanted), 8.0, 200.0));
  panel.box = range / static_cast<double>(bins);
  std::vector<double> shares(bins);
  for (const double v : values)
    shares[std::min(bins - 1, static_cast<std::size_t>((v - least) / panel.box))] += 100 / count;
  for (std::size_t i = 0; i < bins; ++i)
    points.emplace_back(least + (static_cast<double>(i) + 0.5) * panel.box, shares[i]);
  return panel;
}

}  // namespace

Result<AxesFigure> spectrum_figure(const record::Recording& recording, const std::vector<std::string>& names,
                                   const TimeRange& stretch) {
  return panel_each(recording, names, stretch, spectrum_panel);
}

Result<AxesFigure> histogram_figure(const record::Recording& recording, const std::vector<std::string>& names,
                                    const TimeRange& stretch) {
  return panel_each(recording, names, stretch, histogram_panel);
}

namespace {

std::string panel_script(const AxesPanel& p, std::size_t index, double top, double bottom) {
  std::string data, plot;
  const std::vector<std::string> colours = curve_colours();
  std::vector<std::string> names;
  for (const AxesPanel::Line& c : p.curves) names.push_back(c.label);
  names = shortened_apart(names, 18);
  for (std::size_t c = 0; c < p.curves.size(); ++c) {
    const std::string block = fmt::format("$p{}c{}", index, c);
    data += block + " << END\n";
    for (const auto& [x, y] : p.curves[c].points)
      data += std::isfinite(x) && std::isfinite(y) ? fmt::format("{:.12g} {:.12g}\n", x, y) : "\n";
    data += "END\n";
    if (p.curves[c].points.empty()) continue;
    const char* style = p.boxes ? "boxes fs solid 0.45 noborder" : "lines lw 1.6";
    list_on(plot, fmt::format("{} using 1:2 with {} lc rgb \"{}\" title {}", block, style, colours[c % colours.size()],
                              present::quoted(names[c])));
  }
  std::string out = data;
  out += fmt::format("set tmargin at screen {:.4f}\nset bmargin at screen {:.4f}\n", top, bottom);
  out += p.log_x ? "set logscale x\nset autoscale xfix\nset format x \"%g\"\n"
                 : "unset logscale x\nset format x \"%.10g\"\n";
  out += p.log_y ? "set logscale y\nset format y \"%g\"\n" : "unset logscale y\nset format y \"%.10g\"\n";
  out += fmt::format("set xlabel {} offset 0,0.3\nset ylabel {}\n", quoted(p.x_text), quoted(p.y_text));
  if (p.boxes) out += fmt::format("set boxwidth {:.9g}\nset yrange [0:*]\n", p.box);
  if (!p.boxes) out += "set yrange [*:*]\n";
  if (!p.note.empty())
    out += fmt::format("set label 9 {} at graph 0.5, graph 0.5 center tc rgb \"#555555\"\n", quoted(p.note));
  if (plot.empty()) out += "set xrange [1:10]\nset yrange [1:10]\n";
  out += "plot " + (plot.empty() ? std::string("NaN notitle") : plot) + "\nunset label 9\nset xrange [*:*]\n";
  return out;
}

}  // namespace

Status draw(const AxesFigure& figure, const std::string& folder) {
  constexpr int kTop = 64, kBelow = 62;
  const int each = figure.panels.size() == 1 ? 560 : 270;
  const int height = kTop + each * static_cast<int>(figure.panels.size()) + 16;
  const auto y = [&](int pixels) { return 1.0 - static_cast<double>(pixels) / height; };
  std::string text = "set encoding utf8\nset multiplot\n";
  text += fmt::format("set label 1 {} at screen 0.0859, screen {:.4f} font \",15\"\n", quoted(figure.title), y(22));
  text += fmt::format("set label 2 {} at screen 0.0859, screen {:.4f} font \",11\" tc rgb \"#555555\"\n",
                      quoted(figure.subtitle), y(44));
  text +=
      "set lmargin at screen 0.0859\nset rmargin at screen 0.8516\nset grid xtics ytics lc rgb \"#DDDDDD\" lt 1 lw "
      "0.6\n"
      "set border 3 lc rgb \"#666666\"\nset tics nomirror out scale 0.5 tc rgb \"#333333\"\n"
      "set key at graph 1.012, graph 1.0 left top Left reverse samplen 2 spacing 1.15 font \",10\" noautotitle\n";
  for (std::size_t i = 0; i < figure.panels.size(); ++i) {
    const int from = kTop + each * static_cast<int>(i);
    text += panel_script(figure.panels[i], i, y(from + 6), y(from + each - kBelow));
    if (i == 0) text += "unset label 1\nunset label 2\n";
  }
  return plot(text + "unset multiplot\n", height, (std::filesystem::path(folder) / figure.name).string(), true);
}

}  // namespace isodyne::present
