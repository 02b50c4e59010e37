#pragma once
// The moment at which a requirement was broken first: what it reads, around that instant.

#include <optional>

#include "isodyne/present/figure.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::present {

/// Of how many requirements a report shows that moment; the others are listed without.
constexpr std::size_t kMostMoments = 4;

/// The rows that were broken, the earliest first.
std::vector<const session::SummaryRow*> broken_rows(const session::Summary& summary);

/// "broken-L-03", also the name of its files.
std::string moment_name(const session::SummaryRow& row);

/// A twentieth of the run before and behind it; nothing if nothing that the requirement reads was recorded.
std::optional<FigureData> moment_figure(const session::RunFolder& run, const session::SummaryRow& row);

}  // namespace isodyne::present
