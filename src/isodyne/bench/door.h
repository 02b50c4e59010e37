#pragma once
// The one door into a running plant: what the scenario does, what is done by hand, and what is repeated.
//
// At the begin of an instant the door carries out what is due: commands about the plant first, in the order in which
// they came, then the scenario. Commands about the course of the run (stand, go on, save, end) are heeded when an
// instant is over and has been shown, so that who stops there sees what was shown. Every command has an outcome, and is
// an event. Stepping thread only; never allocates, except to remember what was changed in lockstep.

#include <functional>
#include <string>
#include <vector>

#include "isodyne/bench/command_inbox.h"
#include "isodyne/bench/plant_commands.h"
#include "isodyne/observe/command.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

class Door {
 public:
  /// Stores the state of the run as it was shown last; false: it could not.
  using Save = std::function<bool(const char* file)>;

  /// All of them outlive it. `planned`: commands that are known before the run, in order.
  Door(const program::Program& program, engine::PlantState& state, FaultPlayer& faults, CommandInbox& inbox,
       std::vector<observe::Command> planned, bool lockstep);
  void tell(observe::Observer& observer) { observer_ = &observer; }
  void save_with(Save save) { save_ = std::move(save); }
  /// Makes room in the state for channels that are going to be set, before the first instant.
  void prepare(const program::Scenario* scenario) { plant_.prepare(scenario); }

  /// At the begin of an instant: what was commanded, and what moves.
  void carry_out();
  /// Then, what the scenario does at it.
  void carry_out(const std::vector<observe::Command>& of_scenario) { plant_.carry_out(of_scenario); }

  /// Standing: somebody has to say how it goes on.
  enum class Course { goes_on, stands, ends };
  /// After an instant was shown.
  Course shown();
  /// Asked again and again while the run stands.
  Course course();
  /// The run is over: what was not carried out any more is told so.
  void close();

  /// Planned commands that could not be carried out: how many, and the first with the reason.
  std::int64_t refused() const { return refused_; }
  const observe::CommandOutcome& first_refused() const { return first_refused_; }

  /// What was set by hand so far, and what waits for the instant `next`; in lockstep only.
  std::vector<observe::Change> changes(Time next) const;

 private:
  static constexpr std::size_t kMostPending = 4096, kMostPressed = 256;

  void fetch();
  void let_go_due();
  void tell_change(program::VarId target, double value, observe::Giver who);
  observe::Refusal press(const observe::Command& command, bool& anew);
  void about_plant(const observe::Command& command);
  void heed_due();
  observe::Refusal heed(const observe::Command& command);
  void answer(const observe::Command& command, observe::Refusal refusal);

  const engine::PlantState& state_;
  PlantCommands plant_;
  CommandInbox& inbox_;
  observe::Observer* observer_ = nullptr;
  Save save_;
  std::vector<observe::Command> planned_, pending_;  ///< pending: for an instant that has not come yet
  std::vector<observe::Command> pressed_;            ///< that are let go at `when`
  std::size_t planned_done_ = 0;
  std::int64_t refused_ = 0;  ///< of the planned ones
  observe::CommandOutcome first_refused_;
  std::vector<observe::Change> changes_;
  bool lockstep_, standing_ = false, ending_ = false;
  bool more_than_sets_ = false;  ///< was done: a stored state would not know it
  std::int64_t steps_left_ = 0;  ///< until it stands again; 0: none is counted
};

}  // namespace isodyne::bench
