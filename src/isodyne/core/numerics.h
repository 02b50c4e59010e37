/* What the interpreter and the generated code compute in the same way: random numbers, tables, delays, implicit
 * equations, integration methods. Written in the part of C11 that is also C++, because generated code carries a
 * copy of this text: there is one definition, and its roundings are the same on both sides.
 *
 * Plain arrays, sizes given, nothing allocated, nothing kept between calls but what the caller hands in.
 * Units are SI; matrices are stored by rows. */
#ifndef ISODYNE_NUMERICS_H
#define ISODYNE_NUMERICS_H

#include <math.h>
#include <stdint.h>
#include <string.h>

#ifdef __cplusplus
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wold-style-cast"
#endif
#ifdef __GNUC__
#define ISO_INLINE static inline __attribute__((always_inline, unused))
#define ISO_FUNCTION static __attribute__((unused))
#else
#define ISO_INLINE static inline
#define ISO_FUNCTION static inline
#endif
#if defined(__GNUC__) && !defined(__cplusplus)
#define ISO_ALONE __restrict__
#else
#define ISO_ALONE
#endif

/* ---- tiny numbers --------------------------------------------------------------------------------------- */

/* What decays towards zero ends in numbers below 2.2e-308, with which processors compute up to a hundred times more
 * slowly. While a plant computes they count as zero, on processors that can be told so: the time of a step must not
 * depend on how long something has been decaying. iso_flush returns what iso_unflush brings back. */
ISO_INLINE uint64_t iso_flush(void) {
#if defined(__SSE2__)
  uint32_t before, after;
  __asm__ volatile("stmxcsr %0" : "=m"(before) : : "memory");
  after = before | 0x8040u; /* results and operands */
  if (after != before) __asm__ volatile("ldmxcsr %0" : : "m"(after) : "memory");
  return before;
#elif defined(__aarch64__)
  uint64_t before;
  __asm__ volatile("mrs %0, fpcr" : "=r"(before) : : "memory");
  __asm__ volatile("msr fpcr, %0" : : "r"(before | (UINT64_C(1) << 24)) : "memory");
  return before;
#else
  return 0;
#endif
}

ISO_INLINE void iso_unflush(uint64_t before) {
#if defined(__SSE2__)
  const uint32_t as_before = (uint32_t)before;
  if ((as_before & 0x8040u) != 0x8040u) __asm__ volatile("ldmxcsr %0" : : "m"(as_before) : "memory");
#elif defined(__aarch64__)
  __asm__ volatile("msr fpcr, %0" : : "r"(before) : "memory");
#else
  (void)before;
#endif
}

/* ---- single operations ---------------------------------------------------------------------------------- */

ISO_INLINE double iso_min(double a, double b) {
  return b < a ? b : a;
}
ISO_INLINE double iso_max(double a, double b) {
  return a < b ? b : a;
}
ISO_INLINE double iso_clamp(double x, double low, double high) {
  return iso_min(iso_max(x, low), high);
}
ISO_INLINE double iso_sign(double x) {
  return (double)((x > 0) - (x < 0));
}
ISO_INLINE double iso_mod(double a, double b) {
  return a - b * floor(a / b);
}

/* ---- random numbers ------------------------------------------------------------------------------------- */

/* The finaliser of splitmix64 (Steele, Lea, Flood, "Fast splittable pseudorandom number generators", 2014). */
ISO_INLINE uint64_t iso_mixed(uint64_t z) {
  z = (z ^ (z >> 30)) * UINT64_C(0xbf58476d1ce4e5b9);
  z = (z ^ (z >> 27)) * UINT64_C(0x94d049bb133111eb);
  return z ^ (z >> 31);
}

#define ISO_GOLDEN UINT64_C(0x9e3779b97f4a7c15)

ISO_INLINE double iso_unit_interval(uint64_t bits) {
  return (double)(bits >> 11) * 0x1.0p-53;
}

/* The nth random word of a user at an instant (s). Instants are whole nanoseconds, whatever rounding their
 * seconds have gone through. */
