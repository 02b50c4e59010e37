#pragma once
// The controllers of a run: how they come up, what is exchanged with them, and what happens when one is lost.
//
// A controller comes up before the first instant and is then asked once a period; its answer is valid one period later.
// In lockstep, and where a port answers at once, the stepping thread asks; in a paced run an AsyncPort waits in its
// place. Stepping thread only; after bring_up() nothing here allocates unless a controller fails.

#include <atomic>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/channels.h"
#include "isodyne/bench/fault_player.h"
#include "isodyne/bench/message_lines.h"
#include "isodyne/bench/reasons.h"
#include "isodyne/bench/run_plan.h"
#include "isodyne/bench/run_result.h"
#include "isodyne/ports/async_port.h"

namespace isodyne::bench {

class Controllers {
 public:
  /// All of them outlive it.
  Controllers(const program::Program& program, const RunPlan& plan, const PortMaker& make_port,
              const FaultPlayer& faults, MessagePlayer& messages, Channels& channels, engine::PlantState& state);
  /// Who is told of events; before anything else.
  void tell(observe::Observer& observer) { seen_ = &observer; }
  /// How the processor treats tiny numbers outside the run.
  void compute_with(std::uint64_t plain_numbers) { plain_numbers_ = plain_numbers; }

  // Each gives the reason why the run ends, if it does.
  std::optional<Reason> open();
  /// The plant stands at its start until every controller is ready; then they all begin. `told`: for whom is waited.
  std::optional<Reason> bring_up(const std::atomic<bool>& stop, observe::Observer& told);
  /// Answers that become valid now, into the plant, and messages between controllers.
  std::optional<Reason> take_answers();
  std::optional<Reason> exchange();

  /// See ports::ControllerPort.
  const double* logic_values(std::size_t controller) const { return controllers_[controller].port->logic_values(); }
  /// Which of them keep something that a copy of this process would not have, or would share; "": none does.
  std::string not_to_copy() const;
  /// This process is a copy.
  Status copied();

  /// Whether there is an exchange at this instant.
  bool due() const;
  /// From now on a thread, which begins with `prepare`, waits for each controller that has to be waited for.
  void keep_beside(void (*prepare)());
  /// Ends them all, and says what there was with them.
  void close(RunResult& result);
  /// What there was with each so far.
  std::vector<const ControllerReport*> reports() const;

 private:
  struct Wired {
    const program::Controller* controller = nullptr;
    const program::Setting* setting = nullptr;
    std::unique_ptr<ports::ControllerPort> port;
    std::unique_ptr<ports::AsyncPort> async;  ///< in a paced run, of a port that has to be waited for
    std::vector<double> reads, writes;
    std::vector<double> kept;              ///< room for Loss::values
    std::unique_ptr<FaultyLine> to, from;  ///< where a chosen fault is about its messages
    std::vector<program::VarId> valid;     ///< where each answer goes when it becomes valid
    bool answered = false, lost = false;
    bool fresh = false;         ///< an answer has come and is not valid yet
    std::vector<double> edges;  ///< of gates, in that answer: what stands behind the values
    bool silent = false;        ///< a fault kept the answer away: gates stay as they are
    Time next{};                ///< instant of its next exchange
    Time asked{}, answers{};    ///< instants of the last exchange, and of that which the fresh answer is to
    std::int64_t restarts = 0;
    ControllerReport report;
  };
  /// A controller that was lost while the run went on; its words are made at the end.
  struct Loss {
    std::size_t controller = 0;
    Time at{};
    Failure failure;
    bool by_fault = false;       ///< one that acts on its messages
    std::vector<double> values;  ///< per write: what its actuator takes or holds
  };

  void tell_of(std::size_t controller, observe::ControllerNews news);
  std::optional<Reason> failed(std::size_t controller, const Failure& failure);
  std::optional<Reason> look_at_all(std::vector<ports::Standing>& standing);
  void note_standing(const std::vector<ports::Standing>& standing, double for_s);
  std::string standing_of_all(const std::vector<ports::Standing>& standing) const;
  std::optional<Reason> too_late(const std::vector<ports::Standing>& standing, double waited_s);
  void receive(std::size_t controller);
  bool answer_is_due(Wired& wired);
  void use_answer(Wired& wired);
  void use_gate(Wired& wired, const program::ControllerWrite& write);
  std::optional<Reason> exchange_with(std::size_t controller);
  std::optional<Reason> lose(std::size_t controller, Failure failure);
  void go_on_without(std::size_t controller, Failure failure);
  static bool faulty(const Wired& wired);
  void list_losses(RunResult& result) const;

  const program::Program& program_;
  bool paced_;
  MessagePlayer& messages_;
  Channels& channels_;
  engine::PlantState& state_;
  observe::Observer* seen_ = nullptr;
  std::uint64_t plain_numbers_ = 0;
  std::vector<Wired> controllers_;
  std::vector<Loss> losses_;
};

}  // namespace isodyne::bench
