#pragma once
// One self-contained HTML file about one or several runs, for readers who do not have Isodyne.

#include <functional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::present {

/// Draws every figure of the bench into FOLDER/figures/ of each run, and gives the report as HTML with them inside.
/// `begins` is told with which run drawing begins.
Result<std::string> report_html(const std::vector<session::RunFolder>& runs,
                                const std::function<void(std::size_t)>& begins = {});

/// Prints a report with Chromium into a file beside it; gives its name.
Result<std::string> print_pdf(const std::string& html_file);

}  // namespace isodyne::present
