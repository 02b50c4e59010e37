#pragma once
// A controller as a program: started here, reached over a link of shared memory or a socket, watched, and started again
// by rule.

#include <atomic>

#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/program/log_keeper.h"

namespace isodyne::ports {

class ProgramPort : public ControllerPort {
 public:
  struct Plan {
    std::string command;  ///< file and arguments, with blanks between them
    std::string folder;   ///< of the bench: where the program runs, and what its file is relative to
    std::string log;      ///< file that receives what it prints
    bool over_socket = false;
    int restarts = 0;
    std::chrono::nanoseconds ready_within = std::chrono::seconds(10);  ///< after a restart
    LinkPort::Plan link;
  };
  ProgramPort(std::string name, Layout layout, Plan plan);
  ~ProgramPort() override;

  Pace pace() const override { return Pace::waits; }
  Status open(Time period) override;
  Result<Standing> look(std::span<const double> reads, std::span<const double> writes) override {
    return link_.look(reads, writes);
  }
  std::string missing() const override { return link_.missing(); }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  Traffic traffic() const override;
  std::int64_t restarts() const override { return restarts_.load(std::memory_order_relaxed); }
  void close() override;

 private:
  Status spawn();
  Status alive();
  void end_child(bool kindly);

  std::string name_;
  Plan plan_;
  LogKeeper log_;
  std::size_t most_bytes_;
  LinkPort link_;
  Time period_{};
  int child_ = -1;
  std::atomic<int> restarts_{0};
};

}  // namespace isodyne::ports
