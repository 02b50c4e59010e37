#pragma once
// What is done to a plant: faults, and scenarios.

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/fault_kind.h"
#include "isodyne/program/plant.h"

namespace isodyne::program {

/// What `replace with` computes at its tap: from what goes in, what came out at the instant before, and memories, which
/// are hidden variables; other quantities are those of the instant before.
struct Replacement {
  struct Memory {
    VarId id = kNone;
    NodeId start = kNone, next = kNone;  ///< next: its value after an instant
  };
  VarId it = kNone, was = kNone;
  std::vector<Memory> memories;
};

struct Fault {
  enum class When { whole_run, from, between, once, while_, by_hand };
  std::string name, doc;
  VarId active = kNone;
  std::int32_t tap = kNone;        ///< kNone: it is about messages, gates or a place
  std::string of_all;              ///< the vector that it is on as a whole; empty: it is on one value
  std::vector<std::int32_t> also;  ///< then, the taps of its other elements, in their order
  std::vector<VarId> gates;        ///< whose edges it changes, without a tap; of a swap two
  std::string place;               ///< of a network: what it shorts or opens; empty: it is about something else
  std::int32_t other = kNone;      ///< tap that a swap swaps with
  /// Of messages: those to or from a controller, or between controllers.
  std::int32_t controller = kNone;
  bool to_controller = false;
  std::int32_t messages = kNone;
  FaultKind kind = FaultKind::offset;
  NodeId amount = kNone;
  Replacement replacement;
  bool truth = false;                  ///< what is faulty is a truth
  Time every{};                        ///< of spikes
  Time lag{};                          ///< of a delay, of jitter at most; how long a ramp takes
  std::string amount_text, when_text;  ///< as written
  When when = When::whole_run;
  Time begin{};             ///< from; the earliest of `between`
  std::optional<Time> end;  ///< to; the latest begin of `between`
  NodeId condition = kNone;
  std::optional<Time> lasting;
  NodeId until = kNone;    ///< over when this comes true
  Time pulse{}, period{};  ///< acts for the first of these out of each of the second; 0: throughout
  /// Quantities of which a run takes `begin` and `lasting` when it begins, s; kNone: it has none. Where the amount is a
  /// number, it is a quantity too. They have the values that are written here, unless a run is given others.
  VarId begin_given = kNone, lasting_given = kNone;
  Span span;

  /// Those whose values it changes, but for what a swap swaps with.
  std::vector<std::int32_t> taps() const {
    std::vector<std::int32_t> all;
    if (tap != kNone) all.push_back(tap);
    all.insert(all.end(), also.begin(), also.end());
    return all;
  }
};

/// Faults that may act on one place together, in this order.
struct Composition {
  std::vector<std::int32_t> faults;
  Span span;
};

/// One step of a scenario; sub-scenarios are in place, blocks are jumps. Steps run one after the other on a track.
struct ScenarioStep {
  enum class Kind {
    set,      ///< target becomes value
    step,     ///< target is moved by value
    ramp,     ///< target moves to value over duration
    play,     ///< target follows table for duration
    release,  ///< target, a channel that was set, is let go
    wait,     ///< until value, at most duration
    hold,     ///< duration
    expect,   ///< value: at once, within duration, or throughout duration
    inject,   ///< fault
    clear,    ///< fault
    arm,      ///< fault
    disarm,   ///< fault
    repeat,   ///< places[0] is behind the loop; value: how many rounds, or until when
    again,    ///< places[0] is its repeat
    fork,     ///< places: first steps of tracks; goes on when all have come to their join
    join,     ///< a track is over
    either,   ///< places: one is chosen
    jump,     ///< places[0]
    stop,     ///< places: a fork, and which of its tracks is over
    end       ///< of the scenario
  };
  Kind kind = Kind::hold;
  VarId target = kNone;  ///< what people set; a tapped value is set through its healthy variable
  NodeId value = kNone;  ///< new value, or the condition waited for
  Time duration{};       ///< over, within, hold
  bool whole = false;    ///< expect: throughout; repeat: until value is true
  bool timed = false;    ///< expect: it has a duration
  std::int32_t tap = kNone, table = kNone, fault = kNone;
  double draw = 0;         ///< either: its number among those of the scenario that it is written in …
  std::string written_in;  ///< … which is this one
  std::vector<std::int32_t> places;
  std::vector<std::string> names;  ///< of the tracks of a fork
  NodeId margin = kNone;           ///< of expect
  Unit margin_unit;
  std::string text;  ///< as people read it
  Span span;
};

const char* step_word(ScenarioStep::Kind kind);

struct Scenario {
  struct Start {
    VarId target = kNone;
    double value = 0;
    Span span;
  };
  struct End {
    NodeId when = kNone;
    Span span;
  };
  std::string name, doc;
  std::string needs;  ///< a parameter without a value: it can only be done by others
  std::vector<Start> start;
  Span settled;  ///< known: networks begin in their steady state; what `start` gives goes before it
  std::vector<ScenarioStep> steps;
  std::vector<End> ends;
  Span span;
};

/// Inputs and parameters that are set together, to values of the bench as they are then.
struct NamedValues {
  std::string name, doc;
  std::vector<Assignment> values;
};

struct Stimulus {
  std::vector<Fault> faults;
  std::vector<Composition> compositions;

  /// The place of a fault in the order in which those on one place act.
  std::size_t rank_of_fault(std::int32_t fault) const;
  std::vector<Scenario> scenarios;
  std::vector<NamedValues> value_sets;
};

}  // namespace isodyne::program