ISO_FUNCTION uint64_t iso_random_word(double user, double seed, double instant, uint64_t n) {
  const uint64_t tick = (uint64_t)(int64_t)nearbyint(instant * 1e9);
  uint64_t z = iso_mixed((uint64_t)user + ISO_GOLDEN);
  z = iso_mixed(z ^ ((uint64_t)seed + ISO_GOLDEN));
  z = iso_mixed(z ^ (tick + ISO_GOLDEN));
  return iso_mixed(z + (n + 1) * ISO_GOLDEN);
}

ISO_FUNCTION double iso_uniform(double user, double seed, double instant) {
  return iso_unit_interval(iso_random_word(user, seed, instant, 0));
}

/* Box and Muller's transform of two uniform numbers. */
ISO_FUNCTION double iso_normal_of(double first, double second) {
  return sqrt(-2.0 * log(1.0 - first)) * cos(2.0 * 3.14159265358979323846 * second);
}

ISO_FUNCTION double iso_normal(double user, double seed, double instant) {
  return iso_normal_of(iso_unit_interval(iso_random_word(user, seed, instant, 0)),
                       iso_unit_interval(iso_random_word(user, seed, instant, 1)));
}

/* ---- tables --------------------------------------------------------------------------------------------- */

enum { ISO_LINEAR, ISO_CUBIC, ISO_HOLD };
enum { ISO_HELD, ISO_EXTENDED, ISO_REPEATED };

/* Values z between which is interpolated. With one argument ny is 0; with two, z[i * ny + j] is at x[i], y[j].
 * nx and ny are at least 2; slope has the slopes of a cubic table at each x. */
typedef struct iso_table {
  const double *x, *y, *z, *slope;
  int64_t nx, ny;
  int method, outside;
} iso_table;

typedef struct iso_place {
  int64_t i;   /* between points i and i + 1 */
  double x;    /* after holding or repeating */
  int outside; /* held: nothing changes with x any more */
} iso_place;

ISO_FUNCTION iso_place iso_place_of(const double* points, int64_t n, double x, int outside) {
  iso_place p = {0, x, 0};
  const double first = points[0], last = points[n - 1];
  if (outside == ISO_REPEATED && last > first) {
    const double length = last - first;
    p.x = first + (x - first) - length * floor((x - first) / length);
    if (!(p.x >= first && p.x <= last)) p.x = first; /* also for what is no number */
  } else if (outside == ISO_HELD && !(x > first && x < last)) {
    p.x = x >= last ? last : x <= first ? first : x;
    p.outside = x > last || x < first;
  }
  int64_t low = 0, high = n; /* the first point above x */
  while (low < high) {
    const int64_t middle = low + (high - low) / 2;
    if (p.x < points[middle]) {
      high = middle;
    } else {
      low = middle + 1;
    }
  }
  p.i = low == 0 ? 0 : low - 1;
  if (p.i > n - 2) p.i = n - 2;
  return p;
}

typedef struct iso_curve {
  double value, slope;
} iso_curve;

/* The cubic is in Hermite's form on [x0, x0 + h]. */
ISO_FUNCTION iso_curve iso_table_1(const iso_table* t, double x) {
  const iso_place p = iso_place_of(t->x, t->nx, x, t->outside);
  const double x0 = t->x[p.i], h = t->x[p.i + 1] - x0, z0 = t->z[p.i], z1 = t->z[p.i + 1], s = p.x - x0;
  const double flat = p.outside ? 0 : 1;
  iso_curve c = {0, 0};
  if (t->method == ISO_HOLD) {
    c.value = p.x >= t->x[p.i + 1] ? z1 : z0;
  } else if (t->method == ISO_LINEAR) {
    c.value = z0 + (z1 - z0) * (s / h);
    c.slope = flat * (z1 - z0) / h;
  } else {
    const double d0 = t->slope[p.i], d1 = t->slope[p.i + 1];
    if (s < 0) { /* extended by the tangent */
      c.value = z0 + d0 * s;
      c.slope = d0;
    } else if (s > h) {
      c.value = z1 + d1 * (s - h);
      c.slope = d1;
    } else {
      const double delta = (z1 - z0) / h;
      const double c2 = (3 * delta - 2 * d0 - d1) / h, c3 = (d0 + d1 - 2 * delta) / (h * h);
      c.value = z0 + s * (d0 + s * (c2 + s * c3));
      c.slope = flat * (d0 + s * (2 * c2 + 3 * s * c3));
    }
  }
  return c;
}

