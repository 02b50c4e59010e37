// Cases of a campaign that have a beginning in common: computed once, and all the same to the bit.

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A tank whose controller counts, remembers and answers late; faults of every kind come at all times, or never.
std::string dosed_tank(const std::string& settings) {
  return "bench Tank {\n  step 10 ms  method rk4\n  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n"
         "  param leak : l/s = 1 l/s\n  input inflow : l/s = 1 l/s\n  output state level : m = 1 m\n"
         "  level' = rise\n"
         "  sensor gauge { of level  every 20 ms  noise 1 mm }\n  actuator pump : 1\n"
         "  let rise = (inflow + 4 l/s * pump - leak) / area\n"
         "  controller c {\n    every 20 ms\n    reads gauge\n    writes pump\n" +
         settings +
         "  }\n}\n"
         "model Logic {\n  input gauge : m\n  output memory pump : 1 = 0\n  memory was : m = 1 m\n"
         "  every 20 ms {\n    pump := clamp(pump + 0.1 * (1.2 - gauge / 1 m), 0, 1)\n    was := gauge\n  }\n}\n"
         "fault early { on gauge  offset 5 cm }\nfault late { on gauge  offset 20 cm  from 6 s }\n"
         "fault never { on gauge  freeze  once level > 50 m }\nfault frozen { on gauge  freeze  once level > 1.1 m }\n"
         "fault noisy { on gauge  noise 3 cm  from 4 s to 7 s }\nfault drop { on gauge  dropout 40 %  from 5 s }\n"
         "fault half {\n  on gauge\n  memory at : m = 1 m\n  at := if abs(it - at) > 3 cm then it else at\n"
         "  replace with at\n  from 3 s\n}\n"
         "fault more { on leak  times 2  once gauge > 1.12 m }\nfault tick { on leak  offset 1 l/s  from 2 s pulsing "
         "100 "
         "ms every 1 s }\n"
         "fault slow { on c.reads  delay 100 ms  from 5 s }\nfault lossy { on c.writes  loss 30 %  between 3 s and 6 s "
         "}\n"
         "fault mixed { on c.writes  reorder 30 %  once level > 1.15 m }\nfault broken { on gauge  offset 100 m  from "
         "8 "
         "s }\nfault stuck { on gauge  offset -100 m  from 7 s }\nfault hand { on leak  freeze  by hand }\n"
         "compose noisy, late\ncompose frozen, late\n"
         "requirement low { always level <= 1.25 m }\nrequirement high { always level >= 1.05 m }\n"
         "requirement calm { whenever time > 3 s then pump < 0.6 }\n"
         "requirement slowly { always abs(rise) <= 2.5 mm/s }\n"
         "scenario up { hold 4 s\n  ramp inflow to 2 l/s over 2 s\n  hold 4 s\n}\n"
         "scenario wait { inject hand\n  set inflow = 12 l/s\n  wait until level > 1.1 m within 20 s\n  hold 1 s\n}\n"
         "campaign all {\n  scenario up, wait\n  fault none, each, hand\n  fault pairs of late, noisy, frozen, more, "
         "slow, "
         "lossy, never\n  vary area = 0.8 m^2, 1 m^2\n  setting code, logic\n  keep none\n}\n";
}

const char* const kCode = R"x(
#include <stdlib.h>
#include "c.h"
#ifdef THREAD
#include <pthread.h>
#include <unistd.h>
static void *sleeps(void *x) { for (;;) pause(); return x; }
#endif
const isodyne_controller_info isodyne_info = C_INFO;
struct own { double sum; long steps; };
static double before;
int isodyne_init(void **self, int64_t period) {
  (void)period;
  before = 1;
#ifdef THREAD
  static pthread_t t;
  pthread_create(&t, 0, sleeps, 0);
#endif
  *self = calloc(1, sizeof(struct own));
  return 0;
}
int isodyne_step(void *self, int64_t time, const c_reads *reads, c_writes *writes) {
  struct own *o = self;
  (void)time;
  if (reads->gauge > 50) *(volatile int *)0 = 1;
  if (reads->gauge < -50) return 7;
  o->sum += 1.2 - reads->gauge + 0.1 * (reads->gauge - before);
  before = reads->gauge;
  writes->pump = o->sum < 0 ? 0 : o->sum > 10 ? 1 : o->sum / 10 + (double)(++o->steps % 7) / 100;
  return 0;
}
void isodyne_close(void *self) { free(self); }
#ifdef COPIED
int isodyne_copied(void *self) { (void)self; return COPIED; }
#endif
)x";

