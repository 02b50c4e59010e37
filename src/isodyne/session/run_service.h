#pragma once
// The run service: a run is asked for, done, judged, and leaves its evidence. Every command that runs a bench calls it,
// and whoever runs thousands of them does.
//
// run() does it in a process of its own (worker.h), since what a controller's library does to its process it does to
// the run. run_here() does it in this one: for a worker that does many, and for commands that are a worker as a whole.
// One run at a time in a process: rights of the stepping thread, code of controllers and what guards it belong to the
// process. A second one at the same time is refused. It does not print: what is to be said is in the outcome.

#include <atomic>
#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/bench/run.h"
#include "isodyne/check/load.h"
#include "isodyne/record/run_recorder.h"
#include "isodyne/session/stored_state.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

/// A checked bench, with what it takes to repeat a run of it. Never changes once it is made; runs may share it.
struct Bench {
  std::shared_ptr<const program::Program> program;
  std::vector<std::pair<std::string, std::string>> sources;  ///< relative name, text; the main file first
  std::string harness;                                       ///< empty: the whole bench
  std::vector<std::string> left_out;                         ///< by the harness
  /// "examples/canal-lock/": controllers, their maps and what they read are relative to it.
  std::string folder;
  /// The folder itself.
  std::string place() const { return folder.empty() ? "." : folder; }
};
/// Of a bench that was loaded without errors.
std::shared_ptr<const Bench> bench_of(const check::Loaded& loaded, const std::string& folder,
                                      const std::string& harness = {});

/// Which evidence a run leaves.
struct Evidence {
  std::string folder;             ///< there, and empty; without one nothing is written
  bool judged = true;             ///< whether requirements are looked at
  bool in_catalogue = true;       ///< of this user's runs
  bool go_on_unrecorded = false;  ///< the run matters more than its recording
  record::PiecePlan pieces;       ///< the recording in pieces; none: as a whole
  std::string save_state;         ///< a file for the state at the end; empty: none
};

struct RunRequest {
  std::shared_ptr<const Bench> bench;
  bench::RunPlan plan;                            ///< free of bench::trouble_with()
  std::chrono::milliseconds answer_within{1000};  ///< a controller that is silent for longer is lost
  bench::PortMaker ports;                         ///< nothing: those that the settings of the bench name
  std::optional<StoredState> from;                ///< see go_on_from(); what is before it is not shown
  bool among_others = false;                      ///< runs beside it have the other processors: it takes no second one
  std::vector<std::string> remarks;               ///< that a reader of its verdicts has to know
  Evidence evidence;
};

/// Lets the run go on from a state: it is reached again by replaying what was done by hand, and compared.
Status go_on_from(RunRequest& request, StoredState state);

/// Who looks at a run while it goes on: on the thread of the run, in its process. What a watcher keeps is lost with
/// that process; what it wants to be known it adds to the result.
class RunWatcher : public observe::Observer {
 public:
  /// The run is about to begin, and is there until ended().
  virtual void begins(bench::Run& run) { (void)run; }
  virtual void ended(const bench::Run& run, bench::RunResult& result) { (void)run, (void)result; }
};

/// A line for people.
struct Notice {
  bool error = false;
  std::string text;
};

/// Whether several runs of it can go on at once: an address belongs to one of them.
bool runs_beside(const program::Program& program, const std::string& setting);

struct RunOutcome {
  observe::Ending ending = observe::Ending::not_recorded;
  /// With verdicts; empty where there are none: the run did not begin, or what it did is no evidence.
  std::optional<Summary> summary;
  std::vector<Notice> said;  ///< in order
  bool recorded = false;     ///< there is a recording, and it is whole as far as it goes
  bool whole = false;        ///< all evidence that was asked for is there
  std::string folder;

  /// It went as far as was asked, and shows it.
  bool completed() const;
  /// Why it did not, in a line.
  std::string why() const;
};

RunOutcome run(const RunRequest& request, const std::vector<RunWatcher*>& watchers = {});
RunOutcome run_here(const RunRequest& request, const std::vector<RunWatcher*>& watchers = {},
                    const std::atomic<bool>* stop = nullptr);

/// How the run will be known.
record::RunIdentity identity_of(const RunRequest& request);
/// "uplock-gate_slow": of its folder.
std::string name_of(const RunRequest& request);

/// For the way between two processes.
std::string to_json(const RunOutcome& outcome);
Result<RunOutcome> read_outcome(const std::string& json);

}  // namespace isodyne::session
