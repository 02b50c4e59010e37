#include "isodyne/present/report.h"

#include <filesystem>

#include <fmt/format.h>

#include "command.h"
#include "runs.h"
#include "terminal.h"

namespace isodyne::app {

int run_report(const Arguments& arguments) {
  auto opened = open_runs(arguments.words);
  if (!opened) return kWrongInput;
  std::vector<present::RunFolder>& runs = *opened;
  const std::string out =
      arguments.value(Option::out)
          .value_or(runs.size() == 1 ? (std::filesystem::path(runs[0].path) / "report.html").string() : "report.html");
  {
    ProgressLine progress;
    const Status drawn = present::draw_figures(runs, [&](std::size_t i) {
      progress.draw(static_cast<double>(i) / static_cast<double>(runs.size()),
                    fmt::format("drawing {}", runs[i].summary.title()));
    });
    if (!drawn) {
      progress.clear();
      say_error(drawn.failure().text());
      return kNotCompleted;
    }
  }
  const auto html = present::report_html(runs);
  const Status written = html ? present::write_file(out, *html) : Status(html.failure());
  if (!written) {
    say_error(written.failure().text());
    return kNotCompleted;
  }
  say(out);
  if (!arguments.has(Option::pdf)) return kHeld;
  const auto pdf = present::print_pdf(out);
  if (!pdf) return say_error(pdf.failure().text()), kNotCompleted;
  say(*pdf);
  return kHeld;
}

}  // namespace isodyne::app
