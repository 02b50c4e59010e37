#pragma once
// What commands do to a plant, and what of it is refused: values that are set, that move to another one or along a
// table, and faults. Whose command it is, when its turn comes and what is told of it is the door's (door.h).
//
// Stepping thread only; never allocates after the constructor and prepare().

#include <vector>

#include "isodyne/bench/fault_player.h"
#include "isodyne/observe/command.h"

namespace isodyne::bench {

/// Whether a quantity can have this value: its type, and its limits.
observe::Refusal fits(const program::Program& program, const program::Variable& v, double value);

class PlantCommands {
 public:
  /// All of them outlive it.
  PlantCommands(const program::Program& program, engine::PlantState& state, FaultPlayer& faults);
  /// Makes room in the state for channels that are going to be set, before the first instant.
  void prepare(const program::Scenario* scenario);

  /// Done now, or why it is not; nothing has changed then.
  observe::Refusal carry_out(const observe::Command& command);
  /// The same of a scenario, which was checked.
  void carry_out(const std::vector<observe::Command>& of_scenario);
  /// What is on its way comes as far as it is at this instant.
  void move();

  /// Of a `set` or `load`: why it could not be done, without doing it.
  observe::Refusal refusal_of(const observe::Command& command) const;

 private:
  /// A channel that is set keeps its value, whatever comes through it: by a tap.
  struct Held {
    program::VarId target = program::kNone;
    std::int32_t tap = program::kNone;
    std::size_t slot = 0;
  };
  /// A quantity on its way to a value, or along a table.
  struct Moving {
    observe::Command command;
    Time since{};
    double from = 0;
  };
  static constexpr std::size_t kMostMoving = 256;

  observe::Refusal loadable(const observe::Command& command) const;
  observe::Refusal try_load(const observe::Command& command);
  observe::Refusal try_fault(const observe::Command& command);
  observe::Refusal settable(const observe::Command& command) const;
  observe::Refusal playable(const observe::Command& command) const;
  void write(program::VarId target, double value);
  void let_go(program::VarId target);
  bool stop_moving(program::VarId target);
  Held* held(program::VarId target);

  const program::Program& program_;
  engine::PlantState& state_;
  FaultPlayer& faults_;
  std::vector<Held> held_;
  std::vector<Moving> moving_;
  std::vector<iso_table> tables_;
};

}  // namespace isodyne::bench
