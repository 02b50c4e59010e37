#pragma once
// A run once more from its recording alone, and whether it is the same to the bit.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/record/differences.h"
#include "isodyne/session/run_folder.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

/// The controllers of a run that are code of somebody: programs, and libraries.
std::vector<const program::Setting*> code_of(const OpenRecording& run);

/// What was asked of the run, with what was done to it by hand; up to where it broke off, if it did. A Failure: why it
/// cannot be repeated. `folder`: where its controllers are.
Result<RunRequest> request_of(const OpenRecording& run, const std::string& path, const std::string& folder);

/// What is the same and what is not.
struct Repeated {
  std::size_t signals = 0, equal = 0, instants = 0, events = 0;
  std::optional<record::SignalDifference> first;
  std::string unlike;               ///< what is not about a signal
  std::vector<std::string> causes;  ///< likely
  bool part = false;                ///< the run broke off, and only what there is was compared
  bool identical() const { return signals == equal && unlike.empty(); }
};
Repeated compared(const OpenRecording& was, const record::Recording& is, const std::string& folder);

}  // namespace isodyne::session
