#pragma once
// Things that happen at an instant, as small records that the stepping thread can hand on without
// allocating; their words are made later.

#include <cstdint>
#include <optional>
#include <string>

#include "isodyne/core/time.h"
#include "isodyne/observe/command.h"
#include "isodyne/observe/edges.h"
#include "isodyne/observe/rows.h"
#include "isodyne/program/program.h"

namespace isodyne::observe {

enum class EventKind {
#define EVENT(id, word) id,
#include "isodyne/observe/events.def"
#undef EVENT
};

const char* event_word(EventKind kind);

/// How a run came to its end; the last three leave no whole evidence. Cut short: the time that it was given was over
/// before its scenario was. Broken off: its process was ended, and no controller is known to be to blame; cut off: so
/// says its recording, which nobody closed.
enum class Ending {
  completed,
  cut_short,
  interrupted,
  wait_timed_out,
  controller_failed,
  diverged,
  not_recorded,
  broken_off,
  cut_off
};

const char* ending_word(Ending ending);
std::optional<Ending> ending_named(std::string_view word);
/// Whether it went as far as was asked.
inline bool as_asked(Ending ending) {
  return ending == Ending::completed || ending == Ending::cut_short;
}

struct Event {
  Time at{};
  EventKind kind = EventKind::action;
  /// action, expected: step of the scenario; fault: fault; mode: state machine; lost: quantity; saturated: number of the channel (see
  /// program::value_of_channel); controller: controller; change: quantity; command: see event_of; overrun: number of
  /// late steps; broken, verdict: requirement; ended: Ending.
  std::int32_t subject = 0;
  std::int32_t detail =
      0;             ///< mode: transition; action, expected: scenario; controller: ControllerNews; verdict: Answer; change: Giver
  double value = 0;  ///< action: the value set; expected: whether it came true; change: the new one; saturated: the
                     ///< value sampled; lost: what was there; overrun: worst lateness, ns
  // Of a command:
  const char* note = nullptr;           ///< what its giver wrote; outlives who is told
  Time over{};                          ///< ramp, play: how long it takes; wait: might have taken
  std::int32_t table = program::kNone;  ///< play: which
};

/// Of an event of a command: which kind of command it was.
std::optional<CommandKind> command_kind(const Event& event);
/// Of a command that was carried out. Its subject is the quantity that it is about, or the fault.
Event event_of(const Command& command, Time at);
/// And back, from what subject_text() and event_text() say of it; nothing if that is no command about the plant.
std::optional<Command> command_of(const program::Program& program, Time at, const std::string& subject,
                                  const std::string& text, double value);

/// A quantity that somebody changed while the run went on; done at the begin of the instant.
struct Change {
  Time at{};
  program::VarId target = program::kNone;
  double value = 0;
};

enum ControllerNews : std::int32_t { kControllerReady = 0, kControllerFailed = 1, kControllerRestarted = 2 };

/// "gate_slow", "lower.leaf"
std::string subject_text(const program::Program& program, const Event& event);
/// "resting -> moving", "set request = up"
std::string event_text(const program::Program& program, const Event& event);

/// All variables at one instant. Valid only during the call that hands it over.
struct Image {
  Time at{};
  const double* variables = nullptr;
};

/// Whoever wants to see a run. Called on the stepping thread, in the order of the instants.
class Observer {
 public:
  virtual ~Observer() = default;
  virtual void image(const Image&) {}
  /// What quick groups did between the image before and the one that follows, if anybody looks at that.
  virtual void rows(const Rows&) {}
  /// Edges of gates between the same two images, if anybody looks at them one by one.
  virtual void edges(const Edges&) {}
  virtual void event(const Event&) {}
  /// Before the first instant, some times a second: for whom the run waits, and how far they are. On the thread of the
  /// run, before any image.
  virtual void waits(const std::string& for_whom) { (void)for_whom; }
  /// False asks for the end of the run: what has been seen cannot be kept.
  virtual bool good() const { return true; }
};

}  // namespace isodyne::observe
