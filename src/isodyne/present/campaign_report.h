#pragma once
// One self-contained HTML file about the cases of a campaign.

#include <string>
#include <vector>

#include "isodyne/session/case_views.h"

namespace isodyne::present {

/// `book`: the file that they are in, for the commands that are shown.
std::string campaign_html(const session::CaseBookKey& key, const std::vector<session::CaseResult>& all,
                          const std::string& book);

}  // namespace isodyne::present
