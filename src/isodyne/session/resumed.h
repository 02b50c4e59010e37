#pragma once
// A bench begins where a run of it stood when it ended, as after a power cut: levels, positions, modes, what was set.
// Controllers, delays, timers of modes, faults and the scenario begin anew; this is no state that can be gone on from
// to the bit (stored_state.h is).

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

struct Resumed {
  std::string run;  ///< its folder
  Time at{};        ///< what it recorded last
  std::vector<std::pair<program::VarId, double>> values;
  /// What begins as the bench says, since its last value is not known, and why.
  std::vector<std::pair<std::string, std::string>> without;

  /// "goes on where runs/003-run stood at 12.5 s: 34 values; …"
  std::string text() const;
};

/// The served run (one in pieces) of this bench in that folder that was recorded last. Nothing, and why: there is none,
/// it is of another text, or it diverged and would again.
std::optional<std::string> newest_run(const std::string& among, const Bench& bench, std::string& why_not);

Result<Resumed> resumed(const std::string& run, const program::Program& program);

}  // namespace isodyne::session
