#pragma once
// The combinations of a circuit that were met, in as much memory as they may have. Where that is full the least needed
// make room, one by one, and are made anew when they are needed again; what comes out does not depend on which are
// there.

#include "isodyne/networks/electric/combination.h"
#include "isodyne/networks/electric/pool.h"

namespace isodyne::networks::electric {

class Combinations {
 public:
  enum Memory { kAlgebra, kWay, kPart };

  /// Forgets all, and has room for this circuit, of which there are `possible` combinations at most.
  void begin(const Workshop& shop, std::size_t possible);
  /// Has the machine give all of the memory now, and not while the plant is stepped.
  void touch();
  /// Forgets all, where they are of no more use.
  void clear();
  /// Null: it is not there.
  Combination* find(std::span<const std::uint8_t> codes);
  /// One to be made; it is found from then on.
  Combination& fresh(std::span<const std::uint8_t> codes);
  /// One that could not be made.
  void drop(Combination& one);
  /// Memory for `whom`, which others make room for if need be.
  double* take(Memory kind, const Combination& whom);

  const std::vector<Combination>& all() const { return all_; }
  std::int64_t forgotten() const { return forgotten_; }

 private:
  static std::uint64_t key_of(std::span<const std::uint8_t> codes);
  std::int32_t& place_of(std::uint64_t key) { return first_[key & (first_.size() - 1)]; }
  Combination& least_needed(Memory kind, const Combination* but);
  void give_parts_back(Combination& one);

  Pool pools_[3];
  std::vector<Combination> all_;
  std::vector<std::int32_t> unused_;  ///< of all_
  std::vector<std::uint64_t> keys_;   ///< of all_
  std::vector<std::int32_t> first_;   ///< by key: which of all_, or -1; the others of that place hang behind it
  std::vector<std::int32_t> behind_;  ///< of all_
  std::size_t hand_ = 0;              ///< goes round all_, see least_needed()
  std::int64_t forgotten_ = 0;
};

}  // namespace isodyne::networks::electric
