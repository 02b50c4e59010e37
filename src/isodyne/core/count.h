#pragma once
// A number that one thread counts and others may look at meanwhile: what they see is a moment old, never torn.
//
// Costs what a plain number costs; it can be copied, unlike std::atomic.

#include <cstdint>

namespace isodyne {

class Count {
 public:
  Count(std::int64_t n = 0) : n_(n) {}  // NOLINT(google-explicit-constructor): it is a number
  Count(const Count& other) : n_(other) {}
  Count& operator=(const Count& other) { return *this = static_cast<std::int64_t>(other); }
  Count& operator=(std::int64_t n) {
    __atomic_store_n(&n_, n, __ATOMIC_RELAXED);
    return *this;
  }
  Count& operator+=(std::int64_t more) { return *this = n_ + more; }
  Count& operator++() { return *this += 1; }
  operator std::int64_t() const { return __atomic_load_n(&n_, __ATOMIC_RELAXED); }  // NOLINT

 private:
  std::int64_t n_;
};

}  // namespace isodyne
