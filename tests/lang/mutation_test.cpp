// Hostile text: ten thousand random mutations of the canal lock's files. Run under the sanitizers by
// scripts/test. What still checks is also run for a moment, since a bench that passes must not crash either.

#include <algorithm>
#include <filesystem>
#include <map>

#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/present/report.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr int kMutations = 10'000;
constexpr std::uint64_t kTextSeed = 20261123;

std::size_t index_below(RandomStream& random, std::size_t n) {
  return n == 0 ? 0 : static_cast<std::size_t>(random.next() % n);
}

/// One to four changes: bytes and stretches deleted, doubled, swapped, overwritten, numbers made extreme.
std::string mutated(std::string text, RandomStream& random) {
  static const std::vector<std::string> kBits = {"(",
                                                 ")",
                                                 "{",
                                                 "}",
                                                 "'",
                                                 "=",
                                                 ":=",
                                                 "..",
                                                 "->",
                                                 "\"",
                                                 "\n",
                                                 "#",
                                                 "##",
                                                 "%",
                                                 " m",
                                                 " s",
                                                 "-",
                                                 "1e308",
                                                 "0",
                                                 "999999999999",
                                                 "if",
                                                 "then",
                                                 "else",
                                                 "not",
                                                 "is",
                                                 "at limit",
                                                 "within",
                                                 "of",
                                                 "every",
                                                 "µ",
                                                 "\xff",
                                                 std::string(1, '\0'),
                                                 "becomes active",
                                                 "^",
                                                 "model",
                                                 "part"};
  const std::size_t changes = 1 + index_below(random, 4);
  for (std::size_t i = 0; i < changes && !text.empty(); ++i) {
    const std::size_t at = index_below(random, text.size()),
                      length = std::min(1 + index_below(random, 40), text.size() - at);
    switch (index_below(random, 6)) {
      case 0:
        text.erase(at, length);
        break;
      case 1:
        text.insert(index_below(random, text.size()), text.substr(at, length));
        break;
      case 2:
        text[at] = static_cast<char>(random.next());
        break;
      case 3:
        text.insert(at, kBits[index_below(random, kBits.size())]);
        break;
      case 4: {
        const std::size_t other = index_below(random, text.size());
        std::swap(text[at], text[other]);
        break;
      }
      default: {  // exchange two words
        const std::size_t blank = text.find(' ', at);
        if (blank != std::string::npos) text.replace(blank, 1, " " + kBits[index_below(random, kBits.size())] + " ");
      }
    }
  }
  return text;
}

/// Answers nothing, at once.
struct SilentPort : ports::ControllerPort {
  Status open(Time) override { return Done{}; }
  Status exchange(Time, std::span<const double>, std::span<double> writes) override {
    std::fill(writes.begin(), writes.end(), 0.0);
    return Done{};
  }
  void close() override {}
};

}  // namespace

TEST_CASE("Ten thousand mutations of the canal lock never crash, hang or leak") {
  std::map<std::string, std::string> files;
  for (const char* name :
       {"lock.dyne", "plant.dyne", "rules.dyne", "faults.dyne", "scenarios.dyne", "logic.dyne", "panels.dyne", "campaigns.dyne", "failures.dyne", "hazards.dyne"}) {
    files[name] = slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/examples/canal-lock/" + name);
    REQUIRE_FALSE(files[name].empty());
  }
  files["library:modules.dyne"] = slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/library/modules.dyne");
  int accepted = 0;
  // Under the sanitizers every tenth; scripts/fuzz makes a million there.
  constexpr int kEvery = kSanitized ? 10 : 1;
  for (int i = 0; i < kMutations; i += kEvery) {
    RandomStream random(kTextSeed + static_cast<std::uint64_t>(i), "mutation");
    auto victim = files.begin();
    std::advance(victim, static_cast<std::ptrdiff_t>(index_below(random, files.size())));
    const std::string changed = mutated(victim->second, random);
    INFO("mutation " << i << " of " << victim->first);
    const check::Loaded loaded =
        check::load_bench("", "lock.dyne", [&](const std::string& name) -> Result<std::string> {
          if (name == victim->first) return changed;
          const auto found = files.find(name);
          if (found == files.end()) return Failure{"cannot read", name, "no such file"};
          return found->second;
        });
    const std::string said = loaded.diagnostics.render(*loaded.sources, false);
    if (loaded.program == nullptr) {
      REQUIRE_FALSE(said.empty());
      continue;
    }
    ++accepted;
    Seen seen(loaded.program);
    bench::RunPlan plan;
    plan.scenario = loaded.program->scenarios.empty() ? program::kNone : 0;
    if (!loaded.program->faults.empty()) plan.faults = {0};
    plan.longest = loaded.program->step * 20;
    const std::atomic<bool> stop{false};
    if (bench::trouble_with(*loaded.program, plan)) continue;
    bench::Run run(
        loaded.program, plan, [](const auto&, const auto&) { return std::make_unique<SilentPort>(); }, seen);
    run.execute(stop);
  }
  CHECK(accepted > kMutations / kEvery / 20);  // the mutations reach beyond the parser
}
