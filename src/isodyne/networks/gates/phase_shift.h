#pragma once
// Makes the gates of two full bridges: each switches once in half a period, the second one later by a shift.
//
// What is taken over at the beginning of a period, at an instant of the group, takes effect 1 ns later.

#include "isodyne/networks/gates/modulator.h"

namespace isodyne::networks::gates {

class PhaseShift : public engine::NetworkSolver {
 public:
  explicit PhaseShift(const program::Network& network);

  std::size_t state_size() const override;
  bool start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) override;
  bool parameters_changed(std::span<const double> inputs) override { return sensible(inputs); }
  bool step(const engine::NetworkStep& step) override;
  std::string why_not() const override { return why_; }
  std::vector<std::string> describe(std::span<const double> state) const override;

 private:
  static constexpr std::size_t kLegs = 4;  ///< two of the bridge that leads, two of the one that lags
  static constexpr std::size_t kValley = 2 * kLegs;
  /// Places of what its state has. Halves of a period that have begun; whether this one has taken its shift over.
  enum Number : std::size_t {
    kCarrier,
    kLegState = kCarrier + Carrier::kNumbers,
    kHalf = kLegState + kLegs * LegDriver::kNumbers,
    kShift,
    kLead,
    kLag,
    kTaken,
    kEnabled,
    kSize
  };
  bool sensible(std::span<const double> inputs);
  bool is_number(std::span<const double> inputs);
  bool fail(std::string why);

  std::string path_;
  std::size_t frequency_, dead_time_, shift_, enable_;
  std::string why_;
};

}  // namespace isodyne::networks::gates
