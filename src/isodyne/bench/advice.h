#pragma once
// Which step and method a bench needs: trials against the reference, and the time constants of its parts.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/run.h"

namespace isodyne::bench {

struct AdviceWish {
  RunPlan plan;
  std::vector<program::VarId> signals;  ///< by which is judged
  double tolerance = 1e-3;              ///< largest error, as a share of the signal's range in the reference
  PortMaker make_port;
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

/// The time constants of one part's own states: 1/|λ| of the linearisation, the shortest met along the run.
struct PartPace {
  std::string part;
  double shortest = 0;  ///< s
  double longest = 0;
  Time at{};
  bool oscillates = false;
};

/// The quickest part of a plant at an image; nothing where no slope is a finite number.
std::optional<PartPace> quickest_part(const program::Program& program, const observe::Image& image);

struct Advice {
  std::string trouble;         ///< why there is no advice at all
  std::vector<double> ranges;  ///< per signal, SI
  Time compared_every{};
  long reference_evaluations = 0;
  double reference_seconds = 0;
  std::vector<Trial> trials;
  std::optional<std::size_t> recommended;  ///< index of the trial with the largest step that is good, then cheapest
  std::vector<PartPace> paces;             ///< quickest first
};

Advice advise(const std::shared_ptr<const program::Program>& program, const AdviceWish& wish);

/// Real quantities of the figures, else the states.
std::vector<program::VarId> usual_signals(const program::Program& program);

}  // namespace isodyne::bench
