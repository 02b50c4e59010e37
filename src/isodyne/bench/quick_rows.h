#pragma once
// Gathers what quick groups do between two instants of the bench: on each core as it steps, handed over as one block
// when the bench has arrived at its next instant. Room is made before the run.

#include <functional>
#include <optional>
#include <vector>

#include "isodyne/bench/fault_player.h"
#include "isodyne/bench/scenario_player.h"
#include "isodyne/engine/quick_images.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/observe/events.h"
#include "isodyne/program/quick.h"

namespace isodyne::bench {

class QuickRows : public engine::QuickObserver {
 public:
  /// `scenario` and `faults` are shown what comes and goes before they can act.
  QuickRows(const program::Program& program, const engine::RunningPlant& plant, ScenarioPlayer& scenario,
            FaultPlayer& faults);

  /// Whether anything is gathered.
  const std::vector<program::VarId>& columns() const { return view_.columns; }
  bool any() const { return view_.any(); }
  /// Numbers in the largest block.
  std::size_t most_numbers() const { return most_ * view_.columns.size(); }
  /// Called at each instant of the bench's own core, whether something is gathered there or not.
  void then(std::function<void()> at_instant) { at_instant_ = std::move(at_instant); }

  /// Before the run, when the plant knows that somebody looks: what its networks note down themselves.
  void find_noted();
  /// Of the stepping thread: the bench is about to leave an instant, where these are the values.
  void begin(const double* values);
  /// Of the thread that steps the core.
  void instant(std::int32_t core, Time now, const double* values) override;
  /// Of the stepping thread: what came up to `last`, if there was anything.
  void hand_over(observe::Observer& observer, Time last);

 private:
  /// What one core gathers: some of the columns, at its own instants.
  struct Core {
    std::vector<program::VarId> columns;
    std::vector<std::size_t> places;  ///< of these among all
    std::vector<std::size_t> copied;  ///< those that are not noted down by a network
    struct Noted {
      std::int32_t network = 0;
      std::vector<std::size_t> columns, places;  ///< and where they are in a row of the network
    };
    std::vector<Noted> noted;
    std::vector<double> before;  ///< at the instant of the bench
    std::vector<double> rows;
    std::vector<Time> times;
    std::size_t count = 0;
  };
  void fetch(Core& core, const Core::Noted& noted);
  const double* joined(Time first, std::size_t count);

  program::QuickView view_;
  const engine::Networks& networks_;
  ScenarioPlayer& scenario_;
  FaultPlayer& faults_;
  std::optional<engine::QuickImages> images_;  ///< if one of them waits for something quick
  std::size_t most_ = 0;                       ///< rows between two instants of the bench
  std::vector<Core> cores_;
  std::vector<double> all_;  ///< of several cores
  std::function<void()> at_instant_;
};

}  // namespace isodyne::bench
