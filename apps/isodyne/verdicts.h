#pragma once
// Verdicts as people read them in a terminal, and as an exit status.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/summary.h"
#include "text_table.h"

namespace isodyne::app {

/// How long things took, a row each.
TextTable times_table(const std::vector<session::TimesRow>& rows);

/// The table of verdicts, what a reader has to know beside it, and a closing line.
void print_verdicts(const session::Summary& summary, const std::string& closing);

/// That of a run that came to its end: broken requirements; with `strict`, those that do not hold.
int status_of(const session::Summary& summary, bool strict);

}  // namespace isodyne::app
