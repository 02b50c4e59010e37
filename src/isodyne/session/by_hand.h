#pragma once
// What was done to a run by hand, from its recording: to do it again, and as a text of the language.

#include <string>
#include <vector>

#include "isodyne/session/run_folder.h"

namespace isodyne::session {

/// Something that was done by hand, or by a client. About the plant, or a note (`mark`), or what was waited for
/// (`wait`).
struct Deed {
  observe::Command command;  ///< when: the instant at which it was done; its text is not set
  std::string words;         ///< the note; the condition that was waited for
};
/// In order. A Failure: the bench does not know what was done.
Result<std::vector<Deed>> deeds_of(const record::Recording& run, const program::Program& program);

/// The instant up to which there is something of a run.
Time end_of(const record::Recording& run);

/// A text of the language, and what it may not give again as it was.
struct HandText {
  std::string text;
  std::vector<std::string> doubts;
};

struct ScenarioWish {
  std::string name;        ///< of the scenario
  std::string of;          ///< what people call the run
  bool on_events = false;  ///< it waits where the operator waited, and counts times from there
};
/// A value with its unit, as the language and clients read it: back to the very same double.
std::string exact_value(const program::Program& program, program::VarId id, double si);

/// A scenario that does again what was done by hand, beside the scenario that the run played, if it did.
Result<HandText> scenario_of(const OpenRecording& run, const ScenarioWish& wish);

/// A set of the values that were changed by hand, as they were at the end of the run.
Result<HandText> values_of(const OpenRecording& run, const std::string& name, const std::string& of);

}  // namespace isodyne::session
