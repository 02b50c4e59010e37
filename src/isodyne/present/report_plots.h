#pragma once
// The plots of a report that can be zoomed: data for the script in page/plots.js, with chart library inside the page.

#include <cstddef>
#include <string>

#include "isodyne/present/run_folder.h"

namespace isodyne::present {

/// RFC 4648.
std::string base64(const void* from, std::size_t bytes);

/// Script and style that the plots of a page need, once, before all of them.
std::string plots_script();
std::string plots_style();

/// The plots of one run. `html`: a place for the charts and a coarse level of their data, enough for the whole run.
/// `finer`: what is looked at when somebody zooms; it stands at the end of the page, which can be read before it is
/// there.
struct PagePlots {
  std::string html, finer;
};

/// `figures`: the static drawings, for paper and where no script runs.
PagePlots plots_of(const RunFolder& run, std::size_t number, const std::string& figures);

}  // namespace isodyne::present