typedef struct iso_surface {
  double value, slope_x, slope_y;
} iso_surface;

/* Bilinear, or the value of the lower left corner. */
ISO_FUNCTION iso_surface iso_table_2(const iso_table* t, double x, double y) {
  const iso_place px = iso_place_of(t->x, t->nx, x, t->outside), py = iso_place_of(t->y, t->ny, y, t->outside);
  const double* z = t->z + px.i * t->ny + py.i;
  const double z00 = z[0], z01 = z[1], z10 = z[t->ny], z11 = z[t->ny + 1];
  const double hx = t->x[px.i + 1] - t->x[px.i], hy = t->y[py.i + 1] - t->y[py.i];
  const double u = (px.x - t->x[px.i]) / hx, v = (py.x - t->y[py.i]) / hy;
  iso_surface s = {0, 0, 0};
  if (t->method == ISO_HOLD) {
    s.value = u >= 1 ? (v >= 1 ? z11 : z10) : (v >= 1 ? z01 : z00);
    return s;
  }
  const double low = z00 + (z01 - z00) * v, high = z10 + (z11 - z10) * v;
  const double left = z01 - z00, right = z11 - z10;
  s.value = low + (high - low) * u;
  s.slope_x = px.outside ? 0 : (high - low) / hx;
  s.slope_y = py.outside ? 0 : (left + (right - left) * u) / hy;
  return s;
}

ISO_FUNCTION double iso_table1(const iso_table* t, double x) {
  return iso_table_1(t, x).value;
}
ISO_FUNCTION double iso_slope1(const iso_table* t, double x) {
  return iso_table_1(t, x).slope;
}
ISO_FUNCTION double iso_table2(const iso_table* t, double x, double y) {
  return iso_table_2(t, x, y).value;
}
ISO_FUNCTION double iso_slope2x(const iso_table* t, double x, double y) {
  return iso_table_2(t, x, y).slope_x;
}
ISO_FUNCTION double iso_slope2y(const iso_table* t, double x, double y) {
  return iso_table_2(t, x, y).slope_y;
}

/* ---- delays --------------------------------------------------------------------------------------------- */

/* The value that a ring remembers of `lag` before `now` (s). Sample k was taken k steps from the start; `count`
 * samples have been taken. Between samples it is interpolated, unless `held`. */
ISO_FUNCTION double iso_recall(const double* ring, int64_t size, int64_t count, double now, double step, double lag,
                               double longest, int held) {
  const double bounded = iso_min(iso_max(lag, step), longest);
  const double place = iso_max(0.0, (now - bounded) / step);
  const int64_t newest = count - 1, oldest = count > size ? count - size : 0;
  /* A millionth of a step of tolerance: instants are exact, seconds as doubles are rounded. */
  const double whole = floor(place + 1e-6);
  const int64_t k = !(whole > (double)oldest) ? oldest : whole > (double)newest ? newest : (int64_t)whole;
  const double share = iso_clamp(place - (double)k, 0.0, 1.0);
  const double from = ring[k % size];
  if (held || share < 2e-6 || k == newest) return from;
  return from + share * (ring[(k + 1) % size] - from);
}

/* ---- implicit equations --------------------------------------------------------------------------------- */

/* Newton's method, safeguarded: with bounds that enclose a change of sign it keeps the enclosure and bisects
 * where Newton would leave it or gains too little (Press et al., "Numerical Recipes", 3rd ed., 9.4); without, a
 * step that makes the residual larger is halved. The derivative is the expression's own. */

typedef struct iso_residual {
  double f, slope, scale;
} iso_residual;
typedef void (*iso_equation)(void* context, double x, iso_residual* result);

typedef struct iso_newton {
  iso_equation equation;
  void* context;
  double x;
  iso_residual at;
} iso_newton;

enum { ISO_MOST_ITERATIONS = 100 };
/* Of the residual against the size of the two sides: solved, and where rounding allows no better. */
#define ISO_SMALL 1e-13
#define ISO_TOLERABLE 1e-9

