// How long reading and checking takes as a bench grows: generated models, parts of parts, in one run side by
// side. Prints a table; exit status 1 if 100,000 lines take more than 2 s or 500 MB, or growth is far from linear.

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <string>

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/check/load.h"

using namespace isodyne;

namespace {

/// About `lines` lines: pairs of a model with a state, a sampled part and a group of two of them, in a chain.
std::string generated(std::size_t lines) {
  std::string text;
  std::size_t groups = lines / 26;
  for (std::size_t k = 0; k < groups; ++k) {
    text += fmt::format(R"(## Model number {0}.
model Basin{0} {{
  ## water surface
  param area : m^2 = 3 m^2  from 1 m^2 to 10 m^2
  input inflow : m^3/s = 0 m^3/s
  output state level : m = 2 m  limited 0 m .. 5 m
  output flow : m^3/s
  memory above : int = 0
  let leak = 0.01 m^2/s * level
  level' = (inflow - leak) / area
  flow = max(leak, 0) + 0.1 * area * 1 m/s
  every 100 ms {{
    above := if level > 4.8 m then above + 1 else 0
  }}
}}
model Pair{0} {{
  input inflow : m^3/s = 0 m^3/s
  output flow : m^3/s
  part first : Basin{0}
  part second : Basin{0}(area = 5 m^2)
  first.inflow = inflow
  second.inflow = first.flow
  flow = second.flow
}}
)",
                        k);
  }
  text += "bench Big {\n  step 10 ms\n";
  for (std::size_t k = 0; k < groups; ++k)
    text += fmt::format("  part p{0} : Pair{0}\n  p{0}.inflow = {1}\n", k,
                        k == 0 ? "0.1 m^3/s" : fmt::format("p{}.flow", k - 1));
  return text + "}\n";
}

struct Figures {
  double seconds = 0, megabytes = 0;
  std::size_t parts = 0;
};

/// In a process of its own, so that the memory of one size does not hide behind that of another.
Figures measure(const std::string& text) {
  int ends[2];
  if (pipe(ends) != 0) return {};
  if (fork() == 0) {
    Figures f;
    const auto begin = std::chrono::steady_clock::now();
    const check::Loaded loaded =
        check::load_bench("", "big.dyne", [&](const std::string&) -> Result<std::string> { return text; });
    f.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    f.megabytes = static_cast<double>(usage.ru_maxrss) / 1024;
    f.parts = loaded.program == nullptr ? 0 : loaded.program->parts.size();
    const bool written = write(ends[1], &f, sizeof f) == static_cast<ssize_t>(sizeof f);
    _exit(written ? 0 : 1);
  }
  Figures f;
  const bool got = read(ends[0], &f, sizeof f) == static_cast<ssize_t>(sizeof f);
  wait(nullptr);
  close(ends[0]);
  close(ends[1]);
  return got ? f : Figures{};
}

}  // namespace

int main() {
  std::printf("%10s %10s %10s %12s %14s\n", "lines", "parts", "time", "memory", "per line");
  double first = 0, last = 0;
  Figures big;
  for (const std::size_t lines : {1'000u, 3'000u, 10'000u, 30'000u, 100'000u}) {
    const std::string text = generated(lines);
    const auto written = static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
    Figures best;
    for (int i = 0; i < 5; ++i) {
      const Figures f = measure(text);
      if (i == 0 || f.seconds < best.seconds) best = f;
    }
    const double per_line = best.seconds / static_cast<double>(written) * 1e6;
    std::printf("%10zu %10zu %8.3f s %9.1f MB %11.2f us\n", written, best.parts, best.seconds, best.megabytes,
                per_line);
    if (lines == 10'000) first = per_line;
    last = per_line;
    big = best;
  }
  const bool good = big.parts > 0 && big.seconds < 2 && big.megabytes < 500 && last < 2 * first;
  std::printf("%s\n", good ? "100,000 lines stay below 2 s and 500 MB, and growth is close to linear"
                           : "100,000 lines take too much, or growth is not linear");
  return good ? 0 : 1;
}
