#include "isodyne/core/random.h"

#include <bit>
#include <cmath>
#include <numbers>

#include "isodyne/core/text.h"

namespace isodyne {

RandomStream::RandomStream(std::uint64_t seed, std::string_view user) : state_{} {
  std::uint64_t x = seed ^ fnv1a(user);
  for (std::uint64_t& word : state_) {
    x += 0x9e3779b97f4a7c15ULL;
    std::uint64_t z = x;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    word = z ^ (z >> 31);
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
  return static_cast<double>(next() >> 11) * 0x1.0p-53;
}

double RandomStream::normal() {
  const double radius = std::sqrt(-2.0 * std::log(1.0 - uniform()));
  return radius * std::cos(2.0 * std::numbers::pi * uniform());
}

}  // namespace isodyne
