#pragma once
// How a table of failure modes begins: columns as the trade's standards have them.

#include <string>

#include "isodyne/session/run_service.h"

namespace isodyne::app {

/// Prints the declaration for a bench, and writes a file with a row for each fault that no table of it is about; gives
/// the exit status. `kind`: ratings (severity, occurrence and detection, IEC 60812:2018, B.2.3), criticality (rates and
/// shares of modes, the same, B.2.2), diagnostics (what a monitor sees of dangerous failures, IEC 61508-6:2010, C.1).
int say_failure_template(const session::Bench& bench, const std::string& kind, const std::string& out);

}  // namespace isodyne::app
