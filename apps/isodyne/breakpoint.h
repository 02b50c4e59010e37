#pragma once
// Stopping a run on a condition: look at everything, step, change something, go on.
//
// Runs in lockstep only. The stepping thread looks at each image and makes the run stand where it is time to; a thread
// of its own reads the keyboard, and says through the door of the run what is to be done. What is typed is checked as a
// text of the bench would be, in a bench of its own, so that the run itself is not touched.

#include <condition_variable>
#include <deque>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "isodyne/engine/quick_images.h"
#include "isodyne/session/run_service.h"
#include "isodyne/session/typed.h"
#include "subcommand.h"

namespace isodyne::app {

class Breakpoint : public session::RunWatcher {
 public:
  struct Plan {
    std::string condition;            ///< --break
    std::optional<std::string> dump;  ///< --break-dump: write there and go on
  };
  /// Says what is wrong, and has then not understood it.
  Breakpoint(Plan plan, std::shared_ptr<const session::Bench> bench);
  ~Breakpoint() override { done(); }
  bool understood() const { return understood_; }
  /// What the condition reads.
  const std::vector<program::VarId>& reads() const { return condition_->reads(); }
  /// The bench that runs, where it is another than that which the condition was understood with.
  void of(std::shared_ptr<const session::Bench> bench);

  /// Begins to read the keyboard.
  void begins(bench::Run& run) override;
  /// Of the stepping thread: looks at an image, and makes the run stand there if it is time to.
  void image(const observe::Image& image) override;
  /// What comes true between two instants of the bench makes it stand at the next one.
  void rows(const observe::Rows& rows) override;
  void ended(const bench::Run& run, bench::RunResult& result) override;

 private:
  void done();
  /// Where the run stands, for the thread at the keyboard.
  struct Stop {
    Time at{};
    std::vector<double> values;
    std::string reason;
    observe::Image image() const { return {at, values.data()}; }
  };
  void write_dump(const observe::Image& image, const std::string& reason);

  // Of the thread at the keyboard, while the run stands:
  void work();
  void say_where() const;
  void say_refused();
  void say_refused(const observe::CommandOutcome& outcome) const;
  bool read_line(std::string& line);
  bool command(const std::string& line);
  void go(const observe::Command& command);
  bool step(const std::string& words);
  bool until(const std::string& words);
  void set(const std::string& words);
  void fault(observe::CommandKind kind, const std::string& name);
  void save(const std::string& file);
  void show(const std::string& words) const;
  std::int64_t give(observe::Command command);

  Plan plan_;
  std::shared_ptr<const session::Bench> bench_;
  std::shared_ptr<const program::Program> program_;
  bench::CommandInbox* inbox_ = nullptr;
  std::unique_ptr<session::Probe> condition_;
  bool understood_ = true, was_ = false, came_ = false;
  std::optional<engine::QuickImages> between_;
  std::string pending_;  ///< why it is to stand at the next instant of the bench

  // Of whoever runs: the stepping thread while the run goes on, the other one while it stands.
  std::unique_ptr<session::Probe> until_;
  std::string until_text_;
  std::int64_t steps_ = -1;  ///< until the next stop; −1: none is counted
  Stop stop_;

  std::mutex mutex_;
  std::condition_variable changed_;
  bool standing_ = false, done_ = false;
  std::int64_t ticket_ = 0;
  std::deque<std::string> texts_;  ///< that commands point at
  std::string typed_;              ///< and not looked at yet
  bool explained_ = false;         ///< what can be typed was told
  std::thread keyboard_;
};

}  // namespace isodyne::app
