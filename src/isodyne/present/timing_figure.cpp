#include "isodyne/present/timing_figure.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

/// Bars from edge to edge on logarithmic axes; neighbouring bins are put together until a bar is wide enough to see.
std::string bars(const std::vector<session::TimingSummary::Bin>& bins) {
  std::string data;
  for (std::size_t i = 0; i < bins.size();) {
    session::TimingSummary::Bin bar = bins[i++];
    while (i < bins.size() && bins[i].from < bar.from * 1.12) {
      bar.to = bins[i].to;
      bar.count += bins[i++].count;
    }
    bar.to = std::max(bar.to, bar.from * 1.12);
    data += fmt::format("{:.6g} {:.6g} {}\n", std::max(bar.from, 1e-3), bar.to, bar.count);
  }
  return data;
}

}  // namespace

Status draw_timing(const std::string& title, const session::TimingSummary& t, const std::string& base) {
  double least = 1e9, most = t.step_s * 1e6 / t.speed, tallest = 1;
  for (const auto* bins : {&t.lateness, &t.execution}) {
    for (const auto& b : *bins) {
      least = std::min(least, std::max(b.from, 1e-2));
      most = std::max(most, b.to);
      tallest = std::max(tallest, static_cast<double>(b.count));
    }
  }
  const double step_us = t.step_s * 1e6 / t.speed;
  std::string script = fmt::format("$late << EOD\n{}EOD\n$work << EOD\n{}EOD\n", bars(t.lateness), bars(t.execution));
  script += fmt::format(
      "set multiplot\nset lmargin at screen 0.08\nset rmargin at screen 0.97\nset logscale xy\nset grid lc rgb "
      "\"#DDDDDD\"\nset border 3 lc rgb \"#555555\"\nset tics nomirror\nset format y \"%g\"\nset format x \"%g\"\n"
      "set xrange [{:.6g}:{:.6g}]\nset yrange [0.5:{:.6g}]\nset ylabel \"steps\" offset 1,0\nset ytics 10\nunset key\n",
      least / 1.3, most * 1.6, tallest * 30);
  script += fmt::format("set label 1 {} at screen 0.08,0.965 font \",13\"\n", quoted(title));
  script += fmt::format(
      "set arrow 1 from first {0:.6g}, graph 0 to first {0:.6g}, graph 1 nohead dt 2 lc rgb \"#A33F00\"\n"
      "set label 2 {1} at first {0:.6g}, graph 0.93 right offset -0.5,0 tc rgb \"#A33F00\"\n",
      step_us, quoted("step " + session::microseconds(step_us)));
  const auto note = [&](std::size_t row) {
    const session::TimesRow& r = t.rows[row];
    return quoted(fmt::format("p50 {}, p99 {}, p99.9 {}, most {}", session::microseconds(r.p50),
                              session::microseconds(r.p99), session::microseconds(r.p999),
                              session::microseconds(r.longest)));
  };
  const auto panel = [&](const char* block, const char* what, std::size_t row, std::size_t colour) {
    return fmt::format(
        "set label 3 {} at graph 0.01, 0.93 font \",11\"\nset label 4 {} at graph 0.01, 0.85 tc rgb \"#5B6770\"\n"
        "plot {} using (sqrt($1*$2)):3:1:2:(0.5):3 with boxxyerror fs solid 0.75 noborder lc rgb \"{}\"\n",
        quoted(what), note(row), block, kColours[colour]);
  };
  script += "set tmargin at screen 0.92\nset bmargin at screen 0.55\n" + panel("$late", "how late a step began", 0, 0);
  script += "unset label 1\nset tmargin at screen 0.48\nset bmargin at screen 0.10\nset xlabel \"time, µs\"\n" +
            panel("$work", "how long a step took", 1, 2) + "unset multiplot\n";
  return plot(script, 800, base);
}

}  // namespace isodyne::present
