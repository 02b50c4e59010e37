#include "isodyne/present/signal_figure.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace isodyne::present {

namespace {

constexpr std::size_t kMostCurves = 6;

Curve curve_of(const SignalView& view, const FigureRun& run) {
  Curve c;
  c.label = run.label.empty() ? view.name : run.label + ": " + view.name;
  c.steps = view.steps;
  c.column_s = view.column_s;
  c.points.reserve(view.values.size());
  for (std::size_t i = 0; i < view.values.size(); ++i)
    c.points.emplace_back(view.seconds[i] - run.shift_s, view.values[i]);
  if (c.steps) drop_repeated(c);
  return c;
}

/// A curve that says nothing, or nothing but one value: so that nobody looks for what is not there.
void say_if_flat(const SignalView& view, Panel& panel) {
  const auto finite = [](double v) { return std::isfinite(v); };
  const auto same = [&](double v) { return v == view.values.front(); };
  if (std::none_of(view.values.begin(), view.values.end(), finite)) {
    panel.notes.push_back(panel.curves.back().label + ": no values");
  } else if (std::all_of(view.values.begin(), view.values.end(), same)) {
    // What has died away is not worth an exponent of three digits, for which there is no room.
    const std::string value = std::abs(view.values.front()) < 1e-99 ? "0" : fmt::format("{:.4g}", view.values.front());
    panel.curves.back().remark = fmt::format(" {} {}{}{}", std::stod(value) == view.values.front() ? "=" : "≈", value,
                                             view.unit.empty() ? "" : " ", view.unit);
  }
}

/// The panel that a signal belongs into: one of its kind with room, or a new one.
Panel& panel_for(FigureData& figure, const SignalView& view, std::size_t curves, bool apart) {
  const bool lanes = view.lane && view.labels.empty();
  for (Panel& p : figure.panels) {
    const bool fits = p.lanes == lanes && p.unit == view.unit && p.labels.empty() && view.labels.empty();
    if (!apart && fits && p.curves.size() + curves <= kMostCurves) return p;
  }
  Panel& fresh = figure.panels.emplace_back();
  fresh.unit = view.unit;
  fresh.labels = view.labels;
  fresh.lanes = lanes;
  return fresh;
}

}  // namespace

Result<FigureData> signal_figure(const std::vector<FigureRun>& runs, const std::vector<std::string>& names,
                                 const TimeRange& stretch, bool apart) {
  FigureData figure;
  figure.begin = INFINITY;
  for (const FigureRun& run : runs) {
    const auto& times = run.recording->times();
    if (times.empty()) continue;
    figure.begin = std::min(figure.begin, to_seconds(Time{times.front()}) - run.shift_s);
    figure.end = std::max(figure.end, to_seconds(Time{times.back()}) - run.shift_s);
  }
  figure.begin = std::max(stretch.begin, std::isfinite(figure.begin) ? figure.begin : 0);
  figure.end = std::min(stretch.end, figure.end);
  for (const std::string& name : names) {
    Panel* panel = nullptr;
    for (const FigureRun& run : runs) {
      if (!run.recording->has(name)) continue;
      const TimeRange there{figure.begin + run.shift_s, figure.end + run.shift_s, true};
      const auto view = view_over_time(*run.recording, name, there, kColumns);
      if (!view) return view.failure();
      if (panel == nullptr) panel = &panel_for(figure, *view, runs.size(), apart);
      panel->curves.push_back(curve_of(*view, run));
      if (!view->lane) say_if_flat(*view, *panel);
    }
  }
  clip(figure);
  return figure;
}

void add_limits(FigureData& figure, const program::Program& program, const record::Recording& recording) {
  for (Panel& panel : figure.panels) {
    if (panel.lanes || !panel.labels.empty()) continue;
    for (const program::Requirement& r : program.requirements) {
      for (const program::LimitLine& line : r.limits) {
        const std::string& name = program.variable(line.variable).name;
        const auto shown = [&](const Curve& c) { return c.label == name; };
        if (std::none_of(panel.curves.begin(), panel.curves.end(), shown)) continue;
        const record::SignalUnit unit = recording.unit(name);
        panel.limits.push_back({r.name, (line.value - unit.offset) / unit.factor});
      }
    }
  }
}

}  // namespace isodyne::present
