#include "isodyne/observe/command.h"

namespace isodyne::observe {

namespace {

enum class About { quantity, fault, note, course };

About about(CommandKind kind) {
  switch (kind) {
#define COMMAND(id, word, what) \
  case CommandKind::id:         \
    return About::what;
#include "isodyne/observe/commands.def"
#undef COMMAND
  }
  return About::note;
}

}  // namespace

const char* command_word(CommandKind kind) {
  switch (kind) {
#define COMMAND(id, word, about) \
  case CommandKind::id:          \
    return word;
#include "isodyne/observe/commands.def"
#undef COMMAND
  }
  return "?";
}

bool about_course(CommandKind kind) {
  return about(kind) == About::course;
}

bool about_fault(CommandKind kind) {
  return about(kind) == About::fault;
}

const char* giver_word(Giver giver) {
  switch (giver) {
    case Giver::scenario:
      return "the scenario";
    case Giver::console:
      return "hand";
    case Giver::repeat:
      return "hand";  // it was, in the run that is repeated
    case Giver::client:
      return "a client";
  }
  return "?";
}

const char* refusal_text(Refusal refusal) {
  switch (refusal) {
    case Refusal::none:
      return "";
    case Refusal::not_settable:
      return "only inputs and parameters can be set while a bench runs";
    case Refusal::outside_limits:
      return "the parameter has limits, and this is outside of them";
    case Refusal::not_a_number:
      return "it is no finite number";
    case Refusal::not_of_type:
      return "it can have no such value";
    case Refusal::not_by_hand:
      return "the fault is not one `by hand`";
    case Refusal::no_trigger:
      return "only a fault `once` has a trigger";
    case Refusal::acting:
      return "the fault acts already";
    case Refusal::no_steps:
      return "a step is one instant at least";
    case Refusal::not_storable:
      return "more was done than values that were set: the state could not be reached again";
    case Refusal::run_over:
      return "the run was over before";
    case Refusal::not_chosen:
      return "the fault was not chosen for this run";
    case Refusal::unknown:
      return "the bench has nothing of this number";
    case Refusal::only_lockstep:
      return "a run that keeps to the wall clock cannot stand";
    case Refusal::not_moving:
      return "nothing moves it";
    case Refusal::too_many:
      return "too much moves already";
    case Refusal::failed:
      return "it could not be written, and why is told at the end of the run";
  }
  return "?";
}

}  // namespace isodyne::observe
