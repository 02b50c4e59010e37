#pragma once
// The state of a run in a file, from which it can go on to the bit.
//
// A state is not only the plant's: controllers remember too, and code in a library or a program cannot be asked for
// what it remembers. So the file says how the state was reached (sources, seed, scenario, faults, setting, changes by
// hand) and what it was; going on replays the run up to there in lockstep and compares every quantity.

#include <cstdint>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/observe/events.h"
#include "isodyne/record/identity.h"

namespace isodyne::session {

struct StoredState {
  record::RunIdentity identity;
  Time at{};
  std::vector<observe::Change> changes;  ///< by hand, before it
  std::vector<std::string> changed;      ///< the names of what they changed
  std::vector<std::pair<std::string, double>> values;
};

StoredState state_of(const program::Program& program, const record::RunIdentity& identity, const observe::Image& image,
                     const std::vector<observe::Change>& changes);

std::string to_json(const StoredState& state);
Result<StoredState> read_state(const std::string& file);
/// `origin`: where the text is from, for messages.
Result<StoredState> parse_state(const std::string& text, const std::string& origin);

/// The first quantity that is another than it was; empty: they are the same to the bit.
std::string difference(const program::Program& program, const StoredState& state, const observe::Image& image);

}  // namespace isodyne::session
