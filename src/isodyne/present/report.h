#pragma once
// One self-contained HTML file about one or several runs, for readers who do not have Isodyne.

#include <memory>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/present/summary.h"
#include "isodyne/record/recording.h"

namespace isodyne::present {

/// A run folder, opened: the recording, its verdicts, and the bench as it was then.
struct RunFolder {
  std::string path;
  Summary summary;
  std::unique_ptr<record::Recording> recording;
  std::shared_ptr<const model::Program> program;
};

/// Opens a run folder; the bench is checked again from the sources in the recording.
Result<RunFolder> open_run(const std::string& path);

/// Draws every figure of the bench into FOLDER/figures/.
Status draw_figures(const RunFolder& run);

/// The report as HTML. Figures are taken from each run's figures/ folder; draw_figures() comes first.
Result<std::string> report_html(const std::vector<RunFolder>& runs);

}  // namespace isodyne::present
