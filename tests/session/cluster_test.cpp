// Campaigns on a cluster: a real Slurm, of this machine alone.

#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne::test;

namespace {

const char* const kClusterTank =
    "bench Tank {\n  step 1 ms  method rk4\n  input inflow : l/s = 2 l/s\n"
    "  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n  output state level : m = 0 m\n  level' = inflow / area\n}\n"
    "fault more { on inflow  times 2  from 5 s }\nfault less { on inflow  times 0.5 }\n"
    "requirement high { always level <= 30 mm }\nscenario short { hold 10 s }\n"
    "campaign c {\n  scenario short\n  fault none, more, less\n  vary area from 0.5 m^2 to 2 m^2\n"
    "  draw 600 by latin_hypercube\n  keep worst 2\n}\n"
    "campaign enough { scenario short\n  fault none, more\n  until coverage of pairs = 100 % }\n";

}  // namespace

TEST_CASE(
    "Tasks on a cluster come to what one machine does, are gone on with when some were cancelled, and when nobody "
    "waited") {
  const TestFolder folder;
  folder.write("tank.dyne", kClusterTank);
  folder.write("go.sh", fmt::format(R"x(
. {1}/tests/session/slurm.sh
slurm_begin || exit 9
trap slurm_end EXIT
i={0}
$i campaign tank.dyne c --out local.sqlite > local.txt; $i cases local.sqlite --csv > local.csv
$i campaign tank.dyne c --on slurm --tasks 6 --out all.sqlite; echo "status $?"
$i cases all.sqlite --csv > all.csv; cmp local.csv all.csv && echo "the same, $(wc -l < all.csv)"
test -e all.sqlite.tasks || echo "nothing left"

# One is cancelled before it begins: its cases are still to be done.
$i campaign tank.dyne c --on slurm --tasks 6 --slurm "begin=now+3 comment=night" --out part.sqlite > part.txt 2> part.err &
for n in $(seq 300); do test -s part.sqlite.tasks/job && break; sleep 0.1; done
scancel "$(cat part.sqlite.tasks/job)_3"
wait %3; echo "status $?"
cat part.txt part.err
$i campaign tank.dyne c --on slurm --resume --out part.sqlite > part.txt; echo "status $?"
$i cases part.sqlite --csv > part.csv; cmp local.csv part.csv && echo "the same, resumed"

# Nobody waits any more, and tasks go on: who resumes takes what they have.
$i campaign tank.dyne c --on slurm --tasks 4 --out gone.sqlite > gone.txt 2> gone.err &
for n in $(seq 300); do test -s gone.sqlite.tasks/job && break; sleep 0.1; done
kill -KILL %3; job=$(cat gone.sqlite.tasks/job)
wait %3  # until it is gone, its file is its own
$i campaign tank.dyne c --on slurm --resume --out gone.sqlite > gone.txt; echo "status $?"
$i cases gone.sqlite --csv > gone.csv; cmp local.csv gone.csv && echo "the same, waited for $job"
echo "jobs: $(squeue --noheader --states=all --format=%F | sort -u | wc -l)"

$i campaign tank.dyne c --on slurm --slurm partition=nowhere --out none.sqlite; echo "status $?"
$i campaign tank.dyne enough --on slurm --out none.sqlite; echo "status $?"
$i campaign tank.dyne c --tasks 3 --out none.sqlite; echo "status $?"
$i campaign tank.dyne c --on mars --out none.sqlite; echo "status $?"
test -e none.sqlite && echo "none is left"
PATH=/nowhere $i campaign tank.dyne c --on slurm --out none2.sqlite; echo "status $?"
)x",
                                    ISODYNE_PROGRAM, ISODYNE_SOURCE_FOLDER));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  shows(o.out, "status 1\nthe same, 601\nnothing left\n");
  shows(o.out, "2 recordings kept in all");
  shows(o.out, "500 of 600 cases of campaign c");
  shows(o.out, "tasks left 100 cases undone; what they said is in part.sqlite.tasks");
  shows(o.out, "status 1\nthe same, resumed\n");
  shows(o.out, "status 1\nthe same, waited for ");
  shows(o.out, "jobs: 4\n");  // one, two for what was cancelled, and one that was waited for
  CHECK_FALSE(has(o.out, "none is left"));
  shows(o.err, "Slurm did not take the job: ");
  shows(o.err, "tasks on a cluster know nothing of each other");
  shows(o.err, "--tasks N is about --on slurm");
  shows(o.err, "--on takes slurm, not `mars`");
  shows(o.err, "`sbatch` is not here: campaigns on a cluster need the commands of Slurm");
}
