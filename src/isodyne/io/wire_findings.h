#pragma once
// What a loopback found: the levels sent on each output, the levels read on each input, and what that says about the
// wires between them. A level is the share of the way between the two ends of a channel.

#include <cstdint>
#include <string>
#include <vector>

namespace isodyne::io {

/// Levels to send: both ends, zero if it lies between them, and then a pattern that no other output has.
std::vector<double> levels_of(std::size_t output, bool line, double zero, std::uint64_t seed);
/// How many levels there are for each output, the same for all.
constexpr std::size_t kLevels = 28;

enum class WireState { good, open, crossed, inverted, scaled, noisy, dead };
const char* wire_word(WireState state);

/// One input with the output that should be on it.
struct Wired {
  std::size_t output = 0;
  bool line = false;
  std::vector<double> level;  ///< read, one for each level sent: the mean of some samples
  double noise = 0;           ///< standard deviation of those samples
  double nothing = 0;         ///< what it reads when nothing is connected
  double resolution = 0;      ///< of both channels together
  double known_noise = 0;     ///< standard deviation that the channels have by themselves
};

struct WireFinding {
  WireState state = WireState::good;
  std::size_t other = 0;          ///< crossed: the output that arrives
  double factor = 1, offset = 0;  ///< read = factor * sent + offset
  double noise = 0;
};

/// Judges each input; `sent` has the levels of every output.
std::vector<WireFinding> judge_wires(const std::vector<std::vector<double>>& sent, const std::vector<Wired>& inputs);

}  // namespace isodyne::io
