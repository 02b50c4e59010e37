#include "isodyne/present/advice_figure.h"

#include <algorithm>
#include <filesystem>
#include <map>

#include <fmt/format.h>

#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

/// One data block per method; returns the plot clauses.
std::string curves(const session::Advice& advice, std::string& script, const char* block, bool error) {
  std::map<program::Method, std::string> rows;
  for (const session::Trial& t : advice.trials) {
    const double y = error ? 100 * std::max(t.worst, 1e-14) : t.cost_ns / 1e3;
    if (t.trouble.empty()) rows[t.method] += fmt::format("{:.9g} {:.9g}\n", to_seconds(t.step) * 1e3, y);
  }
  std::string clauses;
  for (const auto& [method, data] : rows) {
    const std::string name = fmt::format("${}{}", block, static_cast<int>(method));
    script += fmt::format("{} << EOD\n{}EOD\n", name, data);
    clauses +=
        fmt::format("{}{} using 1:2 with linespoints lw 2 pt 7 ps 0.7 lc rgb \"{}\" title {}",
                    clauses.empty() ? "" : ", ", name, kColours[static_cast<std::size_t>(method) % std::size(kColours)],
                    error ? quoted(program::method_word(method)) : "\"\"");
  }
  return clauses;
}

}  // namespace

Status draw_advice(const std::string& title, const session::Advice& advice, double tolerance,
                   const std::string& folder) {
  std::string script;
  const std::string errors = curves(advice, script, "error", true), costs = curves(advice, script, "cost", false);
  double least = 1e99, most = 0, smallest = 100 * tolerance;
  for (const session::Trial& t : advice.trials) {
    least = std::min(least, to_seconds(t.step) * 1e3);
    most = std::max(most, to_seconds(t.step) * 1e3);
    if (t.trouble.empty()) smallest = std::min(smallest, 100 * std::max(t.worst, 1e-14));
  }
  script +=
      "set multiplot\nset lmargin at screen 0.08\nset rmargin at screen 0.86\nset logscale xy\nset grid lc rgb "
      "\"#DDDDDD\"\nset border 3 lc rgb \"#555555\"\nset tics nomirror\nset format y \"%g\"\nset format x \"%g\"\n";
  script += fmt::format("set xrange [{:.9g}:{:.9g}]\n", least / 1.25, most * 1.25);
  script += fmt::format("set label 1 {} at screen 0.08,0.965 font \",13\"\n",
                        quoted(title + ": error of the worst signal, and cost, against the step"));
  script += fmt::format(
      "set tmargin at screen 0.90\nset bmargin at screen 0.46\nset ylabel \"largest error, % of range\" "
      "offset 1,0\nset yrange [{:.3g}:1e3]\nset ytics 10\nset key at screen 0.985,0.88 right top\n",
      smallest / 5);
  script +=
      fmt::format("set arrow 1 from graph 0, first {0:.9g} to graph 1, first {0:.9g} nohead dt 2 lc rgb \"#A33F00\"\n",
                  100 * tolerance);
  script += fmt::format("set label 2 {} at graph 0.995, first {:.9g} right offset 0,0.6 tc rgb \"#A33F00\"\n",
                        quoted(fmt::format("tolerance {:g} %", 100 * tolerance)), 100 * tolerance);
  if (advice.recommended) {
    const session::Trial& t = advice.trials[*advice.recommended];
    script +=
        fmt::format("set label 3 {} at first {:.9g}, first {:.9g} offset 1,-1 point pt 6 ps 2 lc rgb \"#000000\"\n",
                    quoted("recommended"), to_seconds(t.step) * 1e3, 100 * std::max(t.worst, 1e-14));
  }
  script += "plot " + (errors.empty() ? std::string("NaN title \"\"") : errors) + "\n";
  script +=
      "unset label\nunset arrow\nset tmargin at screen 0.40\nset bmargin at screen 0.10\nset xlabel \"step, ms\"\n"
      "set ylabel \"cost of a step, µs\" offset 1,0\nset autoscale y\nset ytics auto\n";
  script += "plot " + (costs.empty() ? std::string("NaN title \"\"") : costs) + "\nunset multiplot\n";
  return plot(script, 800, (std::filesystem::path(folder) / "advice").string());
}

}  // namespace isodyne::present
