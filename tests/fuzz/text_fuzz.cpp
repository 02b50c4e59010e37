// libFuzzer target: any text is checked, formatted, listed; what is accepted runs for a few steps. Nothing may
// crash, hang or leak. scripts/fuzz builds and runs it over all examples and library files.

#include <cstdint>
#include <cstdlib>
#include <map>
#include <set>
#include <string>

#include "isodyne/check/load.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/lang/format.h"

using namespace isodyne;

namespace {

/// Every `use` finds a small text, every table a small file.
Result<std::string> read_beside(const std::string& name) {
  if (name.ends_with(".csv")) return std::string("t [s], p [kW]\n0, 1\n10, 2\n");
  return std::string(
      "model Used {\n  unit Q = 1\n  param a : Q = 1 Q\n  input u : Q = 0 Q\n  output state x : Q = 0 Q\n"
      "  x' = (a + u - x) / 1 s\n}\n");
}

void check(const std::string& text) {
  const check::Loaded loaded = check::load_bench(
      "", "main.dyne",
      [&](const std::string& name) -> Result<std::string> { return name == "main.dyne" ? text : read_beside(name); },
      {.rules = {}, .harness = "", .bench_needed = false, .rated = true, .lint = true});
  if (loaded.diagnostics.has_errors() && loaded.diagnostics.render(*loaded.sources, false).empty()) std::abort();
  if (loaded.program == nullptr || loaded.program->variables.size() > 2000) return;
  std::int64_t remembered = 0;
  for (const program::Delay& d : loaded.program->delays) remembered += d.longest / loaded.program->step;
  if (remembered > 1'000'000) return;
  engine::RunningPlant plant(loaded.program);
  engine::PlantState state = plant.start({});
  for (int i = 0; i < 5; ++i) {
    plant.settle(state);
    if (plant.step(state).kind != engine::PlantTrouble::Kind::none) break;
  }
}

void format(const std::string& text) {
  Sources sources;
  Diagnostics diagnostics;
  const std::string once = lang::format_text(sources, sources.add("main.dyne", text), diagnostics);
  if (diagnostics.has_errors()) return;
  Sources again;
  Diagnostics none;
  if (lang::format_text(again, again.add("main.dyne", once), none) != once) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  check(text);
  format(text);
  return 0;
}
