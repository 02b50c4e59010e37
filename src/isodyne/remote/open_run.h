#pragma once
// A run that others may come into: they look at it, and give it commands, through a socket in its folder.
//
// Who watches a run (the run's thread in lockstep, the observers' in a paced run) leaves the newest image and what has
// happened here; a thread of its own speaks with clients. docs/door.md specifies every method. Nothing that a client
// does makes the run wait: pictures are left out for who is slow, and counted; events wait for them here.

#include <atomic>
#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "isodyne/remote/captures.h"
#include "isodyne/remote/clients.h"
#include "isodyne/remote/rpc.h"
#include "isodyne/session/run_service.h"

namespace isodyne::remote {

/// Of the socket, in the folder of the run.
constexpr const char* kSocketName = "door";

class OpenRun : public session::RunWatcher {
 public:
  /// `folder`: of the run; it is there when the run begins.
  OpenRun(std::shared_ptr<const session::Bench> bench, std::string folder);
  ~OpenRun() override { done(); }

  void begins(bench::Run& run) override;
  void image(const observe::Image& image) override;
  void rows(const observe::Rows& rows) override;
  void edges(const observe::Edges& edges) override;
  void event(const observe::Event& event) override;
  void ended(const bench::Run& run, bench::RunResult& result) override;
  /// It could not let anybody in.
  bool good() const override { return why_not_.empty(); }

 private:
  /// Who asked, and whether others asked in the same message.
  struct Batch {
    std::vector<Json> answers;
    std::size_t owed = 0, bytes = 0;
  };
  struct Asked {
    int client = 0;
    std::optional<Json> id;
    std::shared_ptr<Batch> batch;
    bool told_later = false;  ///< it was answered already, and what came of it is told when that is known
  };
  struct Watch {
    int client = 0;
    std::int64_t number = 0;
    std::vector<program::VarId> ids;
    bool reads = false;  ///< also as people read them
    std::chrono::nanoseconds every{};
    std::chrono::steady_clock::time_point next;
    std::int64_t left_out = 0;
    std::vector<double> least, greatest;  ///< since the last update
  };
  /// Somebody waits for something, or wants to have what is around it.
  struct Capturing {
    Asked asked;
    bool waits = false;  ///< for the answer
    std::string condition{};
    Time within{};
    std::vector<program::VarId> ids{};
    bool ends = false;  ///< the run, when it is whole
    std::int64_t taken = 0;
    std::deque<Captures::Take> takes{};  ///< the newest; the last has the number `taken`
  };
  struct Seen {
    observe::Event event;
    std::string note;
  };

  // Of the thread that speaks:
  void work();
  void heard(int client, std::string_view line);
  void call(const Call& call, const Asked& asked);
  void answer(const Asked& asked, Json message);
  void result(const Asked& asked, Json result);
  void refuse(const Asked& asked, RpcError code, const std::string& text, Json data = nullptr);
  void describe(const Json& params, const Asked& asked);
  void read(const Json& params, const Asked& asked);
  void watch(const Json& params, const Asked& asked);
  void unwatch(const Json& params, const Asked& asked);
  void events(const Json& params, const Asked& asked);
  void faults(const Json& params, const Asked& asked);
  void verdicts(const Json& params, const Asked& asked);
  void timing(const Json& params, const Asked& asked);
  void log(const Json& params, const Asked& asked);
  void wait(const Json& params, const Asked& asked);
  void capture(const Json& params, const Asked& asked);
  void captured(const Json& params, const Asked& asked);
  void uncapture(const Json& params, const Asked& asked);
  std::string requirements_in(const Json& params, std::vector<std::int32_t>& to) const;
  static std::string span_in(const Json& params, const char* name, Time& to);
  std::unique_ptr<session::Probe> condition_in(const std::string& text, const Asked& asked);
  std::int64_t capture_for(Capturing capturing, Captures::Wish wish);
  void take_captures();
  void waited(const Capturing& one, const Captures::Take& take);
  void take_rows(Capturing& one, Captures::Take take);
  Status write_take(const std::string& file, const Capturing& one, const Captures::Take& take) const;
  void command(observe::CommandKind kind, const Json& params, const Asked& asked);
  void give(observe::Command command);
  std::string fill(observe::Command& command, const Json& params);
  std::string fill_play(observe::Command& command, const Json& params) const;
  std::string fill_load(observe::Command& command, const Json& params);
  std::string values_of_set(const std::string& name, observe::ValueSet& to);
  std::string find_target(const Json& params, observe::Command& command) const;
  std::string why_not(const observe::CommandOutcome& outcome) const;
  void give_waiting();
  void take_outcomes();
  void came_of(const observe::CommandOutcome& outcome);
  void send_updates(bool last);  ///< last: of those to whom some were not sent
  bool send_events();
  static constexpr std::size_t kMostSeen = 200'000;
  Json event_json(std::size_t number);
  std::size_t first_event();
  bool in_run(std::size_t fault) const;
  using Since = std::vector<std::optional<Time>>;
  std::pair<Time, Since> shown(const Since& since);
  std::optional<std::pair<Time, std::vector<double>>> newest(const std::vector<program::VarId>& ids);
  std::chrono::milliseconds until_next() const;
  void done();

  std::shared_ptr<const session::Bench> bench_;
  std::shared_ptr<const program::Program> program_;
  std::string folder_, why_not_;
  bench::CommandInbox* inbox_ = nullptr;
  const bench::Run* run_ = nullptr;
  std::unique_ptr<Clients> clients_;
  std::thread thread_;
  std::atomic<bool> over_{false};

  std::mutex mutex_;  ///< what both threads have
  std::vector<double> newest_;
  Time at_{};
  bool any_ = false;       ///< an image was there
  std::deque<Seen> seen_;  ///< the newest kMostSeen; the first has the number first_seen_
  std::size_t first_seen_ = 0;
  Since acts_, broken_;  ///< per fault and requirement: since when
  std::vector<Watch> watches_;
  Captures captures_;
  Json ending_;

  std::atomic<std::int64_t> pending_{0}, followers_{0};
  // Of the thread that speaks:
  std::map<std::int64_t, Asked> asked_;                   ///< by ticket
  std::deque<observe::CommandOutcome> unseen_;            ///< their instants have not been shown
  std::deque<observe::Command> waiting_;                  ///< for room in the inbox
  std::map<int, std::size_t> follows_;                    ///< per client: the next event that it gets
  std::map<std::int64_t, Capturing> capturing_;           ///< by the number of the capture
  std::deque<std::string> texts_;                         ///< that commands point at
  std::vector<std::unique_ptr<observe::ValueSet>> sets_;  ///< the same
  std::int64_t ticket_ = 0, watch_ = 0, given_ = 0;       ///< given: what came of them is not known yet
  bool stands_ = false;                                   ///< somebody said so, or counts its steps
};

}  // namespace isodyne::remote
