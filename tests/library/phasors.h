#pragma once
// Runs of circuits of the library, and what their last 20 ms are as phasors of 50 Hz.

#include <cmath>
#include <complex>
#include <numbers>

#include <catch2/catch.hpp>

#include "support.h"

namespace isodyne::test {

using Phasor = std::complex<double>;
constexpr double kMainsOmega = 2 * std::numbers::pi * 50;  // rad/s

inline Seen run_of_library(const std::string& library, const std::string& text, const std::vector<std::string>& signals,
                           double seconds) {
  const auto p = program_of("use library \"" + library + "\"\n" + text);
  Seen seen(p, signals);
  bench::RunPlan plan;
  plan.longest = Time(static_cast<std::int64_t>(std::llround(seconds * 1e9)));
  const auto result = run_bench(seen, plan);
  INFO(result.explanation);
  REQUIRE(result.ending == observe::Ending::completed);
  return seen;
}

/// Instants of the last 20 ms.
inline std::size_t last_cycle_of(const Seen& seen) {
  return static_cast<std::size_t>(std::llround(20e-3 / to_seconds(seen.program->step)));
}

/// The peak phasor (cosine: real).
inline Phasor phasor(const Seen& seen, std::size_t signal) {
  const auto& v = seen.values[signal];
  const std::size_t count = last_cycle_of(seen);
  Phasor sum = 0;
  for (std::size_t i = v.size() - count; i < v.size(); ++i)
    sum += v[i] * std::polar(1.0, -kMainsOmega * to_seconds(seen.times[i]));
  return sum * 2.0 / double(count);
}

inline double mean(const Seen& seen, std::size_t signal) {
  const auto& v = seen.values[signal];
  const std::size_t count = last_cycle_of(seen);
  double sum = 0;
  for (std::size_t i = v.size() - count; i < v.size(); ++i) sum += v[i];
  return sum / double(count);
}

inline void near(Phasor is, Phasor should, double share) {
  INFO(is.real() << " " << is.imag() << " should be " << should.real() << " " << should.imag());
  CHECK(std::abs(is - should) <= share * std::abs(should));
}

}  // namespace isodyne::test