ISO_INLINE void iso_newton_at(iso_newton* n, double x) {
  n->x = x;
  n->equation(n->context, x, &n->at);
}
ISO_INLINE int iso_newton_solved(const iso_newton* n, double share) {
  return isfinite(n->x) && fabs(n->at.f) <= share * n->at.scale;
}

ISO_FUNCTION int iso_newton_free(iso_newton* n, double low, double high) {
  for (int i = 0; i < ISO_MOST_ITERATIONS; ++i) {
    if (iso_newton_solved(n, ISO_SMALL)) return 1;
    if (!isfinite(n->at.f) || n->at.slope == 0 || !isfinite(n->at.slope)) return iso_newton_solved(n, ISO_TOLERABLE);
    const double from = n->x, size = fabs(n->at.f), step = n->at.f / n->at.slope, share = size / n->at.scale;
    double part = 1;
    do {
      iso_newton_at(n, iso_clamp(from - part * step, low, high));
      part *= 0.5;
    } while (!(fabs(n->at.f) < size) && !iso_newton_solved(n, ISO_SMALL) && part > 1e-12);
    if (n->x == from || part <= 1e-12) return iso_min(share, fabs(n->at.f) / n->at.scale) <= ISO_TOLERABLE;
  }
  return iso_newton_solved(n, ISO_TOLERABLE);
}

ISO_FUNCTION int iso_newton_enclosed(iso_newton* n, double low, double high) {
  const double first = n->x;
  iso_newton_at(n, low);
  if (iso_newton_solved(n, 0)) return 1;
  const int low_negative = n->at.f < 0;
  iso_newton_at(n, high);
  if (iso_newton_solved(n, 0)) return 1;
  if ((n->at.f < 0) == low_negative || !isfinite(n->at.f)) {
    iso_newton_at(n, iso_clamp(first, low, high));
    return iso_newton_free(n, low, high);
  }
  double a = low_negative ? low : high, b = low_negative ? high : low; /* f(a) < 0 < f(b) */
  iso_newton_at(n, first > low && first < high ? first : 0.5 * (low + high));
  double before = fabs(high - low), move = before;
  for (int i = 0; i < ISO_MOST_ITERATIONS; ++i) {
    if (iso_newton_solved(n, ISO_SMALL)) return 1;
    if (n->at.f < 0) {
      a = n->x;
    } else {
      b = n->x;
    }
    const double newton = n->x - n->at.f / n->at.slope;
    const int inside = newton > iso_min(a, b) && newton < iso_max(a, b);
    const int gains = fabs(2 * n->at.f) <= fabs(before * n->at.slope);
    before = move;
    const double next = inside && gains ? newton : 0.5 * (a + b);
    move = fabs(next - n->x);
    if (next == n->x || a == b) return 1; /* nothing finer can be written */
    iso_newton_at(n, next);
  }
  return iso_newton_solved(n, ISO_TOLERABLE);
}

/* Solves equation(x) = 0, beginning at *x, between low and high if `bounded`. 0 if there was no solution. */
ISO_FUNCTION int iso_solve(iso_equation equation, void* context, double* x, int bounded, double low, double high) {
  iso_newton n = {equation, context, *x, {0, 0, 0}};
  iso_newton_at(&n, n.x);
  const int good = bounded ? iso_newton_enclosed(&n, low, high) : iso_newton_free(&n, -HUGE_VAL, HUGE_VAL);
  *x = n.x;
  return good;
}

/* ---- integration methods -------------------------------------------------------------------------------- */

/* Each makes one step of x' = f(t, x) from t to t + h, in place; k1 holds f(t, x) already. `work` has room for
 * the number of doubles said above each; stages lie at its beginning. In C none of the arrays overlap. */
typedef void (*iso_derivative)(void* context, double t, const double* x, double* dx);

/* Explicit Euler: order 1. No work. */
ISO_INLINE void iso_euler(int n, double h, double* ISO_ALONE x, const double* ISO_ALONE k1) {
  for (int i = 0; i < n; ++i) x[i] += h * k1[i];
}

