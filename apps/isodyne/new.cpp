#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

constexpr const char* kPlant =
    R"(# The plant: what the bench is about. Quantities have units; equations stand in any order.

## A basin with a pump and a leak.
model Basin {
  ## water surface; may be changed during a run, within its limits
  param area : m^2 = 4 m^2  from 1 m^2 to 100 m^2
  ## what the pump delivers
  input inflow : l/s
  ## a state moves by itself; this one stays between the bottom and the rim
  output state level : m = 0.5 m  limited 0 m .. 2 m

  let leak = 2 l/s * level / 1 m
  level' = (inflow - leak) / area
}
)";

constexpr const char* kBench = R"(# A small bench that runs: isodyne run bench.dyne fill
use "plant.dyne"
use library "control.dyne"

bench Start {
  step 10 ms  method rk4
  record every 100 ms

  ## what the operator asks for; scenarios set it
  input wanted : m = 0.5 m

  part basin : Basin
  ## the controller, here a part in the language; a program of your own comes in with `controller`
  part pi : Pi(Q: m, U: l/s, gain = 20 l/(s*m), integral_time = 5 min, tracking_time = 10 s, low = 0 l/s, high = 10 l/s)
  pi.setpoint = wanted
  pi.measured = level
  basin.inflow = pi.y

  ## the level transmitter
  sensor level {
    of basin.level
    range 0 m .. 2 m  as 4 mA .. 20 mA  counts 0 .. 4000
    every 100 ms  filter 200 ms  noise 2 mm
  }

  figure filling "level and inflow" {
    panel basin.level, wanted
    panel basin.inflow
  }
}

# What can break. A fault never touches the plant's text: isodyne run bench.dyne fill --fault reads_low
## the transmitter reads too low
fault reads_low { on level  offset -60 cm  from 3 min }

# What happens.
## the basin is filled to 1.5 m
scenario fill {
  start basin.level = 0.5 m
  hold 10 s
  set wanted = 1.5 m
  wait until basin.level within 2 cm of 1.5 m  within 30 min
  hold 10 min
}

# What must hold.
## The water stays below the rim.
requirement S-1 { always basin.level < 1.9 m }
## The level is reached in time.
requirement S-2 { whenever wanted > 1 m then within 20 min  basin.level > 1.45 m }
)";

constexpr const char* kReadme = R"(# A bench of your own

    isodyne check bench.dyne                        # is everything in order?
    isodyne run bench.dyne fill                     # run the scenario, judge it, leave a report in runs/
    isodyne run bench.dyne fill --fault reads_low   # the same with a fault: requirement S-1 breaks
    isodyne list bench.dyne basin.level             # what a name means
    isodyne draw bench.dyne                         # a picture of the parts

`plant.dyne` describes the plant, `bench.dyne` everything around it.
)";

}  // namespace

int run_new(const Arguments& arguments) {
  namespace fs = std::filesystem;
  const fs::path folder = arguments.words[0];
  std::error_code error;
  for (const char* name : {"bench.dyne", "plant.dyne", "README.md"}) {
    if (!fs::exists(folder / name, error)) continue;
    say_error(fmt::format("{} exists already; name another folder", (folder / name).string()));
    return kWrongInput;
  }
  fs::create_directories(folder, error);
  if (error) {
    say_error(fmt::format("cannot create the folder {}: {}", folder.string(), error.message()));
    return kNotCompleted;
  }
  const std::pair<const char*, const char*> files[] = {
      {"plant.dyne", kPlant}, {"bench.dyne", kBench}, {"README.md", kReadme}};
  for (const auto& [name, text] : files) {
    const Status written = write_file((folder / name).string(), text);
    if (written) continue;
    say_error(written.failure().text());
    return kNotCompleted;
  }
  say(
      fmt::format("started a bench in {0}; try\n\n  isodyne run {0}/bench.dyne fill\n  isodyne run {0}/bench.dyne fill "
                  "--fault reads_low",
                  folder.string()));
  return kHeld;
}

}  // namespace isodyne::app
