#!/bin/bash
# What tasks on a cluster (of this machine alone) come to, against two workers here.
#
#     benchmarks/campaign_cluster.sh PATH/TO/isodyne [SECONDS SIMULATED]
#
# 1000 runs of a bench of 100 states (default 60 s each), in 20 tasks. The rate while tasks run is of the time that Slurm says they took
# (whole seconds): how soon it begins the next one is Slurm's.
set -e
program=$(realpath "$1")
simulated=${2:-60}
here=$(realpath "$(dirname "$0")/..")
folder=$(mktemp -d)
cd "$folder"
. "$here/tests/session/slurm.sh"
slurm_begin
trap 'slurm_end; rm -rf "$folder"' EXIT
{
  printf 'bench Short {\n  step 1 ms  method rk4\n  param k : 1 = 1  from 0 to 10\n'
  for i in $(seq 0 99); do printf "  state x%d : 1 = 1\n  x%d' = (k - x%d) * %d / 100 s\n" "$i" "$i" "$i" $((10 + 2 * i)); done
  printf '}\nrequirement low { always x3 <= 50 }\nscenario s { hold %s s }\n' "$simulated"
  printf 'campaign c { scenario s\n  vary k from 0 to 10\n  draw 1000 by random\n  keep none }\n'
} > short.dyne
before=$(date +%s.%N)
"$program" campaign short.dyne c --jobs 2 --out here.sqlite > here.txt
between=$(date +%s.%N)
"$program" campaign short.dyne c --on slurm --tasks 20 --out there.sqlite > there.txt
after=$(date +%s.%N)
cmp <("$program" cases here.sqlite --csv) <("$program" cases there.sqlite --csv)
squeue --noheader --states=all --format='%S %e' > times
python3 - "$before" "$between" "$after" <<'EOF'
import datetime
import sys
before, between, after = map(float, sys.argv[1:])
read = datetime.datetime.fromisoformat
took = sum((read(end) - read(begin)).total_seconds() for begin, end in map(str.split, open("times")))
local = 1000 / (between - before)
print(f"here {local:.1f} a second in 2 workers; on the cluster {1000 / (after - between):.1f}, while tasks run {2 * 1000 / took:.1f}: "
      f"{2 * 1000 / took / local:.2f} x")
EOF
