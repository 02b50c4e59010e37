#pragma once
// The plots of a report that can be zoomed: data for the script in page/plots.js, with chart library inside the page.

#include <cstddef>
#include <string>

#include "isodyne/session/run_folder.h"

namespace isodyne::present {

/// RFC 4648.
std::string base64(const void* from, std::size_t bytes);

/// Script and style that the plots of a page need, once, before all of them.
std::string plots_script();
std::string plots_style();

/// The plots of one run: a place for the charts and a coarse level of their data, enough for the whole run.
/// Between `before` and `behind` stand the drawings that take their place on paper and where no script runs.
/// `finer`: what is looked at when somebody zooms; it stands at the end of the page, which can be read before it is
/// there.
struct PagePlots {
  std::string before, behind, finer;
};

PagePlots plots_of(const session::RunFolder& run, std::size_t number);

}  // namespace isodyne::present
