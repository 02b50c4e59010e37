#pragma once
// Reproducible randomness: one independent stream per user, all derived from the run's seed.
//
// Not for cryptography. The stream of a user depends only on the seed and the user's name, so that adding a
// noisy sensor does not change another's noise.

#include <array>
#include <cstdint>
#include <string_view>

namespace isodyne {

/// xoshiro256** (Blackman and Vigna, "Scrambled linear pseudorandom number generators", 2021), seeded
/// through splitmix64. Copyable: the stream's place is part of the run's state.
class RandomStream {
 public:
  RandomStream() : RandomStream(0, "") {}
  RandomStream(std::uint64_t seed, std::string_view user);

  std::uint64_t next();
  /// Uniform in [0, 1) with 53 random bits.
  double uniform();
  /// Standard normal, by the Box–Muller transform; two uniforms per value and no state between calls.
  double normal();

 private:
  std::array<std::uint64_t, 4> state_;
};

}  // namespace isodyne
