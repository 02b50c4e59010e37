#include "isodyne/core/random.h"

#include <bit>
#include <cmath>
#include <numbers>

#include "isodyne/core/text.h"

namespace isodyne {

namespace {

/// The finaliser of splitmix64 (Steele, Lea, Flood, "Fast splittable pseudorandom number generators", 2014).
std::uint64_t mixed(std::uint64_t z) {
  z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
  z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
  return z ^ (z >> 31);
}

constexpr std::uint64_t kGolden = 0x9e3779b97f4a7c15ULL;

double in_unit_interval(std::uint64_t bits) {
  return static_cast<double>(bits >> 11) * 0x1.0p-53;
}

/// The nth random word of a user at an instant.
std::uint64_t word_of(double user, double seed, double instant, std::uint64_t n) {
  // Instants are whole nanoseconds, whatever rounding their seconds have gone through.
  const auto tick = static_cast<std::uint64_t>(static_cast<std::int64_t>(std::nearbyint(instant * 1e9)));
  std::uint64_t z = mixed(static_cast<std::uint64_t>(user) + kGolden);
  z = mixed(z ^ (static_cast<std::uint64_t>(seed) + kGolden));
  z = mixed(z ^ (tick + kGolden));
  return mixed(z + (n + 1) * kGolden);
}

double normal_of(double first, double second) {
  return std::sqrt(-2.0 * std::log(1.0 - first)) * std::cos(2.0 * std::numbers::pi * second);
}

}  // namespace

RandomStream::RandomStream(std::uint64_t seed, std::string_view user) : state_{} {
  std::uint64_t x = seed ^ fnv1a(user);
  for (std::uint64_t& word : state_) {
    x += kGolden;
    word = mixed(x);
  }
}

std::uint64_t RandomStream::next() {
  const std::uint64_t result = std::rotl(state_[1] * 5, 7) * 9;
  const std::uint64_t t = state_[1] << 17;
  state_[2] ^= state_[0];
  state_[3] ^= state_[1];
  state_[1] ^= state_[2];
  state_[0] ^= state_[3];
  state_[2] ^= t;
  state_[3] = std::rotl(state_[3], 45);
  return result;
}

double RandomStream::uniform() {
  return in_unit_interval(next());
}

double RandomStream::normal() {
  const double first = uniform();
  return normal_of(first, uniform());
}

double random_uniform(double user, double seed, double instant) {
  return in_unit_interval(word_of(user, seed, instant, 0));
}

double random_normal(double user, double seed, double instant) {
  return normal_of(in_unit_interval(word_of(user, seed, instant, 0)),
                   in_unit_interval(word_of(user, seed, instant, 1)));
}

double random_key(std::uint64_t bits) {
  return static_cast<double>(mixed(bits + kGolden) >> 11);
}

}  // namespace isodyne
