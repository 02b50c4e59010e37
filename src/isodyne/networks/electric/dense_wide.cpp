// Compiled for machines with AVX2 and FMA (see CMakeLists.txt), and used there only.

#include "isodyne/networks/electric/dense_kernels.h"

#ifdef __FMA__
#include <immintrin.h>
#endif

namespace isodyne::networks::electric {

#if defined(__FMA__) && defined(__AVX2__)
namespace {
struct Wide {
  __attribute__((always_inline)) static void fuse(const Four& a, const Four& b, Four& sum) {
    sum = _mm256_fmadd_pd(a, b, sum);
  }
};
constexpr DenseWays kWide = ways_of<Wide>();
}  // namespace

const DenseWays* wide_ways() {
  return __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma") ? &kWide : nullptr;
}
#else
const DenseWays* wide_ways() {
  return nullptr;
}
#endif

}  // namespace isodyne::networks::electric
