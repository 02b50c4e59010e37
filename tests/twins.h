#pragma once
// The same program by interpreter on one thread and by native code on several, bit for bit; and programs made at random
// for it.

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/engine/native.h"

namespace isodyne::test {

/// How the tests compile: quickly, and kept only in a folder of their own.
engine::NativeSettings test_compiler(const std::string& cache = "");

/// Runs a program by interpreter, by native code, and by one that hands over to the other on the way, with
/// inputs, parameters and faults changing at random. Says what differs first; empty: nothing.
std::string first_difference(const std::shared_ptr<const program::Program>& program, int steps, std::uint64_t seed,
                             const engine::NativeSettings& settings);

/// A model that uses the whole language at random: the same number gives the same text.
std::string random_model(std::uint64_t seed, int number, bool linear);
/// A bench of such models, wired to each other, with rates and methods at random.
std::string random_bench(std::uint64_t seed, int first, int count);

/// The smallest text that still differs, found by leaving out parts, then lines.
std::string shrunk(const std::string& text, int steps, std::uint64_t seed, const engine::NativeSettings& settings);

}  // namespace isodyne::test