/* Heun: order 2 (Hairer, Nørsett, Wanner, "Solving Ordinary Differential Equations I", II.1). Work: 2 n. */
ISO_INLINE void iso_heun(int n, double t, double h, double* ISO_ALONE x, const double* ISO_ALONE k1, iso_derivative f,
                         void* context, double* ISO_ALONE work) {
  double *stage = work, *k2 = work + n;
  for (int i = 0; i < n; ++i) stage[i] = x[i] + h * k1[i];
  f(context, t + h, stage, k2);
  for (int i = 0; i < n; ++i) x[i] += 0.5 * h * (k1[i] + k2[i]);
}

/* The classic Runge-Kutta method: order 4 (the same, II.1, table 1.2). Time constants below about 0.36 of the
 * step make it diverge: the edge of its stability region on the real axis is -2.785. Work: 4 n. */
ISO_INLINE void iso_rk4(int n, double t, double h, double* ISO_ALONE x, const double* ISO_ALONE k1, iso_derivative f,
                        void* context, double* ISO_ALONE work) {
  double *stage = work, *k2 = work + n, *k3 = work + 2 * n, *k4 = work + 3 * n;
  for (int i = 0; i < n; ++i) stage[i] = x[i] + 0.5 * h * k1[i];
  f(context, t + 0.5 * h, stage, k2);
  for (int i = 0; i < n; ++i) stage[i] = x[i] + 0.5 * h * k2[i];
  f(context, t + 0.5 * h, stage, k3);
  for (int i = 0; i < n; ++i) stage[i] = x[i] + h * k3[i];
  f(context, t + h, stage, k4);
  for (int i = 0; i < n; ++i) x[i] += h / 6.0 * (k1[i] + 2.0 * k2[i] + 2.0 * k3[i] + k4[i]);
}

/* (Compilers turn what follows into vectors, which they do not with a memcpy.) */
/* The place of the first number that is not finite; n if all are. The exponent of such a number is all ones: one more
 * carries into the sign. */
typedef union iso_bits {
  double number;
  uint64_t bits;
} iso_bits;
ISO_INLINE int iso_first_bad(int n, const double* x) {
  const iso_bits* b = (const iso_bits*)x;
  uint64_t any = 0;
  for (int i = 0; i < n; ++i) any |= (b[i].bits & UINT64_C(0x7ff0000000000000)) + UINT64_C(0x0010000000000000);
  if (any >> 63 == 0) return n;
  int i = 0;
  while (isfinite(x[i])) ++i;
  return i;
}

/* Factors a (n x n) into its triangles in place, rows exchanged for the largest pivots. 0 if a is singular. */
ISO_FUNCTION int iso_factor(int n, double* a, int* rows) {
  for (int k = 0; k < n; ++k) {
    int best = k;
    for (int i = k + 1; i < n; ++i) {
      if (fabs(a[i * n + k]) > fabs(a[best * n + k])) best = i;
    }
    rows[k] = best;
    if (!(fabs(a[best * n + k]) > 0)) return 0;
    if (best != k) {
      for (int j = 0; j < n; ++j) {
        const double held = a[k * n + j];
        a[k * n + j] = a[best * n + j];
        a[best * n + j] = held;
      }
    }
    for (int i = k + 1; i < n; ++i) {
      const double factor = a[i * n + k] / a[k * n + k];
      a[i * n + k] = factor;
      if (factor == 0) continue;
      for (int j = k + 1; j < n; ++j) a[i * n + j] -= factor * a[k * n + j];
    }
  }
  return 1;
}

/* Solves a x = b, with a as iso_factor left it; b becomes x. */
ISO_FUNCTION void iso_back(int n, const double* a, const int* rows, double* b) {
  for (int k = 0; k < n; ++k) {
    const double held = b[rows[k]];
    b[rows[k]] = b[k];
    b[k] = held;
  }
  for (int i = 1; i < n; ++i) {
    for (int j = 0; j < i; ++j) b[i] -= a[i * n + j] * b[j];
  }
  for (int i = n - 1; i >= 0; --i) {
    for (int j = i + 1; j < n; ++j) b[i] -= a[i * n + j] * b[j];
    b[i] /= a[i * n + i];
  }
}

