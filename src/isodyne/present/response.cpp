#include "isodyne/present/response.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/judge/judge.h"
#include "isodyne/record/playback.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::present {

std::string Response::text() const {
  if (!no_step.empty()) return no_step;
  std::string text = rise_s ? fmt::format("rises in {:.4g} s (10 % to 90 %)", *rise_s) : "does not rise";
  if (overshoot)
    text += *overshoot > 1e-4 ? fmt::format(", overshoots by {:.3g} %", 100 * *overshoot) : ", no overshoot";
  return text + (settling_s ? fmt::format(", within 2 % after {:.4g} s", *settling_s) : ", does not settle");
}

namespace {

/// Of what it moved altogether: with less between its ends it was no step.
constexpr double kLeastWay = 0.02;

/// How much a signal moved over the end of a stretch, or before its beginning, as a share of the way: a whole step
/// stands still there.
constexpr double kEnds = 0.05;

double moved(const SignalView& v, double from, double to) {
  double low = INFINITY, high = -INFINITY;
  for (std::size_t i = 0; i < v.values.size(); ++i) {
    if (v.seconds[i] < from || v.seconds[i] > to || !std::isfinite(v.values[i])) continue;
    low = std::min(low, v.values[i]);
    high = std::max(high, v.values[i]);
  }
  return high > low ? high - low : 0;
}

/// Why what lies in the stretch is no step, or not all of one.
std::string why_no_step(const record::Recording& recording, const SignalView& v) {
  const double way = std::abs(v.values.back() - v.values.front());
  const auto [least, most] = std::minmax_element(v.values.begin(), v.values.end());
  if (way < kLeastWay * (*most - *least)) return "ends about where it began: no step";
  const double begin = v.seconds.front(), end = v.seconds.back(), rest = kEnds * (end - begin);
  const bool moves_after = moved(v, end - rest, end) > kLeastWay * way;
  const auto before = signal_view(recording, v.name, {begin - rest, begin});
  const bool moved_before = before && moved(*before, begin - rest, begin) > kLeastWay * way;
  if (!moves_after && !moved_before) return {};
  return fmt::format("{} {:g} s: no whole step, so nothing is measured; choose a stretch that holds all of it",
                     moved_before ? "moves already before" : "still moves at", moved_before ? begin : end);
}

/// When a signal first was at this share of its way, on the straight line between two instants.
PointMark at_share(const SignalView& v, double share) {
  const double from = v.values.front(), wanted = from + share * (v.values.back() - from), up = wanted > from ? 1 : -1;
  std::size_t i = 1;
  while (i + 1 < v.values.size() && up * (v.values[i] - wanted) < 0) ++i;
  const double part = (wanted - v.values[i - 1]) / (v.values[i] - v.values[i - 1]);
  const double at = v.seconds[i - 1] + std::clamp(part, 0.0, 1.0) * (v.seconds[i] - v.seconds[i - 1]);
  return {at, wanted, fmt::format("{:.0f} %", 100 * share)};
}

PointMark peak_of(const SignalView& v, double overshoot) {
  const bool up = v.values.back() > v.values.front();
  const auto peak =
      up ? std::max_element(v.values.begin(), v.values.end()) : std::min_element(v.values.begin(), v.values.end());
  return {v.seconds[static_cast<std::size_t>(peak - v.values.begin())], *peak,
          fmt::format("{}{:.3g} %", up ? "+" : "−", 100 * overshoot)};
}

void add_marks(Response& r, const SignalView& v) {
  if (r.rise_s) r.marks = {at_share(v, 0.1), at_share(v, 0.9)};
  if (r.overshoot && *r.overshoot > 1e-4) r.marks.push_back(peak_of(v, *r.overshoot));
  if (!r.settling_s) return;
  const double at = v.seconds.front() + *r.settling_s;
  const auto next = std::lower_bound(v.seconds.begin(), v.seconds.end(), at - 1e-9);
  if (next == v.seconds.end()) return;
  r.marks.push_back({at, v.values[static_cast<std::size_t>(next - v.seconds.begin())], "within 2 %"});
}

}  // namespace

