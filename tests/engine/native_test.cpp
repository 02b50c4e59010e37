// One meaning, two executions: interpreter and native code give the same bits.

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <thread>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/engine/native.h"
#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("Interpreter and native code agree to the bit on random programs") {
  // Each bench holds many random models: compiling is what takes the time. scripts/differential runs 10,000.
  const char* wanted = std::getenv("ISODYNE_RANDOM_MODELS");
  const char* chosen = std::getenv("ISODYNE_RANDOM_SEED");
  const int models = wanted == nullptr ? (kSanitized ? 36 : 120) : std::atoi(wanted), per_bench = kSanitized ? 12 : 40;
  const std::uint64_t seed = chosen == nullptr ? 4 : std::strtoull(chosen, nullptr, 10);
  // In turns: quickly compiled, as a run compiles, and with a trap at whatever C leaves undefined.
  engine::NativeSettings ways[3] = {test_compiler(), test_compiler(), test_compiler()};
  ways[1].flags.clear();
  ways[2].flags = {"-O1", "-fsanitize=undefined", "-fsanitize-undefined-trap-on-error"};
  for (int first = 0; first < models; first += per_bench) {
    const std::string text = random_bench(seed, first, per_bench);
    INFO("seed " << seed << ", models from " << first);
    const engine::NativeSettings& settings = ways[first / per_bench % 3];
    const check::Loaded loaded = load_text(text);
    if (loaded.program == nullptr) {
      INFO(diagnostics_of(text).substr(0, 2000));
      FAIL("a random bench is wrong");
    }
    const std::string found = first_difference(loaded.program, 120, seed, settings);
    if (found.empty()) {
      SUCCEED("these are equal");
      continue;
    }
    WARN(found);  // at once: shrinking takes minutes
    FAIL(found + "\n" + shrunk(text, 120, seed, settings));
  }
}

TEST_CASE("Functions of numbers are not left to the compiler, whose library rounds in another way") {
  CHECK(first_difference(program_of("bench B { step 1 ms\n  let e : 1 = 1.974\n  output state x : 1 = 0\n"
                                    "  x' = atan2(e * 0.239, 1 + e^2) / 1 rad / 1 s\n}"),
                         3, 1, test_compiler()) == "");
}

TEST_CASE("No product and sum are rounded once where they stand for two operations") {
  // gcc 12 makes one vector instruction of these two equations when it compiles as for a large plant, whatever
  // -ffp-contract says, if the processor has it and it is not forbidden.
  engine::CCode large;
  large.small = false;
  engine::NativeSettings settings = engine::NativeSettings::usual();
  settings.flags = settings.words(large);
  settings.cache.clear();
  CHECK(first_difference(program_of("bench B { step 2500 us  method heun\n  input u : 1 = 0.383\n"
                                    "  output state x : 1 = 0.103\n  output state y : 1 = 0.443\n"
                                    "  x' = (-0.865 * u + (-1.065) * x + 0.018 * y + 0.1 * (time / 1 s)) / 100 ms\n"
                                    "  y' = (0.865 * u + (-0.330) * x + (-0.693) * y) / 100 ms\n}"),
                         400, 4, settings) == "");
}

TEST_CASE("A sampled part leaves alone what was computed before it and is needed behind it") {
  // The bound -5 is computed once, for the first element, which does not wait for c; the second does.
  const std::string text =
      "bench B { step 20 ms\n  output memory c : 1 = 0\n  state q : 1[2] = 0\n  let e = 2.5 + time / 1 s\n"
      "  q' = (clamp([e, c], -5, 5) - q) / 1 s\n  solve w : 1 from w + sin(w) = e\n  every 20 ms { c := 2 * sin(c) - 7 "
      "+ 0 * w }\n}";
  const auto program = program_of(text);
  engine::RunningPlant plant(program);
  engine::PlantState state = plant.start({});
  plant.solve(state);
  plant.settle(state);
  CHECK(state[program->states[1].derivative] == -5);
  CHECK(first_difference(program, 5, 1, test_compiler()) == "");
}

TEST_CASE("Interpreter and native code agree to the bit on the examples") {
  for (const char* name : {"canal-lock/lock.dyne", "quay-hoist/hoist.dyne"}) {
    INFO(name);
    CHECK(first_difference(program_in(std::string("examples/") + name), 3000, 1, test_compiler()) == "");
  }
}

namespace {

constexpr const char* kOneState = "bench B { step 1 ms\n  output state x : 1 = 1\n  x' = -x / 1 s\n}";

struct Made {
  bool good = false, cached = false;
  std::string remark, failure;
};

Made make(const engine::NativeSettings& settings, const char* text = kOneState) {
  const auto program = program_of(text);
  const engine::Plan plan(*program);
  const std::atomic<bool> stop{false};
  Made made;
  const auto code = engine::NativeCode::make(*program, plan, settings, made.remark, stop);
  made.good = static_cast<bool>(code);
  if (code) {
    made.cached = (*code)->cached;
  } else {
    made.failure = code.failure().text();
  }
  return made;
}

std::vector<std::filesystem::path> files_in(const std::string& folder) {
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(folder)) files.push_back(entry.path());
  return files;
}

