#pragma once
// The line that tells how far a run is.

#include <chrono>
#include <optional>
#include <string>

#include "isodyne/session/run_service.h"
#include "terminal.h"

namespace isodyne::app {

class RunProgress : public session::RunWatcher {
 public:
  explicit RunProgress(const session::RunRequest& request);

  void begins(bench::Run& run) override { run_ = &run; }
  void image(const observe::Image& image) override;
  void waits(const std::string& for_whom) override;
  void ended(const bench::Run&, bench::RunResult&) override { line_.clear(); }

 private:
  void draw(Time now);
  double passed() const;

  std::string title_;
  std::optional<Time> longest_;
  bool paced_;
  std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
  const bench::Run* run_ = nullptr;
  ProgressLine line_;
  std::int64_t images_ = 0;
};

}  // namespace isodyne::app