Result<std::vector<Response>> responses(const std::string& run, const std::vector<std::string>& names,
                                        const TimeRange& stretch) {
  const auto recording = record::Recording::open_run(run);
  if (!recording) return recording.failure();
  std::vector<Response> all, unlike;
  std::vector<SignalView> views;  // of these
  std::string rules;
  for (const std::string& name : names) {
    auto view = signal_view(**recording, name, stretch);
    if (!view) return view.failure();
    if (view->lane || view->values.size() < 2 || view->values.front() == view->values.back()) continue;
    const double way = view->values.back() - view->values.front();
    if (!std::isfinite(way)) continue;
    if (std::string why = why_no_step(**recording, *view); !why.empty()) {
      unlike.push_back({name, std::move(why), view->values.back(), view->unit, {}, {}, {}, {}});
      continue;
    }
    const std::string unit = (*recording)->unit(name).read_in, i = std::to_string(all.size());
    all.push_back({name, "", view->values.back(), view->unit, {}, {}, {}, {}});
    const std::string to = fmt::format("to {} {}", format_exact(view->values.back()), unit == "1" ? "" : unit);
    const std::string over =
        fmt::format("over {} s .. {} s", format_exact(view->seconds.front()), format_exact(view->seconds.back()));
    rules += fmt::format(
        "measure rise_{0} {{ of {1} rise_time {2} {3} }}\nmeasure over_{0} {{ of {1} overshoot {2} {3} }}\n", i, name,
        to, over);
    rules += fmt::format("measure settle_{} {{ of {} settling_time {} within {} {} {} }}\n", i, name, to,
                         format_exact(0.02 * std::abs(way)), unit == "1" ? "" : unit, over);
    views.push_back(std::move(*view));
  }
  if (all.empty()) return unlike;
  constexpr const char* kText = "step responses";
  auto opened = session::open_recording(run, check::Rules{kText, rules, true});
  if (!opened) return opened.failure();
  if (opened->loaded.program == nullptr)
    return Failure{"cannot measure", run, opened->loaded.diagnostics.render(*opened->loaded.sources, false)};
  const program::Program& p = *opened->loaded.program;
  record::Playback playback(opened->loaded.program, *opened->recording, record::judged_variables(p));
  if (!playback.missing().empty())
    return Failure{"cannot measure", p.variable(playback.missing().front()).name, "it was not recorded"};
  judge::Judge judge(opened->loaded.program);
  std::vector<judge::Measured> measured;
  const auto collect = [&] { measured.insert(measured.end(), judge.measured().begin(), judge.measured().end()); };
  playback.run([&](const observe::Image& image) {
    judge.image(image);
    collect();
  });
  judge.verdicts(observe::Ending::completed);
  collect();
  for (const judge::Measured& m : measured) {
    const program::Measure& measure = p.measures[static_cast<std::size_t>(m.measure)];
    // The bench may have measures of such names.
    if (!measure.span.known() || p.sources->name(measure.span.source) != kText) continue;
    const std::string& name = measure.name;
    const std::size_t bar = name.rfind('_');
    if (bar == std::string::npos || !std::isfinite(m.value)) continue;
    const std::size_t i = std::strtoul(name.c_str() + bar + 1, nullptr, 10);
    if (i >= all.size()) continue;
    if (name.starts_with("rise_")) all[i].rise_s = m.value;
    if (name.starts_with("over_")) all[i].overshoot = m.value;
    if (name.starts_with("settle_")) all[i].settling_s = m.value;
  }
  for (std::size_t i = 0; i < all.size(); ++i) add_marks(all[i], views[i]);
  all.insert(all.end(), unlike.begin(), unlike.end());
  return all;
}

}  // namespace isodyne::present
