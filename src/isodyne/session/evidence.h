#pragma once
// The folder of a run, and what is written into it beside the recording.

#include <string>

#include "isodyne/core/result.h"
#include "isodyne/record/identity.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

/// Makes the folder of a new run: `wanted`, or among/NNN-NAME where that is empty. An earlier run is never written over.
Result<std::string> make_run_folder(const std::string& wanted, const std::string& name,
                                    const std::string& among = "runs");

/// verdicts.json and verdicts.xml.
Status write_verdicts(const Summary& summary, const std::string& folder);

/// The line of the run in this user's catalogue.
Status enter_into_catalogue(const std::string& folder, const Summary& summary, const record::RunIdentity& identity);

/// "2026-03-01 14:05:09 UTC"
std::string now_text();

}  // namespace isodyne::session