/* Linearly implicit: the Rosenbrock method RODAS3, order 3, L-stable and stiffly accurate, for any stiffness at a
 * fixed cost: three evaluations, one factorisation, four back substitutions. `jacobian` is that of f (n x n,
 * overwritten), `df_dt` its slope in time. Source: Sandu, Verwer, Blom, Spee, Carmichael, Potra, "Benchmarking stiff
 * ODE solvers for atmospheric chemistry problems II", Atmospheric Environment 31 (1997).
 * Work: 6 n. 0 if the matrix is singular or a slope is not finite (with an infinite one nothing would move, and nobody
 * would know); x is then unchanged. `doubt`: the last stage is the difference to a method of order 2, which tells how
 * far the step may be off (ibid.). Where that is the largest share of a state so far (beyond 1e-9 in SI), `doubt` gets:
 * the share, `group`, the state within it, t; and one more step in the fifth place where it is over a tenth. */
#define ISO_MUCH_DOUBT 0.1
ISO_FUNCTION int iso_implicit(int n, double t, double h, double* x, const double* k1, double* jacobian,
                              const double* df_dt, iso_derivative f, void* context, double* work, int* rows, int group,
                              double* doubt) {
  double *stage = work, *k = work + n, *u1 = work + 2 * n, *u2 = work + 3 * n, *u3 = work + 4 * n, *u4 = work + 5 * n;
  if (iso_first_bad(n * n, jacobian) < n * n || iso_first_bad(n, df_dt) < n) return 0;
  for (int i = 0; i < n * n; ++i) jacobian[i] = -jacobian[i];
  for (int i = 0; i < n; ++i) jacobian[i * n + i] += 1 / (0.5 * h);
  if (!iso_factor(n, jacobian, rows)) return 0;
  for (int i = 0; i < n; ++i) u1[i] = k1[i] + 0.5 * h * df_dt[i];
  iso_back(n, jacobian, rows, u1);
  for (int i = 0; i < n; ++i) u2[i] = k1[i] + 1.5 * h * df_dt[i] + 4 / h * u1[i];
  iso_back(n, jacobian, rows, u2);
  for (int i = 0; i < n; ++i) stage[i] = x[i] + 2 * u1[i];
  f(context, t + h, stage, k);
  for (int i = 0; i < n; ++i) u3[i] = k[i] + (u1[i] - u2[i]) / h;
  iso_back(n, jacobian, rows, u3);
  for (int i = 0; i < n; ++i) stage[i] += u3[i];
  f(context, t + h, stage, k);
  for (int i = 0; i < n; ++i) u4[i] = k[i] + (u1[i] - u2[i] - 8.0 / 3.0 * u3[i]) / h;
  iso_back(n, jacobian, rows, u4);
  double worst = 0;
  for (int i = 0; i < n; ++i) {
    const double moved = x[i] + (2 * u1[i] + u3[i] + u4[i]);
    const double before = fabs(x[i]), after = fabs(moved), size = (before > after ? before : after) + 1e-9;
    const double share = fabs(u4[i]) / size;
    x[i] = moved;
    if (share > worst) worst = share;
    if (share > doubt[0]) {
      doubt[0] = share;
      doubt[1] = group;
      doubt[2] = i;
      doubt[3] = t;
    }
  }
  if (worst > ISO_MUCH_DOUBT) doubt[4] += 1;
  return 1;
}

ISO_FUNCTION void iso_product(int n, const double* a, const double* b, double* ab) {
  for (int i = 0; i < n; ++i) {
    double* row = ab + i * n;
    for (int j = 0; j < n; ++j) row[j] = 0;
    for (int k = 0; k < n; ++k) {
      const double factor = a[i * n + k];
      if (factor == 0) continue;
      for (int j = 0; j < n; ++j) row[j] += factor * b[k * n + j];
    }
  }
}

/* phi1 = h (e^z - 1)/z and phi2 = h^2 (e^z - 1 - z)/z^2 of the matrix z = h a, by Taylor's series of z / 2^s and the
 * doubling rules of Skaflestad and Wright, "The scaling and modified squaring method for matrix functions related to
 * the exponential", Appl. Numer. Math. 59 (2009). Work: 4 n n. */
