#pragma once
// Before anything else: drive every output, read the input wired to it, and say what is wrong with the wires.
//
// The plant does not run. Levels go through the whole channels, to whatever is at the other end of a port: simulated
// wires, or a device, and what comes back goes through the whole channels again.

#include <functional>
#include <memory>

#include "isodyne/core/random.h"
#include "isodyne/io/wire_findings.h"
#include "isodyne/ports/controller_port.h"

namespace isodyne::bench {

/// Wires in place of a controller.
class WiringPort : public ports::ControllerPort {
 public:
  WiringPort(const program::Program& program, const program::Controller& controller, const program::Wiring& wiring,
             std::uint64_t seed);

  Status open(Time) override { return Done{}; }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  void close() override {}

 private:
  /// A wire between a value of `reads` and one of `writes`.
  struct Strand {
    program::Wire wire;
    std::size_t read = 0, write = 0;
    bool raw_in = false, raw_out = false;  ///< the number in a field, not the value
    bool line = false;
    RandomStream noise;
  };
  double carry(Strand& strand, double read);

  const program::Program& program_;
  std::vector<Strand> strands_;
};

/// The wiring that does what the cable list says.
program::Wiring faultless(const program::Program& program, std::int32_t cables);

struct LoopbackResult {
  std::vector<io::WireFinding> findings;  ///< one for each cable
  std::size_t exchanges = 0;
};

/// The controller that exchanges all channels of a cable list; a Failure names what it does not exchange.
Result<std::int32_t> controller_of(const program::Program& program, std::int32_t cables);

/// Walks all cables of the list over `port`, which is started and closed. Gives up at an exchange that fails.
Result<LoopbackResult> run_loopback(const std::shared_ptr<const program::Program>& program, std::int32_t cables,
                                    const program::Controller& controller, ports::ControllerPort& port,
                                    std::uint64_t seed);

}  // namespace isodyne::bench
