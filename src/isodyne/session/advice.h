#pragma once
// Which step and method a bench needs: trials against the reference, and the time constants of its parts.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/time_constants.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

struct AdviceWish {
  RunRequest request;                   ///< its evidence is nobody's: no verdicts, no folder
  std::vector<program::VarId> signals;  ///< by which is judged
  double tolerance = 1e-3;              ///< largest error, as a share of the signal's range in the reference
  /// Called before each trial, with its name and the share done; false stops.
  std::function<bool(const std::string&, double)> progress;
};

struct SignalError {
  program::VarId signal = program::kNone;
  double largest = 0, rms = 0;  ///< SI
  double share = 0;             ///< largest, of the signal's range in the reference
};

struct Trial {
  program::Method method = program::Method::rk4;
  Time step{};
  std::string trouble;  ///< why it gave nothing; then what follows is empty
  std::vector<SignalError> errors;
  double worst = 0;             ///< largest share, also between the instants that both runs have
  double at_instants = 0;       ///< largest share at those: of the method alone
  std::optional<double> order;  ///< observed, between the next larger step of the method and this one
  double cost_ns = 0;           ///< median time of one step
  bool native = false;
  bool good = false;  ///< within the tolerance
};

struct Advice {
  std::string trouble;         ///< why there is no advice at all
  std::vector<double> ranges;  ///< per signal, SI
  Time compared_every{};
  long reference_evaluations = 0;
  double reference_seconds = 0;
  std::vector<Trial> trials;
  std::optional<std::size_t> recommended;  ///< index of the trial with the largest step that is good, then cheapest
  std::vector<bench::PartPace> paces;      ///< quickest first
};

/// Runs in this process, one after another.
Advice advise(const AdviceWish& wish);

/// Real quantities of the figures, else the states.
std::vector<program::VarId> usual_signals(const program::Program& program);

}  // namespace isodyne::session
