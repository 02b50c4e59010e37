#pragma once
// The one kind of thing by which a running plant is changed from outside of its text: somebody's command, with a ticket
// to know it by, the instant from which on it counts, who gave it, and what came of it.
//
// Commands are small and fixed in size, so that they can be handed to the stepping thread without a lock and without
// memory being asked for. Texts belong to whoever sends them, and have to outlive the run.

#include <cstdint>
#include <utility>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/program/program.h"

namespace isodyne::observe {

enum class CommandKind : std::uint8_t {
#define COMMAND(id, word, about) id,
#include "isodyne/observe/commands.def"
#undef COMMAND
};

const char* command_word(CommandKind kind);
/// Whether it is about how the run goes on, and not about the plant.
bool about_course(CommandKind kind);
bool about_fault(CommandKind kind);

/// Who gave a command.
enum class Giver : std::uint8_t { scenario, console, repeat, client };
const char* giver_word(Giver giver);

/// Values that are set together, or none of them.
struct ValueSet {
  std::vector<std::pair<program::VarId, double>> values;  ///< SI
};

struct Command {
  std::int64_t ticket = 0;  ///< of whoever gives it
  Time when{};              ///< at the first instant that is not before; past: the next one
  CommandKind kind = CommandKind::set;
  Giver who = Giver::console;
  program::VarId target = program::kNone;  ///< of set, press, ramp, play, release: an input or a parameter
  std::int32_t index = program::kNone;     ///< of inject, clear, arm and disarm: the fault; of play: the table
  double value = 0;                        ///< of set and ramp: SI; of press: 1
  Time over{};  ///< of ramp and play: how long it takes; of press: how long it is true; of wait: how long it might have
                ///< taken
  std::int64_t steps = 0;  ///< of step: how many instants of the bench
  /// Of mark: the note; of wait: what has come true; of save: the file; of load: where the values are from.
  const char* text = nullptr;
  const ValueSet* values = nullptr;  ///< of load
};

/// Why a command was not carried out.
enum class Refusal : std::uint8_t {
  none,            ///< it was
  not_settable,    ///< only inputs and parameters of the bench can be set while it runs
  outside_limits,  ///< the parameter has limits
  not_a_number,    ///< the value is none
  not_of_type,     ///< no truth, no whole number, no label; or it cannot move
  not_chosen,      ///< the fault was not chosen for this run
  not_by_hand,     ///< the fault is not made to be injected: it begins by itself
  no_trigger,      ///< the fault has none that could be armed: it is not `once`
  acting,          ///< the fault that should be armed
  unknown,         ///< there is no quantity, fault or table of this number
  only_lockstep,   ///< a run that keeps to the wall clock cannot stand
  not_moving,      ///< nothing moves what should be released
  too_many,        ///< too many quantities move already
  no_steps,        ///< fewer than one
  not_storable,    ///< more was done than a stored state knows: it could not be reached again
  run_over,        ///< the run ended before
  failed           ///< what had to be written could not be
};
/// "only inputs and parameters can be set while a bench runs"
const char* refusal_text(Refusal refusal);

/// What came of a command, and at which instant.
struct CommandOutcome {
  Command command;
  Time at{};
  Refusal refusal = Refusal::none;
};

}  // namespace isodyne::observe
