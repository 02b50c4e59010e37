#include "told_run.h"

#include <filesystem>

#include "isodyne/core/file.h"
#include "isodyne/present/report.h"
#include "isodyne/session/run_folder.h"
#include "terminal.h"
#include "verdicts.h"

namespace isodyne::app {

namespace fs = std::filesystem;

namespace {

/// The page about a run, of the Program that is still in memory; false, and said, if it could not be written.
bool write_report(const session::RunOutcome& outcome, const session::Bench& bench) {
  auto recording = record::Recording::open_run(outcome.folder);
  if (!recording) return say_error(recording.failure().text()), false;
  std::vector<session::RunFolder> runs;
  runs.push_back({outcome.folder, *outcome.summary, std::move(*recording), bench.program});
  const auto html = present::report_html(runs);
  const Status written =
      html ? write_file((fs::path(outcome.folder) / "report.html").string(), *html) : Status(html.failure());
  if (!written) return say_error(written.failure().text()), false;
  return true;
}

int outcome_status(const session::RunOutcome& outcome, std::optional<std::int64_t> max_overruns, bool strict) {
  if (!outcome.completed()) return kNotCompleted;
  const auto& timing = outcome.summary->timing;
  if (timing && max_overruns && timing->overruns > *max_overruns) return kTooLate;
  return status_of(*outcome.summary, strict);
}

}  // namespace

int tell_run(const session::RunOutcome& outcome, const Arguments& arguments, const session::Bench& bench,
             std::optional<std::int64_t> max_overruns) {
  for (const session::Notice& s : outcome.said) s.error ? say_error(s.text) : say_aside(s.text);
  if (!outcome.summary) return kNotCompleted;
  const bool page = outcome.recorded && !arguments.has(Option::no_report);
  const bool written = !page || write_report(outcome, bench);
  if (arguments.has(Option::json))
    put(stdout, to_json(*outcome.summary));
  else
    print_verdicts(*outcome.summary, "Evidence in " + outcome.folder);
  return written ? outcome_status(outcome, max_overruns, arguments.has(Option::strict)) : kNotCompleted;
}

}  // namespace isodyne::app
