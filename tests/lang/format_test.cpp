#include <algorithm>
#include <filesystem>

#include <catch2/catch.hpp>

#include "isodyne/lang/format.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

std::string formatted(const std::string& text) {
  Sources sources;
  Diagnostics diagnostics;
  return lang::format_text(sources, sources.add("x.dyne", text), diagnostics);
}

/// Every text of the repository in the language.
std::vector<std::filesystem::path> all_texts() {
  std::vector<std::filesystem::path> files;
  for (const char* folder : {"/library", "/examples"}) {
    for (const auto& entry :
         std::filesystem::recursive_directory_iterator(std::string(ISODYNE_SOURCE_FOLDER) + folder)) {
      if (entry.path().extension() == ".dyne") files.push_back(entry.path());
    }
  }
  return files;
}

}  // namespace

TEST_CASE("A text without form gets its form, and keeps every comment") {
  CHECK(formatted(R"(use   "plant.dyne" , "rules.dyne"
# a comment
## doc
model  Tank{
param area:m^2=3 m^2 from 1 m^2 to 10 m^2   # trailing



      input inflow : m^3/s=-3 m^3/s
    output   state level : m=2 m limited 0 m..5 m #end
let x : m*s=-(3 m*2 s)+level*1 s
 every 100 ms{
   if level>3 m{ n:=n+1 }
 }

}
table t(x:m)->s=[0 m:1 s,2 m:-3 s] linear
requirement R-1{always level<=3 m and
   level>-1 m}
requirement 4.2 { never level  within 1 cm of 3 m })") ==
        R"(use   "plant.dyne", "rules.dyne"
# a comment
## doc
model  Tank {
  param area: m^2 = 3 m^2 from 1 m^2 to 10 m^2   # trailing

  input inflow : m^3/s = -3 m^3/s
  output   state level : m = 2 m limited 0 m .. 5 m  #end
  let x : m*s = -(3 m * 2 s) + level * 1 s
  every 100 ms {
    if level > 3 m { n := n + 1 }
  }
}
table t(x: m) -> s = [0 m: 1 s, 2 m: -3 s] linear
requirement R-1 { always level <= 3 m and
    level > -1 m }
requirement 4.2 { never level  within 1 cm of 3 m }
)");
}

TEST_CASE("Formatting what is formatted changes nothing") {
  const auto files = all_texts();
  CHECK(files.size() >= 15);
  for (const auto& file : files) {
    INFO(file);
    const std::string once = formatted(slurp(file.string()));
    CHECK(formatted(once) == once);
    CHECK(once == slurp(file.string()));  // what is shipped is formatted
  }
}

TEST_CASE("A text squeezed to one blank between words comes back with the same meaning") {
  for (const auto& file : all_texts()) {
    INFO(file);
    std::string text = slurp(file.string()), squeezed;
    for (const char c : text) {
      if (c == ' ' && !squeezed.empty() && (squeezed.back() == ' ' || squeezed.back() == '\n')) continue;
      squeezed += c;
    }
    const std::string again = formatted(squeezed);
    std::string words, words_before;
    for (const char c : again) words += c == ' ' || c == '\n' ? "" : std::string(1, c);
    for (const char c : text) words_before += c == ' ' || c == '\n' ? "" : std::string(1, c);
    CHECK(words == words_before);
    CHECK(formatted(again) == again);
  }
}

TEST_CASE("A text with mistakes stays as it is") {
  CHECK(formatted("model  M {\n  let = 3\n}\n") == "model  M {\n  let = 3\n}\n");
}
