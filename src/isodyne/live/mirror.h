#pragma once
// What somebody who watches knows of a run: what it has, how it stands, what has happened. Fed with what the run says
// (docs/door.md), a line at a time; no socket and no clock of its own.

#include <array>
#include <chrono>
#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/json.h"
#include "isodyne/live/history.h"
#include "isodyne/live/spoken.h"

namespace isodyne::live {

struct Signal {
  std::string name, type, role, unit, doc;
  double factor = 1, offset = 0;  ///< value in SI = value in the unit * factor + offset
  std::vector<std::string> labels;
  bool can_be_set = false;
  std::optional<std::pair<double, double>> limits;  ///< SI

  bool truth() const { return type == "bool"; }
  bool number() const { return labels.empty() && !truth(); }
  /// Of what traces with one axis share.
  std::string axis() const;
};

struct Value {
  double si = 0;
  std::string read;  ///< empty: not known yet
};

struct Item {
  std::string kind, label;
  std::vector<std::string> names;
  std::optional<std::pair<double, double>> range;
  double step = 0, over = 0;
};

struct Board {
  std::string name, title;
  std::vector<Item> items;
};

struct FaultState {
  std::string name;
  bool by_hand = false, in_run = false, acts = false;
  double since = 0;
};

/// How a paced run keeps to the wall clock; times in microseconds: median, 99th percentile, longest.
struct RunTiming {
  bool known = false, paced = false;
  std::int64_t steps = 0, late = 0;
  std::array<double, 3> lateness{}, step{};
  struct Controller {
    std::string name;
    std::int64_t exchanges = 0, late = 0, missed = 0;
  };
  std::vector<Controller> controllers;
};

struct RunEvent {
  std::size_t number = 0;
  double at = 0;
  std::string kind, subject, text;
};

struct Captured {
  std::vector<std::string> names;
  std::map<std::string, History> rows;
  double at = 0, from = 0, to = 0;
  std::size_t count = 0;
  bool whole = true;
  std::string lacks, file;
  /// What it brought for requirements, judged anew.
  struct Judged {
    std::string requirement, verdict, margin;  ///< margin: as people read it; empty: there is none
    bool broken() const { return verdict == "broken"; }
  };
  std::vector<Judged> judged;
};

class Mirror {
 public:
  static constexpr std::size_t kMostEvents = 5000;

  /// What is to be sent to the run since this was last asked.
  std::vector<std::string> outgoing();
  /// A line of the run. What is none of docs/door.md is counted and left out.
  void hear(std::string_view line);
  void lost(const std::string& why);
  /// What time it is: who is asked again and again and says nothing is silent.
  void clock(std::chrono::steady_clock::time_point instant);

  /// A call; `then` gets its whole answer (`result` or `error`).
  void ask(const std::string& method, Json params, std::function<void(const Json&)> then = nullptr);
  /// All of it anew: describe, events, and how it stands.
  void begin();
  /// How it stands, for those who look at it often: faults, verdicts, timing.
  void look_again();
  /// What is looked at, so often a second. What is no longer among them keeps its history.
  void look_at(const std::vector<std::string>& names, double per_second);
  /// Of a controller.
  void look_at_log(const std::string& controller);
  void capture(Json params);
  /// The same for somebody: who gets it when it is whole, or nothing if it does not come.
  void capture_for(Json params, std::function<void(const Captured*)> then);

  const Signal* signal(const std::string& name) const;
  const std::vector<Signal>& signals() const { return signals_; }
  Value value(const std::string& name) const;
  const History& history(const std::string& name) const;

  static constexpr std::int64_t kSilent = 3;
  std::int64_t silent_s = 0;  ///< for so long nothing has come; from kSilent on that is to be told
  bool known = false;         ///< describe was answered
  bool begun = false;         ///< there are values; a run may have to wait for its controllers
  std::string bench, scenario, version;
  double step = 0, now = 0;
  bool paced = false, stands = false;
  double speed = 1;  ///< of a paced run: simulated seconds a second
  std::vector<Board> boards;
  std::vector<FaultState> faults;
  std::vector<std::string> scenarios, requirements, sets, tables, controllers;
  std::map<std::string, double> broken;  ///< requirements that are broken so far: since
  RunTiming timing;
  std::deque<RunEvent> events;
  std::size_t events_dropped = 0;    ///< here; the run has them
  std::int64_t events_left_out = 0;  ///< that the run no longer had
  std::int64_t left_out = 0;         ///< pictures that did not come
  std::size_t not_understood = 0;
  std::deque<Captured> captures;  ///< the newest last
  std::size_t waits_for_capture = 0;
  std::map<std::string, std::string> failed;  ///< controllers: what was said of them last
  std::map<std::string, std::string> logs;
  bool over = false;
  std::string ending;  ///< why it is over
  std::string message;
  bool message_bad = false;
  /// Something is to be drawn anew.
  bool changed = true;

  void say(const std::string& text, bool bad = false) { message = text, message_bad = bad, changed = true; }

 private:
  std::size_t lines_ = 0, lines_then_ = 0;  ///< that have come
  std::optional<std::chrono::steady_clock::time_point> heard_;
  void described(const Json& result);
  void take_event(const Json& event);
  void update(const Json& params);
  void captured(const Json& params);
  void take_page(std::int64_t capture, std::int64_t take, std::size_t from, Captured into);

  std::vector<std::string> out_;
  std::map<std::int64_t, std::function<void(const Json&)>> waiting_;
  std::int64_t number_ = 0;
  std::vector<Signal> signals_;
  std::map<std::string, std::size_t> places_;
  std::map<std::string, Value> values_;
  std::map<std::string, History> histories_;
  std::int64_t watch_ = 0;
  std::vector<std::string> watched_, wanted_;
  double rate_ = 0;
  struct Wanted {
    std::vector<std::string> names;
    std::function<void(const Captured*)> then;  ///< null: for the scope
  };
  std::map<std::int64_t, Wanted> captures_of_;
  std::map<std::string, std::size_t> log_at_;
};

/// "12.5 s", "1 h 4 min": simulated time as people read it.
std::string clock_text(double seconds, double step);
/// A value in SI as people read it, in the unit of the signal.
std::string number_text(const Signal& signal, double si);

}  // namespace isodyne::live
