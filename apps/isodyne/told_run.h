#pragma once
// What is printed of a run that has just been, and left on a page.

#include <optional>

#include "isodyne/session/run_service.h"
#include "subcommand.h"

namespace isodyne::app {

/// Notices, verdicts (--json, --no-report), and the exit status (--strict).
int tell_run(const session::RunOutcome& outcome, const Arguments& arguments, const session::Bench& bench,
             std::optional<std::int64_t> max_overruns = {});

}  // namespace isodyne::app
