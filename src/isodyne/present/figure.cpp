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
#include "isodyne/present/figure_script.h"
#include "isodyne/present/plot.h"
#include "isodyne/present/signals.h"
#include "isodyne/session/rejudge.h"

namespace isodyne::present {

namespace {

std::string unit_text(const program::Variable& v) {
  if (v.type.kind == program::Type::Kind::real) return v.unit.text == "1" ? "" : v.unit.text;
  return v.type.kind == program::Type::Kind::integer ? "count" : "";
}

Panel panel_of(const program::Program& program, const std::vector<program::VarId>& ids,
               const record::Recording& recording, std::size_t columns) {
  const program::Variable& first = program.variable(ids.front());
  Panel panel;
  panel.unit = unit_text(first);
  panel.lanes = first.type.kind == program::Type::Kind::boolean;
  if (first.type.kind == program::Type::Kind::choice)
    panel.labels = program.choices[static_cast<std::size_t>(first.type.choice)].labels;
  for (const program::VarId id : ids) {
    const program::Variable& v = program.variable(id);
    Curve curve;
    curve.label = v.name;
    if (const auto view = view_over_time(recording, v.name, {}, columns)) {
      curve.steps = view->steps;
      curve.column_s = view->column_s;
      // A panel has one unit: that of its first signal.
      for (std::size_t i = 0; i < view->values.size(); ++i)
        curve.points.emplace_back(view->seconds[i], first.unit.read(view->values[i] * v.unit.factor + v.unit.offset));
      if (curve.steps) drop_repeated(curve);
    }
    panel.curves.push_back(std::move(curve));
    if (panel.lanes) continue;  // a limit on a truth value is no line
    for (const program::Requirement& r : program.requirements) {
      for (const program::LimitLine& line : r.limits) {
        if (line.variable == id) panel.limits.push_back({r.name, first.unit.read(line.value)});
      }
    }
  }
  return panel;
}

std::vector<Band> fault_bands(const record::Recording& recording, double end) {
  std::vector<Band> bands;
  for (const record::RecordedEvent& e : recording.events()) {
    if (e.is(observe::EventKind::fault_on))
      bands.push_back({to_seconds(e.at), end, e.subject, {}});
    if (!e.is(observe::EventKind::fault_off)) continue;
    for (Band& band : bands) {
      if (band.label == e.subject && band.end == end) band.end = to_seconds(e.at);
    }
  }
  return bands;
}

}  // namespace

bool Band::concerns(const Panel& panel) const {
  return !about || std::any_of(panel.curves.begin(), panel.curves.end(),
                               [&](const Curve& c) { return about->contains(c.label); });
}

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
  // Below a ten-millionth of its size a curve is flat: no axis could say otherwise in ten digits.
  const double least = 1e-7 * std::max(std::abs(low), std::abs(high));
  const double room = high > low ? std::max(0.12 * (high - low), least) : std::max(0.05 * std::abs(high), 1e-3);
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
    for (Band& b : *bands) b.begin = std::max(b.begin, data.begin), b.end = std::min(b.end, data.end);
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

namespace {
/// Names of these quantities; of a sensor also its raw word, its electrical form and what it measures, for that is what
/// a panel may show instead.
std::set<std::string> names_around(const program::Program& p, std::set<program::VarId> ids) {
  for (const program::Sensor& s : p.sensors) {
    const std::set<program::VarId> forms{s.value, s.truth, s.counts, s.signal};
    if (std::none_of(forms.begin(), forms.end(), [&](program::VarId id) { return ids.contains(id); })) continue;
    ids.insert(forms.begin(), forms.end());
    for (const program::Assignment& e : p.equations) {
      if (e.target != s.truth) continue;
      for (const program::VarId id : p.reads(e.value)) ids.insert(id);
    }
  }
  std::set<std::string> names;
  for (const program::VarId id : ids) {
    if (id != program::kNone) names.insert(p.variable(id).name);
  }
  return names;
}

std::optional<std::set<std::string>> concerned_by_fault(const program::Program& p, const std::string& name) {
  for (const program::Fault& f : p.faults) {
    if (f.name != name) continue;
    std::set<program::VarId> ids{f.active};
    for (const std::int32_t tap : f.taps()) ids.insert(program::at(p.taps, tap).target);
    if (f.other != program::kNone) ids.insert(program::at(p.taps, f.other).target);
    ids.insert(f.gates.begin(), f.gates.end());
    if (f.controller != program::kNone) {
      const program::Controller& c = program::at(p.controllers, f.controller);
      ids.insert(c.knows.begin(), c.knows.end());
      ids.insert(c.drives.begin(), c.drives.end());
    }
    return names_around(p, std::move(ids));
  }
  return std::nullopt;
}

std::optional<std::set<std::string>> concerned_by_breach(const program::Program& p, const std::string& name) {
  for (const program::Requirement& r : p.requirements) {
    if (r.name == name) return names_around(p, session::read_by(p, r));
  }
  return std::nullopt;
}
}  // namespace

void add_story(FigureData& d, const program::Program* program, const record::Recording& recording,
               const session::Summary& summary) {
  d.faults = fault_bands(recording, d.end);
  for (const session::SummaryRow& row : summary.rows) {
    for (const auto& [begin, end] : row.breaches_s) d.breaches.push_back({begin, end, row.name, {}});
  }
  if (program != nullptr) {
    for (Band& b : d.faults) b.about = concerned_by_fault(*program, b.label);
    for (Band& b : d.breaches) b.about = concerned_by_breach(*program, b.label);
  }
  for (const record::RecordedEvent& e : recording.events()) {
    const double at = to_seconds(e.at);
    if (!e.is(observe::EventKind::action) || at < d.begin || at > d.end) continue;
    if (d.marks.size() >= kMostMarks) {
      ++d.unmarked;
      continue;
    }
    const bool sentence = e.text.starts_with("wait") || e.text.starts_with("hold");
    d.marks.push_back({at, sentence ? e.text : e.subject + " " + e.text});
  }
}

FigureData gather(const program::Program& program, const program::Figure& figure, const record::Recording& recording,
                  const session::Summary& summary, std::size_t columns) {
  FigureData d;
  d.name = figure.name;
  d.title = fmt::format("{}: {}", summary.bench, figure.title);
  d.subtitle = fmt::format("{}, seed {}", summary.title(), summary.seed);
  d.end = recording.times().empty() ? 0 : to_seconds(Time{recording.times().back()});
  for (const auto& ids : figure.panels) d.panels.push_back(panel_of(program, ids, recording, columns));
  add_story(d, &program, recording, summary);
  return d;
}

std::vector<program::Figure> figures_of(const program::Program& program) {
  if (!program.figures.empty()) return program.figures;
  constexpr std::size_t kMostStatePanels = 6, kMostCurves = 5;
  program::Figure figure;
  figure.name = "states";
  figure.title = "states over time";
  for (const program::State& s : program.states) {
    const auto same_unit = [&](const std::vector<program::VarId>& panel) {
      return program.variable(panel.front()).type == program.variable(s.value).type && panel.size() < kMostCurves;
    };
    const auto panel = std::find_if(figure.panels.begin(), figure.panels.end(), same_unit);
    if (panel != figure.panels.end()) {
      panel->push_back(s.value);
    } else if (figure.panels.size() < kMostStatePanels) {
      figure.panels.push_back({s.value});
    }
  }
  if (figure.panels.empty()) return {};
  return {figure};
}

Status draw(const FigureData& data, const std::string& folder, bool pdf) {
  const FigureScript script = script_of(data);
  return plot(script.text, script.height, (std::filesystem::path(folder) / data.name).string(), pdf);
}

}  // namespace isodyne::present
