#pragma once
// Makes the gates of two switches one above the other, by comparing a reference with a carrier.
//
// The carrier goes from its valley, -1, to its peak, 1; the upper switch is wanted while the reference is above it.
// What is taken over at an instant of the group cannot change what the gates are at that instant any more: it does so
// 1 ns later. Edges of `valley` and `peak` are known before and come exactly.

#include <string>
#include <vector>

#include "isodyne/engine/network.h"
#include "isodyne/networks/gates/carrier.h"
#include "isodyne/networks/gates/edges.h"

namespace isodyne::networks::gates {

/// Places of what an element takes, by name.
class Places {
 public:
  explicit Places(const program::Network& network) : network_(network) {}
  std::size_t operator()(const char* name) const;

 private:
  const program::Network& network_;
};

class Modulator : public engine::NetworkSolver {
 public:
  explicit Modulator(const program::Network& network);

  std::size_t state_size() const override;
  bool start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) override;
  bool parameters_changed(std::span<const double> inputs) override { return sensible(inputs); }
  bool step(const engine::NetworkStep& step) override;
  std::string why_not() const override { return why_; }
  std::vector<std::string> describe(std::span<const double> state) const override;

 private:
  enum Output : std::size_t { kUpper, kLower, kValley, kPeak };
  /// Places of what its state has. The corner that comes next is counted in halves of a period.
  enum Number : std::size_t {
    kCarrier,
    kLeg = kCarrier + Carrier::kNumbers,
    kReference = kLeg + LegDriver::kNumbers,
    kCorner,
    kWanted,
    kEnabled,
    kSize
  };
  enum class Shape { triangle, rising, falling };
  enum class Update { valley, peak, both, at_once };

  bool sensible(std::span<const double> inputs);
  bool is_number(std::span<const double> inputs);
  /// The reference as it is used: what would make pulses that are too short is all or nothing.
  double limited(std::span<const double> inputs) const;
  bool fail(std::string why);

  std::string path_;
  std::size_t frequency_, phase_, dead_time_, shortest_, shape_, update_, reference_, enable_;
  std::string why_;
};

}  // namespace isodyne::networks::gates