/// A stand-in for a compiler: a shell script.
std::string script(const TestFolder& folder, const std::string& body) {
  const std::string file = folder.write("fake-cc", "#!/bin/sh\n" + body + "\n");
  std::filesystem::permissions(file, std::filesystem::perms::owner_all);
  return file;
}

}  // namespace

TEST_CASE("Native code comes from the cache the second time, and only for the same text, flags and compiler") {
  const TestFolder folder;
  engine::NativeSettings settings = test_compiler(folder / "cache");
  CHECK_FALSE(make(settings).cached);
  CHECK(make(settings).cached);
  CHECK_FALSE(make(settings, "bench B { step 1 ms\n  output state x : 1 = 1\n  x' = -2 * x / 1 s\n}").cached);
  settings.flags = {"-O0"};
  CHECK_FALSE(make(settings).cached);
  CHECK(files_in(folder / "cache").size() == 3);
}

TEST_CASE("A damaged file of the cache is noticed, said, and made anew") {
  const TestFolder folder;
  const engine::NativeSettings settings = test_compiler(folder / "cache");
  REQUIRE(make(settings).good);
  const std::string file = files_in(folder / "cache").front().string();
  const std::string whole = slurp(file);
  for (const std::string& damaged : {whole.substr(0, whole.size() / 2), std::string{}, "x" + whole.substr(1),
                                     whole.substr(0, 5000) + "?" + whole.substr(5001)}) {
    std::ofstream(file, std::ios::binary) << damaged;
    const Made again = make(settings);
    CHECK(again.good);
    CHECK_FALSE(again.cached);
    CHECK(again.remark.find("damaged") != std::string::npos);
    CHECK(slurp(file) == whole);
  }
}

TEST_CASE("The cache keeps what was used last within its size") {
  const TestFolder folder;
  engine::NativeSettings settings = test_compiler(folder / "cache");
  settings.cache_limit = 40'000;  // about two files
  for (int i = 1; i <= 5; ++i)
    REQUIRE(make(settings,
                 fmt::format("bench B {{ step 1 ms\n  output state x : 1 = {}\n  x' = -{} * x / 1 s\n}}", i, i).c_str())
                .good);
  const auto left = files_in(folder / "cache").size();
  CHECK(left >= 1);
  CHECK(left <= 2);
}

TEST_CASE("Several builds of one program at once end with one file, and all are served") {
  const TestFolder folder;
  const engine::NativeSettings settings = test_compiler(folder / "cache");
  const auto program = program_of(kOneState);
  std::vector<std::thread> threads;
  std::atomic<int> good{0};
  for (int i = 0; i < 6; ++i) {
    threads.emplace_back([&] {
      const engine::Plan plan(*program);
      std::string remark;
      const std::atomic<bool> stop{false};
      if (engine::NativeCode::make(*program, plan, settings, remark, stop)) ++good;
    });
  }
  for (std::thread& t : threads) t.join();
  CHECK(good == 6);
  CHECK(files_in(folder / "cache").size() == 1);
}

TEST_CASE("A compiler that fails, dies or hangs is said, and leaves nothing behind") {
  const TestFolder folder;
  engine::NativeSettings settings = test_compiler(folder / "cache");
  settings.compiler = script(folder, "echo 'model.c:3: error: no registers left today' >&2\nexit 1");
  CHECK(make(settings).failure.find("no registers left today") != std::string::npos);
  settings.compiler = script(folder, "kill -9 $$");
  CHECK(make(settings).failure.find("137") != std::string::npos);
  settings.compiler = script(folder, "sleep 60");
  settings.patience = std::chrono::milliseconds(200);
  CHECK(make(settings).failure.find("it took longer than") != std::string::npos);
  settings.compiler = "";
  CHECK(make(settings).failure == "no C compiler was found");
  settings.compiler = script(folder, "exit 0");  // says all is well and writes nothing
  CHECK_FALSE(make(settings).good);
  CHECK(files_in(folder / "cache").empty());
}

TEST_CASE("Without a place for a cache native code is made all the same") {
  const TestFolder folder;
  folder.write("occupied", "a file where a folder should be");
  const Made made = make(test_compiler(folder / "occupied/cache"));
  CHECK(made.good);
  CHECK(made.remark.find("not kept") != std::string::npos);
}

TEST_CASE("Native code makes 10,000 states step, and steps do not allocate") {
  std::string text = "bench B { step 1 ms\n";
  for (int i = 0; i < 10'000; ++i) text += fmt::format("  output state x{0} : 1 = {1}\n", i, i % 7);
  for (int i = 0; i < 10'000; ++i) text += fmt::format("  x{}' = (x{} - x{}) / 1 s\n", i, (i + 1) % 10'000, i);
  engine::NativeSettings settings = test_compiler();
  settings.flags = {"-O0"};
  CHECK(first_difference(program_of(text + "}"), 3, 1, settings) == "");
}
