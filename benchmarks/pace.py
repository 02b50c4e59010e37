#!/usr/bin/env python3
"""How late steps begin: the canal lock with its C controller at 1 ms against cyclictest, and a small plant at 50 us against
a loop that does nothing.

    benchmarks/pace.py PATH/TO/isodyne [SECONDS]
    benchmarks/pace.py PATH/TO/isodyne SECONDS converter

The second one: the shore converter at 1 us with its controller in C every 50 us and 24 quantities recorded at each
microsecond, against the same empty loop. Its controllers have to be built (scripts/demo).

All take turns of ten seconds on the same core with the same priority, so that they see the same machine.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile

HERE = os.path.dirname(os.path.abspath(__file__))
CONVERTER = os.path.join(HERE, "..", "examples", "shore-converter")
SEEN = ["hull.choke[*].i", "hull.choke[*].v", "hull.out[*].v", "hull.side[*].v", "quay.feeder[*].v", "hull.breaker.i",
        "hull.filter[*].v", "hull.filter[*].i"]
FEEDING = """scenario long_feed {
  do connect
  set set_active = 180 A
  hold 10000 s
}
"""
LOCK = os.path.join(HERE, "..", "examples", "canal-lock", "lock.dyne")
SMALL = """
model Swing {
  output state x : m = 1 m
  state v : m/s = 0 m/s
  x' = v
  v' = -100 1/s^2 * x
}
bench Small { step 50 us  method rk4
  record every 10 ms
  part swing : Swing
}
"""


def quantile(bins, share):
    """Of (upper edge, count)."""
    total = sum(n for _, n in bins)
    below = 0
    for edge, n in sorted(bins):
        below += n
        if below >= share * total:
            return edge
    return float("inf")


def cyclictest(core, seconds):
    out = subprocess.run(["cyclictest", "-q", "-m", "-p", "80", "-a", str(core), "-t", "1", "-i", "1000", "-h", "100000",
                          "-l", str(int(seconds * 1000))], capture_output=True, text=True, check=True).stdout
    bins = []
    for line in out.splitlines():
        if line[:1].isdigit():
            edge, count = line.split()
            if int(count):
                bins.append((int(edge) + 1.0, int(count)))  # whole microseconds, cut off
    return bins


def paced(isodyne, bench, scenario, seconds, core, folder):
    run = os.path.join(folder, "run")
    words = [isodyne, "run", bench] + scenario + ["--for", f"{seconds} s", "--paced", "--core", str(core), "--no-report",
                                                  "--out", run]
    subprocess.run(words, capture_output=True, text=True)
    with open(os.path.join(run, "verdicts.json"), encoding="utf-8") as file:
        timing = json.load(file)["timing"]
    subprocess.run(["rm", "-r", run])
    return [(to, n) for _, to, n in timing["lateness_us"]], timing["steps"], timing["overruns"]


def bare_loop(program, core, seconds):
    out = subprocess.run([program, str(core), "50000", str(seconds)], capture_output=True, text=True, check=True).stdout
    lines = [[int(word) for word in line.split()] for line in out.splitlines()]
    return [(to / 1e3, n) for to, n in lines[1:]], lines[0][0], lines[0][1]


def row(name, bins, more=""):
    total = sum(n for _, n in bins)
    values = [quantile(bins, s) for s in (0.5, 0.99, 0.999, 1)]
    print(f"{name:34} {total:9} " + " ".join(f"{v:9.2f}" for v in values) + "  " + more)
    return values


def converter(isodyne, seconds, core):
    ours, bare, steps, overruns, bare_late = [], [], 0, 0, 0
    turns = max(1, round(seconds / 10))
    with tempfile.TemporaryDirectory() as folder:
        there = os.path.join(folder, "converter")
        shutil.copytree(CONVERTER, there)
        text = os.path.join(there, "shore.dyne")
        with open(text, encoding="utf-8") as file:
            lines = [line for line in file.read().split("\n") if "every 1 us as float32" not in line]
        at = next(i for i, line in enumerate(lines) if line.strip().startswith("record every"))
        lines.insert(at, f"  record {', '.join(SEEN)} every 1 us as float32")
        with open(text, "w", encoding="utf-8") as file:
            file.write("\n".join(lines) + "\n" + FEEDING)
        loop = os.path.join(folder, "bare_loop")
        subprocess.run(["cc", "-O2", "-o", loop, os.path.join(HERE, "bare_loop.c")], check=True)
        for _ in range(turns):
            bins, n, over = paced(isodyne, text, ["long_feed"], seconds / turns, core, folder)
            ours += bins
            steps += n
            overruns += over
            bins, _, over = bare_loop(loop, core, seconds / turns)
            bare += bins
            bare_late += over
    print(f"{'late begin, us':34} {'steps':>9} {'p50':>9} {'p99':>9} {'p99.9':>9} {'most':>9}")
    row("bare loop, 50 us", bare, f"{bare_late} overruns")
    row("shore converter, 50 us", ours, f"{overruns} overruns, {100 * overruns / max(steps, 1):.4f} %")


def main():
    if len(sys.argv) > 3:
        return converter(sys.argv[1], float(sys.argv[2]), sorted(os.sched_getaffinity(0))[-1])
    isodyne, seconds = sys.argv[1], float(sys.argv[2]) if len(sys.argv) > 2 else 60
    core = sorted(os.sched_getaffinity(0))[-1]
    theirs, ours, quick, bare, steps, overruns, late, bare_late = [], [], [], [], 0, 0, 0, 0
    turns = max(1, round(seconds / 10))
    with tempfile.TemporaryDirectory() as folder:
        small = os.path.join(folder, "small.dyne")
        with open(small, "w", encoding="utf-8") as file:
            file.write(SMALL)
        loop = os.path.join(folder, "bare_loop")
        subprocess.run(["cc", "-O2", "-o", loop, os.path.join(HERE, "bare_loop.c")], check=True)
        for _ in range(turns):
            theirs += cyclictest(core, seconds / turns)
            bins, _, n = paced(isodyne, LOCK, ["uplock"], seconds / turns, core, folder)
            ours += bins
            late += n
            bins, n, over = paced(isodyne, small, [], seconds / turns, core, folder)
            quick += bins
            steps += n
            overruns += over
            bins, _, over = bare_loop(loop, core, seconds / turns)
            bare += bins
            bare_late += over
    print(f"{'late begin, us':34} {'steps':>9} {'p50':>9} {'p99':>9} {'p99.9':>9} {'most':>9}")
    a = row("cyclictest, 1 ms", theirs)
    b = row("canal lock, 1 ms", ours, f"{late} overruns")
    row("bare loop, 50 us", bare, f"{bare_late} overruns, {100 * bare_late / steps:.4f} %")
    row("small plant, 50 us", quick, f"{overruns} overruns, {100 * overruns / steps:.4f} %")
    print(f"canal lock / cyclictest: p50 {b[0] / a[0]:.3f}, p99 {b[1] / a[1]:.3f}")


if __name__ == "__main__":
    main()
