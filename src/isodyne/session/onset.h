#pragma once
// When faults began in a run, which of them acted at the same time, and which signals told of it: of a protection, an
// alarm, a monitor.
//
// Looked at are the instants of the bench. That a signal tells of a fault is nothing that one run shows: it may come
// without the fault too. So a healthy run of the same scenario is looked at in the same way.

#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/session/run_service.h"

namespace isodyne::session {

struct Onset {
  struct Signal {
    std::optional<double> first_s;  ///< true since a fault began
    std::optional<double> last_s;   ///< true at all, in the whole run
  };
  std::vector<std::pair<std::string, double>> began;  ///< faults, in the order in which they first acted; s
  std::vector<Signal> signals;                        ///< as they were given
  /// Sets of faults that acted at the same time, and when first; none that is within one before it.
  std::vector<std::pair<std::vector<std::string>, double>> together;
};

/// Looks at a run, on its thread.
class OnsetWatch : public RunWatcher {
 public:
  OnsetWatch(const program::Program& program, const std::vector<program::VarId>& signals)
      : program_(program), ids_(signals) {
    onset_.signals.resize(signals.size());
  }
  void event(const observe::Event& event) override;
  void image(const observe::Image& image) override;
  /// In a line, for read_onset().
  std::string text() const;

 private:
  void acting_now(double now);
  const program::Program& program_;
  std::vector<program::VarId> ids_;
  std::set<std::string> acting_;
  bool changed_ = false;  ///< since the last instant
  Onset onset_;
};

std::optional<Onset> read_onset(const std::string& text);

}  // namespace isodyne::session
