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


def beside_bare_loop(isodyne, bench, scenario, seconds, core, folder, before=lambda seconds: None):
    """Turns of ten seconds of a bench paced at 50 us, and of a loop that does nothing: bins and overruns of both, and how
    many steps there were. `before` has a turn of its own before each."""
    loop = os.path.join(folder, "bare_loop")
    subprocess.run(["cc", "-O2", "-o", loop, os.path.join(HERE, "bare_loop.c")], check=True)
    turns = max(1, round(seconds / 10))
    ours, bare, steps, overruns, bare_late = [], [], 0, 0, 0
    for _ in range(turns):
        before(seconds / turns)
        bins, n, over = paced(isodyne, bench, scenario, seconds / turns, core, folder)
        ours += bins
        steps += n
        overruns += over
        bins, _, over = bare_loop(loop, core, seconds / turns)
        bare += bins
        bare_late += over
    return (ours, overruns), (bare, bare_late), max(1, steps)


def heading():
    print(f"{'late begin, us':34} {'steps':>9} {'p50':>9} {'p99':>9} {'p99.9':>9} {'most':>9}")


def rows(name, ours, bare, steps):
    for what, (bins, late) in (("bare loop, 50 us", bare), (name, ours)):
        row(what, bins, f"{late} overruns, {100 * late / steps:.4f} %")


def converter(isodyne, seconds, core):
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
        ours, bare, steps = beside_bare_loop(isodyne, text, ["long_feed"], seconds, core, folder)
    heading()
    rows("shore converter, 50 us", ours, bare, steps)


def main():
    isodyne, seconds = sys.argv[1], float(sys.argv[2]) if len(sys.argv) > 2 else 60
    core = sorted(os.sched_getaffinity(0))[-1]
    if len(sys.argv) > 3:
        return converter(isodyne, seconds, core)
    theirs, lock, late = [], [], 0

    def at_1_ms(span):
        nonlocal theirs, lock, late
        theirs += cyclictest(core, span)
        bins, _, n = paced(isodyne, LOCK, ["uplock"], span, core, folder)
        lock += bins
        late += n

    with tempfile.TemporaryDirectory() as folder:
        small = os.path.join(folder, "small.dyne")
        with open(small, "w", encoding="utf-8") as file:
            file.write(SMALL)
        ours, bare, steps = beside_bare_loop(isodyne, small, [], seconds, core, folder, at_1_ms)
    heading()
    a = row("cyclictest, 1 ms", theirs)
    b = row("canal lock, 1 ms", lock, f"{late} overruns")
    rows("small plant, 50 us", ours, bare, steps)
    print(f"canal lock / cyclictest: p50 {b[0] / a[0]:.3f}, p99 {b[1] / a[1]:.3f}")


if __name__ == "__main__":
    main()
