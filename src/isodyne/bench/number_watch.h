#pragma once
// Looks at every instant whether what somebody reads is a number (check/watch.h), so that no verdict rests on what is
// none.
//
// As long as every quantity is finite that is one sum over all of them, and the few expressions that may be no number
// although all that they read are. Stepping thread; allocates only when something was found.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/scenario_player.h"
#include "isodyne/engine/code.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

class NumberWatch {
 public:
  /// `between`: also in the steps of quicker groups. (A solver that tries out what does not come true cannot tell.)
  NumberWatch(const program::Program& program, const std::vector<std::int32_t>& faults, std::int32_t scenario,
              bool between);

  struct Story {
    Time at{};
    std::string what;                  ///< "`q` is infinite, and requirement `R-1` reads it"
    std::vector<std::string> details;  ///< where it comes from, what was read there, how to guard it
  };
  /// What was found at this settled image, or in a quicker step since the one before; nothing: all is well.
  std::optional<Story> look(double* image, Time now, const ScenarioPlayer& scenario);

  /// Quantities that were without a value and that nobody reads: since when first.
  struct Missing {
    program::VarId id = program::kNone;
    Time first{};
  };
  const std::vector<Missing>& missing() const { return missing_; }

 private:
  static const program::Watch* find(const std::vector<const program::Watch*>& watches, engine::Evaluator& values,
                                    const double* image, const ScenarioPlayer& scenario);
  const program::QuickWatch* find_between(double* image, Time now) const;
  Time instant_of(const program::QuickWatch& watch, const double* image) const;
  Story explain(const program::Watch& watch, const double* image, Time now) const;
  Story explain(const program::QuickWatch& watch, const double* image) const;
  program::VarId truth_behind(program::VarId id) const;
  program::VarId maker_of_trouble(program::VarId id, const double* image) const;
  std::optional<program::NodeId> equation_of(program::VarId id, Span& span) const;
  void note_missing(const double* image, Time now);

  const program::Program& program_;
  std::vector<const program::Watch*> always_, all_;  ///< always: those that may find something by themselves
  engine::Evaluator always_values_, all_values_;
  bool between_;
  std::size_t looked_at_ = 0;  ///< the first so many variables; the others cannot be anything but numbers
  std::vector<program::VarId> recorded_;
  std::vector<char> noted_;
  std::vector<Missing> missing_;
};

}  // namespace isodyne::bench
