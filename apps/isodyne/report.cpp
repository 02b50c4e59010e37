#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/present/campaign_report.h"
#include "isodyne/present/report.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

int finish(const Arguments& arguments, const std::string& out, const std::string& html) {
  const Status written = write_file(out, html);
  if (!written) return say_error(written.failure().text()), kNotCompleted;
  say(out);
  if (!arguments.has(Option::pdf)) return kHeld;
  const auto pdf = present::print_pdf(out);
  if (!pdf) return say_error(pdf.failure().text()), kNotCompleted;
  say(*pdf);
  return kHeld;
}

/// Of a file with the cases of a campaign.
int report_campaign(const Arguments& arguments, const std::string& file) {
  if (arguments.words.size() > 1) return say_error("the cases of a campaign are a report of their own"), kWrongInput;
  const auto book = session::CaseBook::read(file);
  if (!book) return say_error(book.failure().text()), kWrongInput;
  const auto all = (*book)->all();
  if (!all) return say_error(all.failure().text()), kNotCompleted;
  const std::string out =
      arguments.value(Option::out).value_or(std::filesystem::path(file).replace_extension("html").string());
  return finish(arguments, out, present::campaign_html((*book)->key(), *all, file));
}

}  // namespace

int run_report(const Arguments& arguments) {
  std::error_code none;
  if (std::filesystem::is_regular_file(arguments.words[0], none) && session::is_case_book(arguments.words[0]))
    return report_campaign(arguments, arguments.words[0]);
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
  return finish(arguments, out, *html);
}

}  // namespace isodyne::app
