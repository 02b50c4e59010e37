#include "isodyne/core/random.h"

#include <bit>

#include "isodyne/core/numerics.h"
#include "isodyne/core/text.h"

namespace isodyne {

RandomStream::RandomStream(std::uint64_t seed, std::string_view user) : state_{} {
  std::uint64_t x = seed ^ fnv1a(user);
  for (std::uint64_t& word : state_) {
    x += ISO_GOLDEN;
    word = iso_mixed(x);
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
  return iso_unit_interval(next());
}

double RandomStream::normal() {
  const double first = uniform();
  return iso_normal_of(first, uniform());
}

double random_uniform(double user, double seed, double instant) {
  return iso_uniform(user, seed, instant);
}

double random_normal(double user, double seed, double instant) {
  return iso_normal(user, seed, instant);
}

double random_key(std::uint64_t bits) {
  return static_cast<double>(iso_mixed(bits + ISO_GOLDEN) >> 11);
}

}  // namespace isodyne
