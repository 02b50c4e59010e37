#include "isodyne/judge/keys.h"

namespace isodyne::judge {

ISODYNE_WIDE void keys_of(const double* distances, const double* truths, std::size_t count, std::int64_t* keys) {
  for (std::size_t i = 0; i < count; ++i) {
    const auto bits = std::bit_cast<std::int64_t>(distances[i]);
    const std::int64_t key = bits ^ ((bits >> 63) & std::numeric_limits<std::int64_t>::max());
    const bool holds = truths[i] != 0, far = distances[i] != distances[i];
    const std::int64_t held = far ? kMost : key < 0 ? 0 : key;
    const std::int64_t not_held = far ? kLeast : key > -1 ? -1 : key;
    keys[i] = holds ? held : not_held;
  }
}
ISODYNE_WIDE std::int64_t least_of(const std::int64_t* keys, std::size_t count, std::int64_t most) {
  for (std::size_t i = 0; i < count; ++i) most = keys[i] < most ? keys[i] : most;
  return most;
}
ISODYNE_WIDE std::int64_t greatest_of(const std::int64_t* keys, std::size_t count, std::int64_t least) {
  for (std::size_t i = 0; i < count; ++i) least = keys[i] > least ? keys[i] : least;
  return least;
}

}  // namespace isodyne::judge
