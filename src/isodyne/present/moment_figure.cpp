#include "isodyne/present/moment_figure.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/signal_figure.h"
#include "isodyne/session/rejudge.h"

namespace isodyne::present {

std::vector<const session::SummaryRow*> broken_rows(const session::Summary& summary) {
  std::vector<const session::SummaryRow*> rows;
  for (const session::SummaryRow& r : summary.rows) {
    if (r.answer == judge::Answer::broken) rows.push_back(&r);
  }
  std::stable_sort(rows.begin(), rows.end(), [](const session::SummaryRow* a, const session::SummaryRow* b) {
    return a->first_breach_s.value_or(1e300) < b->first_breach_s.value_or(1e300);
  });
  return rows;
}

std::string moment_name(const session::SummaryRow& row) {
  std::string name = "broken-" + row.name;
  std::replace_if(
      name.begin(), name.end(),
      [](char c) {
        const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
                           c == '_' || c == '.';
        return !plain;
      },
      '_');
  return name;
}

namespace {

/// The instants around one that were kept at every step of the bench, if there are any.
std::optional<TimeRange> judged_around(const record::Recording& recording, const std::vector<std::string>& names,
                                       Time at, Time step) {
  for (const std::string& name : names) {
    const auto rows = recording.judged_rows(name);
    const auto found = std::lower_bound(rows.begin(), rows.end(), std::pair{at.count(), -double{INFINITY}});
    if (found == rows.end() || found->first != at.count()) continue;
    auto first = found, last = found;
    while (first != rows.begin() && first->first - (first - 1)->first == step.count()) --first;
    while (last + 1 != rows.end() && (last + 1)->first - last->first == step.count()) ++last;
    if (last - first > 1) return TimeRange{to_seconds(Time{first->first}), to_seconds(Time{last->first})};
  }
  return std::nullopt;
}

}  // namespace

std::optional<FigureData> moment_figure(const session::RunFolder& run, const session::SummaryRow& row) {
  constexpr std::size_t kMostSignals = 8;
  const auto requirement = std::find_if(run.program->requirements.begin(), run.program->requirements.end(),
                                        [&](const program::Requirement& r) { return r.name == row.name; });
  if (!row.first_breach_s || requirement == run.program->requirements.end()) return std::nullopt;
  std::vector<std::string> names;
  std::size_t left_out = 0;
  Time rows{};
  for (const program::VarId id : session::read_by(*run.program, *requirement)) {
    const program::Variable& v = run.program->variable(id);
    if (v.role == program::Role::fixed_param || v.role == program::Role::hidden || v.role == program::Role::measure ||
        id == program::kTime)
      continue;
    if (!run.recording->has(v.name) || names.size() == kMostSignals) {
      ++left_out;
      continue;
    }
    names.push_back(v.name);
    rows = std::max(rows, run.recording->period_of(v.name));
  }
  if (names.empty() || run.recording->times().empty()) return std::nullopt;
  const double beside = to_seconds(Time{run.recording->times().back()}) / 20;
  const TimeRange stretch{std::max(0.0, *row.first_breach_s - beside), *row.first_breach_s + beside};
  auto figure = signal_figure({{run.recording.get(), "", 0}}, names, stretch);
  if (!figure || figure->end <= figure->begin) return std::nullopt;
  figure->name = moment_name(row);
  figure->title = fmt::format("{} broken first at {}", row.name, format_moment(*row.first_breach_s));
  figure->subtitle = fmt::format("{}: {}, seed {}", run.summary.bench, run.summary.title(), run.summary.seed);
  // What happened between two rows is not in the picture, and not every quantity may be.
  if (rows > run.program->step) {
    figure->subtitle +=
        fmt::format("; judged every {}, drawn from rows every {}", format_span(run.program->step), format_span(rows));
    const auto first = time_from_seconds(*row.first_breach_s);
    const auto close = judged_around(*run.recording, names, first.value_or(Time{}), run.program->step);
    if (close) {
      auto inner = signal_figure({{run.recording.get(), "", 0}}, names, *close);
      if (!inner) return std::nullopt;
      figure->closer = std::make_shared<FigureData>(std::move(*inner));
      figure->subtitle += ", inside at every instant";
    }
  }
  if (left_out > 0) figure->subtitle += fmt::format("; without {} that it reads", counted(left_out, "more signal"));
  add_limits(*figure, *run.program, *run.recording);
  add_story(*figure, run.program.get(), *run.recording, run.summary);
  clip(*figure);
  return std::move(*figure);
}

}  // namespace isodyne::present