ISO_FUNCTION void iso_phi(int n, double h, const double* a, double* phi1, double* phi2, double* work) {
  const int nn = n * n;
  double *z = work, *e = work + nn, *power = work + 2 * nn, *held = work + 3 * nn;
  double size = 0;
  for (int i = 0; i < n; ++i) {
    double row = 0;
    for (int j = 0; j < n; ++j) row += fabs(h * a[i * n + j]);
    if (row > size) size = row;
  }
  int doublings = 0;
  while (size > 0.5 && doublings < 1000) {
    size *= 0.5;
    ++doublings;
  }
  for (int i = 0; i < nn; ++i) {
    z[i] = ldexp(h * a[i], -doublings);
    power[i] = e[i] = phi1[i] = phi2[i] = 0;
  }
  for (int i = 0; i < n; ++i) power[i * n + i] = 1;
  double factorial = 1; /* k! */
  for (int k = 0; k <= 16; ++k) {
    if (k > 0) factorial *= k;
    for (int i = 0; i < nn; ++i) {
      e[i] += power[i] / factorial;
      phi1[i] += power[i] / (factorial * (k + 1));
      phi2[i] += power[i] / (factorial * (k + 1) * (k + 2));
    }
    iso_product(n, power, z, held);
    memcpy(power, held, (size_t)nn * sizeof(double));
  }
  for (int d = 0; d < doublings; ++d) {
    iso_product(n, e, phi2, held);
    for (int i = 0; i < nn; ++i) phi2[i] = 0.25 * (held[i] + phi1[i] + phi2[i]);
    iso_product(n, e, phi1, held);
    for (int i = 0; i < nn; ++i) phi1[i] = 0.5 * (held[i] + phi1[i]);
    iso_product(n, e, e, held);
    memcpy(e, held, (size_t)nn * sizeof(double));
  }
  for (int i = 0; i < nn; ++i) {
    phi1[i] *= h;
    phi2[i] *= h * h;
  }
}

/* Exact for x' = a x + b + c t: x + phi1 k1 + phi2 df_dt. `jacobian` is a; phi1 and phi2 are found anew only when a has
 * changed since the last call. `known` has room for 7 n n + 1 doubles, the first of them 0 before the first call. */
ISO_FUNCTION void iso_exact(int n, double h, double* x, const double* k1, const double* jacobian, const double* df_dt,
                            double* known) {
  const size_t nn = (size_t)n * (size_t)n;
  double *a = known + 1, *phi1 = a + nn, *phi2 = phi1 + nn, *work = phi2 + nn;
  if (known[0] != h || memcmp(a, jacobian, nn * sizeof(double)) != 0) {
    memcpy(a, jacobian, nn * sizeof(double));
    iso_phi(n, h, a, phi1, phi2, work);
    known[0] = h;
  }
  for (int i = 0; i < n; ++i) {
    double sum = 0;
    for (int j = 0; j < n; ++j)
      sum += phi1[(size_t)i * (size_t)n + (size_t)j] * k1[j] + phi2[(size_t)i * (size_t)n + (size_t)j] * df_dt[j];
    x[i] += sum;
  }
}

#ifdef __cplusplus
/* As long as it lives, tiny numbers count as zero. */
class IsoFlushed {
 public:
  IsoFlushed() : before_(iso_flush()) {}
  ~IsoFlushed() { iso_unflush(before_); }
  uint64_t before() const { return before_; }
  IsoFlushed(const IsoFlushed&) = delete;
  IsoFlushed& operator=(const IsoFlushed&) = delete;

 private:
  uint64_t before_;
};

/* The opposite, for foreign code that is called while tiny numbers count as zero. */
class IsoUnflushed {
 public:
  explicit IsoUnflushed(uint64_t plain) { iso_unflush(plain); }
  ~IsoUnflushed() { iso_flush(); }
  IsoUnflushed(const IsoUnflushed&) = delete;
  IsoUnflushed& operator=(const IsoUnflushed&) = delete;
};
#pragma GCC diagnostic pop
#endif
#endif
