#pragma once
// The sensors of a run: each samples in the sorted order of an instant, when what it measures is known, so that
// whatever reads a sensor at t reads its sample of t.
//
// Within one instant a quantity may be computed more than once, because a mode changes or a `when` block fires. Its
// sensor then samples again from where it stood before the instant: the same draw of noise, the same past of the
// filter. What the instant ends with is what counts, so a row of a recording agrees with itself. Stepping thread only.

#include <vector>

#include "isodyne/bench/fault_player.h"
#include "isodyne/engine/state.h"
#include "isodyne/io/channel.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

class Sensing : public engine::SensorSampling {
 public:
  /// All of them outlive it.
  Sensing(const program::Program& program, const FaultPlayer& faults, std::uint64_t seed, engine::PlantState& state);

  bool due(Time now) const override { return now == next_ || now.count() == 0; }
  void sample(std::int32_t sensor) override;

  /// Whether any of them samples between two instants of the bench; then between() is called at each instant there.
  bool quick() const { return quick_; }
  void between(observe::Observer& observer) {
    end_instant(observer);
    begin_instant();
  }

  /// Faults may have changed since the sensors were last asked.
  void begin_instant() { ++pass_; }
  /// The samples of this instant count. Tells where a channel begins to be unable to hold what it is given.
  void end_instant(observe::Observer& observer);

  const io::Saturation& saturation(std::size_t sensor) const { return entries_[sensor].channel.saturation(); }
  /// Time spent on sampling in this instant, if that is measured.
  void measure() { measured_ = true; }
  std::int64_t took_ns() const { return took_ns_; }

 private:
  struct Entry {
    io::SensorChannel channel, before;  ///< before: as the instant found it
    Time next{};
    double truth = 0;
    std::int64_t pass = -1;              ///< in which it was last asked
    bool asked = false;                  ///< at this instant
    std::int32_t gate = program::kNone;  ///< index into Plant::gates, of one that samples at edges
    bool was = false;                    ///< what its gate was at the instant before
    bool swapped = false;                ///< some fault may make it see what another one measures
  };
  bool rose(const Entry& entry, const program::Sensor& sensor) const;
  void see_swapped();
  void pass_by();
  void take(std::size_t sensor);
  engine::TapState* tap(std::int32_t index) {
    return index == program::kNone ? nullptr : &state_.taps[static_cast<std::size_t>(index)];
  }

  const program::Program& program_;
  const FaultPlayer& faults_;
  engine::PlantState& state_;
  std::vector<Entry> entries_;
  std::vector<std::size_t> between_;  ///< those that see what passes between their samples
  Time next_{};                       ///< the first of all
  std::int64_t pass_ = 0, took_ns_ = 0;
  bool measured_ = false, quick_ = false;
};

}  // namespace isodyne::bench
