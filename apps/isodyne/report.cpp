#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/present/report.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

int run_report(const Arguments& arguments) {
  auto opened = open_runs(arguments.words);
  if (!opened) return kWrongInput;
  std::vector<session::RunFolder>& runs = *opened;
  const std::string out =
      arguments.value(Option::out)
          .value_or(runs.size() == 1 ? (std::filesystem::path(runs[0].path) / "report.html").string() : "report.html");
  ProgressLine progress;
  const auto html = present::report_html(runs, [&](std::size_t i) {
    progress.draw(static_cast<double>(i) / static_cast<double>(runs.size()),
                  fmt::format("drawing {}", runs[i].summary.title()));
  });
  progress.clear();
  if (!html) return say_error(html.failure().text()), kNotCompleted;
  const Status written = write_file(out, *html);
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