/// Runs the campaign with shared beginnings and without, and gives what is said.
Output both_ways(const TestFolder& folder, const std::string& settings, const std::string& flags) {
  folder.write("tank.dyne", dosed_tank(settings));
  folder.write("c.c", kCode);
  folder.write("go.sh", fmt::format(R"x(
{0} export header tank.dyne c --out c.h && {1} -shared -fPIC -fvisibility=hidden -I{2}/include {3} -o libc.so c.c || exit 9
{0} campaign tank.dyne all --jobs 2 --answer-within "60 s" --out shared.sqlite
echo "status $?"
{0} campaign tank.dyne all --jobs 2 --answer-within "60 s" --each-alone --out alone.sqlite > alone.txt 2> /dev/null
echo "status $?"
grep "went on from" alone.txt
{0} cases shared.sqlite --csv > shared.csv
{0} cases alone.sqlite --csv > alone.csv
cmp shared.csv alone.csv && echo "all the same, $(wc -l < shared.csv) lines"
)x",
                                    ISODYNE_PROGRAM, ISODYNE_C_COMPILER, ISODYNE_SOURCE_FOLDER, flags));
  return shell("bash go.sh", folder.path());
}

const std::string kBoth = "    setting code = library \"c\"\n    setting logic = part Logic\n";

}  // namespace

TEST_CASE("Beginnings that cases share are computed once, and each comes to the same as by itself, to the bit") {
  const TestFolder folder;
  const Output o = both_ways(folder, kBoth, "-DCOPIED=0");
  INFO(o.out << o.err);
  // Two scenarios, two settings, two areas: 37 sets of faults each. Of each, those that act at once are not copied, nor
  // the two last that are left.
  shows(o.out, "status 3\n");  // a controller crashes in some
  shows(o.out, "all the same, 297 lines");
  CHECK_FALSE(has(o.err, "No beginnings were shared"));
  const std::string csv = slurp(folder / "shared.csv");
  // A sanitizer catches crashes itself, and ends the process in its own way.
  if (!kSanitized) shows(csv, "crashed: invalid memory access (SIGSEGV) at 8 s");
  shows(csv, "isodyne_step gave up with code 7");
  const std::size_t at = o.out.find(" cases went on from a beginning that another had come to");
  REQUIRE(at != std::string::npos);
  const int copied = std::stoi(o.out.substr(o.out.rfind('\n', at) + 1));
  CHECK(copied > 150);
  CHECK(copied < 296);
}

TEST_CASE("A controller that cannot be copied, or does not want to, is run for each case, and that is said") {
  for (const auto& [flags, why] :
       {std::pair{"", "controller `c` does not say that it can be copied (isodyne_copied in isodyne/controller.h)"},
        std::pair{"-DCOPIED=0 -DTHREAD -Wl,-z,nodelete", "there are 2 threads in its process, and one could be copied"}}) {
    const TestFolder folder;
    const Output o = both_ways(folder, "    setting code = library \"c\"\n    setting logic = library \"c\"\n", flags);
    INFO(flags << o.out << o.err);
    shows(o.err, "No beginnings were shared: " + std::string(why));
    shows(o.out, "all the same, 297 lines");
  }
  // One that gives up in the copy: its cases are run by themselves.
  const TestFolder folder;
  const Output o = both_ways(folder, kBoth, "-DCOPIED=3");
  INFO(o.out << o.err);
  shows(o.out, "all the same, 297 lines");
}
