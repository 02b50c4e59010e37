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

/// Randomness without a state: a value in [0, 1), and a standard normal one, for a user of randomness at an
/// instant (s). The same three numbers always give the same value; different ones give values that pass as
/// independent. Counter-based in the sense of Salmon et al., "Parallel random numbers: as easy as 1, 2, 3"
/// (2011), with splitmix64's finaliser as the mixing function. `user` and `seed` are whole numbers below 2^53.
double random_uniform(double user, double seed, double instant);
double random_normal(double user, double seed, double instant);
/// A hash of a name or of a seed as such a number.
double random_key(std::uint64_t bits);

}  // namespace isodyne
