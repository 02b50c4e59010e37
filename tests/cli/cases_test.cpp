// Text cases: tests/cli/cases/NAME.case holds a bench, a line of dashes, and what `isodyne check` says.
// scripts/refresh-cases writes the expected part anew; read the difference before committing it.

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <set>

#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace fs = std::filesystem;

namespace {
constexpr const char* kRule = "\n----\n";

std::vector<fs::path> cases() {
  std::vector<fs::path> all;
  for (const auto& entry : fs::directory_iterator(std::string(ISODYNE_SOURCE_FOLDER) + "/tests/cli/cases")) {
    if (entry.path().extension() == ".case") all.push_back(entry.path());
  }
  std::sort(all.begin(), all.end());
  return all;
}
}  // namespace

TEST_CASE("Every text case gives the expected diagnostics") {
  const bool refresh = std::getenv("ISODYNE_REFRESH") != nullptr;
  for (const fs::path& file : cases()) {
    INFO(file.filename().string());
    const std::string text = slurp(file.string());
    const std::size_t rule = text.find(kRule);
    REQUIRE((refresh || rule != std::string::npos));
    const std::string input = text.substr(0, rule) + "\n";
    const TestFolder folder;
    folder.write("bench.dyne", input);
    const Output output = run_isodyne("check bench.dyne", folder.path());
    const std::string said = output.err + output.out;
    if (refresh) {
      std::ofstream(file, std::ios::binary) << text.substr(0, rule) << kRule << said;
      continue;
    }
    CHECK(said == text.substr(rule + std::string(kRule).size()));
    const bool bad = file.filename().string().starts_with("bad_");
    CHECK(output.status == (bad ? 2 : 0));
  }
}

TEST_CASE("Every diagnostic code has a case that shows it") {
  std::string all;
  for (const fs::path& file : cases()) {
    const std::string text = slurp(file.string());
    all += text.substr(std::min(text.find(kRule), text.size()));
  }
  for (const char* code : {
#define DIAGNOSTIC(id, text) text,
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
       }) {
    INFO(code);
    // too-large needs a bench of a size nobody wants to read, which model_test.cpp makes; two are about recordings
    // (judge_test.cpp).
    const bool elsewhere = std::string("too-large not-recorded window-too-long").find(code) != std::string::npos;
    CHECK((elsewhere || all.find("[" + std::string(code) + "]") != std::string::npos));
  }
}
