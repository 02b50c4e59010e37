// One meaning, two executions: interpreter and native code give the same bits.

#include "isodyne/engine/native.h"

#include <cstdlib>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("Interpreter and native code agree to the bit on random programs") {
  // Each bench holds many random models: compiling is what takes the time. scripts/differential runs 10,000.
  const char* wanted = std::getenv("ISODYNE_RANDOM_MODELS");
  const char* chosen = std::getenv("ISODYNE_RANDOM_SEED");
  const int models = wanted == nullptr ? 120 : std::atoi(wanted), per_bench = 40;
  const std::uint64_t seed = chosen == nullptr ? 4 : std::strtoull(chosen, nullptr, 10);
  const engine::NativeSettings settings = test_compiler();
  for (int first = 0; first < models; first += per_bench) {
    const std::string text = random_bench(seed, first, per_bench);
    INFO("seed " << seed << ", models from " << first);
    const model::Loaded loaded = load_text(text);
    if (loaded.program == nullptr) {
      INFO(diagnostics_of(text).substr(0, 2000));
      FAIL("a random bench is wrong");
    }
    const std::string found = first_difference(loaded.program, 120, seed, settings);
    if (found.empty()) continue;
    WARN(found);  // at once: shrinking takes minutes
    FAIL(found + "\n" + shrunk(text, 120, seed, settings));
  }
}

TEST_CASE("Interpreter and native code agree to the bit on the examples") {
  for (const char* name : {"canal-lock/lock.dyne", "quay-hoist/hoist.dyne"}) {
    INFO(name);
    CHECK(first_difference(program_in(std::string("examples/") + name), 3000, 1, test_compiler()) == "");
  }
}
