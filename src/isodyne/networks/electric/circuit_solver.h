#pragma once
// Steps a circuit: exactly from event to event, where an event is an edge of a gate, or a device that reaches the end
// of the piece it is on.
//
// For each combination of pieces there is one linear system, made when it is first needed and kept: its matrices, and
// the exponential of its step. Within a step, states go on exactly to wherever something happens.

#include <array>
#include <optional>

#include "isodyne/engine/network.h"
#include "isodyne/networks/electric/combinations.h"
#include "isodyne/networks/electric/readings.h"

namespace isodyne::networks::electric {

class CircuitSolver : public engine::NetworkSolver {
 public:
  CircuitSolver(const program::Plant& plant, const program::Network& network);

  void wanted_between(std::span<const std::int32_t> outputs) override {
    between_.assign(outputs.begin(), outputs.end());
  }
  std::size_t state_size() const override;
  bool start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) override;
  bool parameters_changed(std::span<const double> inputs) override;
  void prepare(std::span<const double> inputs) override;
  bool takes_many() const override { return true; }
  bool step(const engine::NetworkStep& step) override;
  std::span<const engine::NetworkLoss> losses() const override { return losses_; }
  void forget_losses() override { losses_.clear(); }
  Time stuck_from() const override { return failed_.value_or(Time{}); }
  std::string why_not() const override { return why_; }
  engine::NetworkAccount account() const override;
  std::vector<std::string> describe(std::span<const double> state) const override;

 private:
  /// Positions of so many devices are one number of a state, kBits each.
  static constexpr std::size_t kPacked = 8, kBits = 6;
  static constexpr std::uint64_t kAllBits = (1u << kBits) - 1;
  static_assert(2 * Device::kMostPieces <= 1 << kBits && kPacked * kBits <= 53);

  bool make_anew(std::span<const double> inputs);
  void read_sources(std::span<const double> inputs);
  void end_sources(std::span<const double> inputs);
  void read_positions(std::span<const double> state);
  void write_positions(std::span<double> state);
  void find_codes();
  std::size_t possible() const;
  void move(std::size_t device, Position to);
  Position switched(std::size_t device, bool on) const;
  bool switch_device(std::size_t device, bool on);
  bool unnoticed(const engine::NetworkEdge& edge) const;
  /// Poles move some time after their order; between two instants of what is known this is when the next one does.
  void order(std::size_t pole, bool close, Time at, std::span<double> state);
  Time next_move(std::span<const double> state) const;
  bool move_poles(Time now, std::span<double> state);
  bool settle();
  bool find_combination();
  void make_ready(std::size_t slot);
  int beyond(std::size_t device, double where, const std::vector<double>& at) const;
  Position next_towards(std::size_t device, double where, int direction) const;
  double excess(std::size_t device, double where, int direction) const;
  bool advance(double& at, double until);
  bool single_step(const engine::NetworkStep& step, std::size_t slot);
  bool many_steps(const engine::NetworkStep& step, std::size_t slot);
  bool nothing_waits(const engine::NetworkStep& step) const;
  bool within(const double* where) const;
  bool settled(const engine::NetworkStep& step) const;
  bool of_these_parameters(const double* state) const;
  void note_thrown(double* state, double at) const;
  double farthest(double at) const;
  void find_coil_currents();
  void note_losses(Time at);
  /// How far it went, and who changes its piece there: direction 0 nobody.
  struct Way {
    double span = 0;
    std::size_t who = 0;
    int direction = 0;
  };
  void go(double span);
  Way go_as_far_as(double span);
  bool foreseen(const Way& way);
  Time on_their_own(engine::NetworkStep& step, Time until);
  Time on_their_own(engine::NetworkStep& step, std::size_t row, Time until);
  void count_quiet(std::int64_t steps);
  void set_march_ends();
  bool jumped(const double* before) const;
  bool quiet_step(const engine::NetworkStep& step, std::size_t slot);
  bool eventful_step(const engine::NetworkStep& step, std::size_t slot);
  double crossing(std::size_t device, int direction, double span);
  /// All outputs, and those between two instants of the bench.
  enum Slot : std::size_t { kAll, kBetween };
  std::size_t slot_of(std::span<const std::int32_t> wanted) const {
    return wanted.size() == readers_[kAll].count() ? kAll : kBetween;
  }
  /// What stands in now_, as outputs; or on the way as a row of those that are seen there.
  void show(std::size_t slot, const engine::NetworkStep& step) {
    if (step.seen.empty()) {
      readers_[slot].show(current_->rows(slot), now_.data(), positions_, step.outputs);
    } else {
      readers_[kBetween].show_row(current_->rows(kBetween), now_.data(), positions_, step.seen.data());
    }
  }
  void show_on_the_way(engine::NetworkStep& one);
  /// Places in a state, see state_size().
  std::size_t poles_at() const { return states() + written_.size(); }
  std::size_t thrown_at() const { return poles_at() + 2 * poles_.size(); }
  std::size_t states() const { return static_cast<std::size_t>(circuit_.states()); }
  const std::string& path_of(std::size_t device) const;
  std::vector<std::string> told(const std::vector<Position>& positions) const;
  bool fail(std::string why);

  Circuit circuit_;
  Readings readings_;
  Frame frame_;
  Time period_{};
  double step_ = 0;           ///< the same, ns
  double thrown_ = 0;         ///< out of its course: when that last was, ns since the beginning of the step
  double parameters_ = 0;     ///< a number that is another one for other parameters
  std::vector<double> held_;  ///< inputs within many steps, with the gates as they are there
  std::int64_t steps_ = 0, eventful_ = 0;
  std::int64_t first_visits_ = -1;  ///< below 0: it has not begun
  std::optional<Time> failed_;      ///< of many steps, the one in which it could not go on
  std::vector<double> inputs_;      ///< of the last change of parameters
  bool moving_ = false;             ///< something moves from piece to piece by itself
  std::vector<std::size_t> poles_;  ///< those of the devices that are poles
  std::vector<Position> positions_;
  /// What follows from them: pieces that are the same to the equations have one code; and the ends of the pieces, as
  /// far out as nobody has left them.
  std::vector<std::uint8_t> codes_;
  std::vector<double> low_, high_;
  std::vector<std::array<std::uint8_t, 2 * Device::kMostPieces>> code_of_;  ///< per device, by Position::code()
  struct Gated {
    std::int32_t input = 0;
    std::size_t device = 0;
    bool opens = false;
  };
  std::vector<Gated> gated_;                        ///< what is switched at once
  std::vector<std::vector<std::size_t>> by_input_;  ///< the same, and poles, per input
  std::vector<double> written_;                     ///< what positions_ are in a state
  std::vector<int> moves_;                          ///< per device: changes of piece since the last look
  int all_moves_ = 0;
  std::optional<Workshop> shop_;
  Combinations known_;
  Combination* current_ = nullptr;
  std::vector<double> now_;  ///< states, sources, 1
  std::vector<double> after_, trial_, where_, before_;
  std::vector<double> march_low_, march_high_;  ///< of states and where devices stand; a state has no end
  Reader readers_[Workshop::kSlots];
  std::vector<std::int32_t> between_;
  /// Currents of windings: their states, and the outputs that show them.
  struct CoilCurrent {
    std::size_t state = 0;
    std::int32_t output = 0;
  };
  std::vector<CoilCurrent> coil_currents_;
  std::vector<engine::NetworkLoss> losses_;  ///< as many as there are coils, at most
  std::string why_;
};

}  // namespace isodyne::networks::electric
