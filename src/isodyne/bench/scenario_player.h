#pragma once
// Plays a scenario: top to bottom on each of its tracks, several steps in one instant where nothing takes time.

#include <algorithm>
#include <limits>
#include <optional>
#include <vector>

#include "isodyne/engine/running_plant.h"
#include "isodyne/observe/command.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

/// What a scenario says to a fault.
struct FaultCommand {
  std::int32_t fault = 0;
  observe::CommandKind what = observe::CommandKind::inject;  ///< or clear, arm, disarm
};

/// What came of an `expect`.
struct Expected {
  std::int32_t step = 0;  ///< of the scenario
  std::int64_t met = 0, missed = 0;
  bool open = false;  ///< the run ended before it could be told
  std::optional<Time> first_missed, worst_at;
  double worst = std::numeric_limits<double>::infinity();  ///< margin, SI; infinite: there is none
};

/// Everything random comes from the seed of the run. Never allocates after prepare().
class ScenarioPlayer {
 public:
  /// `scenario` is an index into program.scenarios, or kNone: then there is nothing to play.
  /// `overrides`: first values in the place of the scenario's.
  ScenarioPlayer(const program::Program& program, std::int32_t scenario, std::uint64_t seed = 1,
                 const std::vector<std::pair<program::VarId, double>>& overrides = {});

  /// Start values of the scenario, for RunningPlant::start().
  const std::vector<std::pair<program::VarId, double>>& start_values() const { return start_values_; }
  /// Networks begin in their steady state; start_values() go before it.
  bool settled() const { return settled_; }
  /// Whether something that it waits for moves between two instants of the bench; then those are to be shown to it.
  bool quick() const;
  void between(const double* image, Time at);
  /// Decides from the settled image what happens at `next`, the instant after it.
  void plan(const double* image, Time next);
  /// What it says to faults at the instant that was planned.
  const std::vector<FaultCommand>& commands() const { return commands_; }
  /// What it does to quantities at that instant, and what is told of it.
  const std::vector<observe::Command>& writes() const { return writes_; }
  const std::vector<observe::Event>& events() const { return events_; }

  /// Whether one of its tracks is at this step now.
  bool stands_at(std::size_t step) const {
    return std::any_of(tracks_.begin(), tracks_.end(), [&](const Track& t) { return t.alive && t.at == step; });
  }
  bool finished() const { return ended_ || tracks_.empty() || tracks_[0].at >= steps_.size(); }
  /// The wait that took longer than allowed, if one did.
  const program::ScenarioStep* timed_out() const { return timed_out_; }
  std::size_t at_step() const { return tracks_.empty() ? 0 : tracks_[0].at; }
  std::size_t steps() const { return steps_.size(); }
  /// What came of every `expect`, in the order of the text.
  std::vector<Expected> expected() const;

 private:
  struct Step {
    const program::ScenarioStep* step = nullptr;
    engine::Evaluator value;                   ///< and margin
    program::VarId write_to = program::kNone;  ///< the healthy variable of a tapped target
    std::size_t first_track = 0;               ///< of a fork
    std::int64_t rounds = 0;                   ///< of a repeat: begun so far
    std::int64_t times = 0;                    ///< of an either: how often it was come to …
    double key = 0;                            ///< … and by what it draws
    Time round_began{};
    bool quick = false;  ///< what it waits for moves between two instants of the bench
    Expected expected;
  };
  struct Track {
    std::size_t at = 0;
    bool alive = false, begun = false;
    std::size_t parent = 0;
    int waits_for = 0;  ///< tracks of the fork that it stands at
    Time since{};
    double from = 0, to = 0, worst = 0;
    bool failed = false;  ///< an `expect … for` that did not hold
    bool came = false;    ///< what it waits for, between two instants of the bench
  };
  void advance(Track& track, const double* image, Time next);
  double present(const Track& track, const double* image) const;
  bool in_line(std::size_t one, std::size_t other) const;
  void begin(Track& track, const double* image, Time next);
  bool is_over(Track& track, const double* image, Time next);
  bool expectation(Track& track, Step& s, Time next);
  void conclude(Track& track, Step& s, bool met, Time next);
  std::size_t after(Track& track, Time next);
  void write(const Track& track, double value);
  Step& step_of(const Track& track) { return steps_[track.at]; }
  const Step& step_of(const Track& track) const { return steps_[track.at]; }
  std::size_t number_of(const Track& track) const { return static_cast<std::size_t>(&track - tracks_.data()); }

  void stop(std::size_t track);
  void visit(Track& track, const double* image, Time next);

  std::int32_t scenario_;
  double seed_ = 0;
  std::vector<Step> steps_;
  std::vector<iso_table> tables_;
  std::vector<Track> tracks_;  ///< the first is that of the scenario
  engine::Evaluator ends_;
  std::size_t end_count_ = 0;
  std::vector<std::pair<program::VarId, double>> start_values_;
  bool settled_ = false;
  std::vector<observe::Command> writes_;
  std::vector<std::size_t> writers_;  ///< the track of each
  std::vector<observe::Event> events_;
  std::vector<FaultCommand> commands_;
  bool ended_ = false, quick_ends_ = false;
  const program::ScenarioStep* timed_out_ = nullptr;
};

}  // namespace isodyne::bench
