#include "isodyne/networks/electric/combinations.h"

#include <algorithm>

namespace isodyne::networks::electric {

namespace {
constexpr std::size_t kBytes = 64u << 20, kMostBytes = 256u << 20, kFewest = 16, kMost = 8192;
/// So many combinations a circuit should be able to keep, with so many parts each; large ones get more memory for it.
constexpr std::size_t kMany = 512, kSomeParts = 24;
}  // namespace

std::uint64_t Combinations::key_of(std::span<const std::uint8_t> codes) {
  std::uint64_t key = 0xcbf29ce484222325u;  // FNV-1a
  for (const std::uint8_t code : codes) key = (key ^ code) * 0x100000001b3u;
  return key ^ (key >> 29);
}

void Combinations::begin(const Workshop& shop, std::size_t possible) {
  const std::size_t most = std::min(possible, kMost), fewest = std::min(most, kFewest), parts = shop.most_parts(),
                    // Twice as many are met as are stayed in: devices are tried before they agree.
      each = 2 * shop.algebra + shop.way + kSomeParts * shop.part,
                    all =
                        std::clamp(std::min(most, kMany) * each, kBytes / sizeof(double), kMostBytes / sizeof(double)),
                    ways = std::clamp(all / each, fewest, most), count = std::min(most, 2 * ways),
                    used = count * shop.algebra + ways * shop.way, left = (all > used ? all - used : 0) / shop.part;
  pools_[kAlgebra].begin(shop.algebra, count);
  pools_[kWay].begin(shop.way, ways);
  pools_[kPart].begin(shop.part, std::clamp(left, std::min<std::size_t>(2, most) * parts, most * parts));
  if (all_.size() != count || all_.front().codes.capacity() < shop.devices) {
    all_.assign(count, {});
    for (Combination& one : all_) one.settle_in(*this, shop);
    keys_.assign(count, 0);
    behind_.assign(count, -1);
    unused_.reserve(count);
    std::size_t places = 4;
    while (places < 2 * count) places *= 2;
    first_.assign(places, -1);
  }
  clear();
}

void Combinations::clear() {
  for (Pool& pool : pools_) pool.clear();
  unused_.clear();
  for (std::size_t i = all_.size(); i-- > 0;) {
    all_[i].algebra_ = all_[i].way_ = nullptr;
    all_[i].forget_parts();
    unused_.push_back(static_cast<std::int32_t>(i));
  }
  std::fill(first_.begin(), first_.end(), -1);
  hand_ = 0;
}

void Combinations::touch() {
  for (Pool& pool : pools_) pool.touch();
}

Combination* Combinations::find(std::span<const std::uint8_t> codes) {
  const std::uint64_t key = key_of(codes);
  for (std::int32_t at = place_of(key); at >= 0; at = behind_[static_cast<std::size_t>(at)]) {
    Combination& one = all_[static_cast<std::size_t>(at)];
    if (keys_[static_cast<std::size_t>(at)] == key &&
        std::equal(codes.begin(), codes.end(), one.codes.begin(), one.codes.end()))
      return &one;
  }
  return nullptr;
}

Combination& Combinations::fresh(std::span<const std::uint8_t> codes) {
  if (unused_.empty()) {
    ++forgotten_;
    drop(least_needed(kAlgebra, nullptr));
  }
  const std::int32_t which = unused_.back();
  unused_.pop_back();
  Combination& one = all_[static_cast<std::size_t>(which)];
  one.codes.assign(codes.begin(), codes.end());
  one.recent = false;
  const std::uint64_t key = keys_[static_cast<std::size_t>(which)] = key_of(codes);
  behind_[static_cast<std::size_t>(which)] = place_of(key);
  place_of(key) = which;
  return one;
}

void Combinations::drop(Combination& one) {
  const auto which = static_cast<std::int32_t>(&one - all_.data());
  std::int32_t* at = &place_of(keys_[static_cast<std::size_t>(which)]);
  while (*at != which) at = &behind_[static_cast<std::size_t>(*at)];
  *at = behind_[static_cast<std::size_t>(which)];
  give_parts_back(one);
  if (one.way_ != nullptr) pools_[kWay].give_back(one.way_);
  if (one.algebra_ != nullptr) pools_[kAlgebra].give_back(one.algebra_);
  one.algebra_ = one.way_ = nullptr;
  unused_.push_back(which);
}

void Combinations::give_parts_back(Combination& one) {
  for (double* const part : one.parts_) {
    if (part != nullptr) pools_[kPart].give_back(part);
  }
  one.forget_parts();
}

/// Who has such memory and was not needed since the hand last came by; there are always two who have some.
Combination& Combinations::least_needed(Memory kind, const Combination* but) {
  for (;; hand_ = (hand_ + 1) % all_.size()) {
    Combination& one = all_[hand_];
    const bool has = kind == kAlgebra ? one.algebra_ != nullptr
                     : kind == kWay   ? one.way_ != nullptr
                                      : one.part_count_ > 0;
    if (!has || &one == but) continue;
    if (!one.recent) return one;
    one.recent = false;
  }
}

double* Combinations::take(Memory kind, const Combination& whom) {
  Pool& pool = pools_[kind];
  if (pool.empty() && kind == kPart) {
    give_parts_back(least_needed(kind, &whom));
  } else if (pool.empty()) {
    ++forgotten_;
    drop(least_needed(kind, &whom));
  }
  return pool.take();
}

}  // namespace isodyne::networks::electric
