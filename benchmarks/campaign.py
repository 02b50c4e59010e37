#!/usr/bin/env python3
"""What a campaign costs beside its runs, and what beginnings that are shared save.

    benchmarks/campaign.py PATH/TO/isodyne [CASES] [MOST]

Of the canal lock, CASES cases (default 200) in one worker and in two, in turns, and what of it the runs are themselves. The same with faults that act from 60 % of the scenario on: beginnings shared, and each case by itself. A short bench
(100 states, 1 s): cases a second in two workers. And what a case costs where there are 100, 1000, ... MOST (default 10000) of them.
"""

import contextlib
import os
import resource
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time

HERE = os.path.dirname(os.path.abspath(__file__))
LOCK = os.path.join(HERE, "..", "examples", "canal-lock")


def seconds(command, folder):
    before = time.monotonic()
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    took = time.monotonic() - before
    if done.returncode not in (0, 1):
        sys.exit(f"{command}: status {done.returncode}\n{done.stdout}{done.stderr}")
    return took, done.stdout


def campaign(program, folder, bench, name, *more):
    book = os.path.join(folder, "book.sqlite")
    if os.path.exists(book):
        os.remove(book)
    return seconds([program, "campaign", bench, name, "--out", book, *more], folder)


def own(folder):
    """What the runs took by themselves, on average: the rest is the campaign's."""
    with contextlib.closing(sqlite3.connect(os.path.join(folder, "book.sqlite"))) as book:
        return book.execute("SELECT avg(wall_s) FROM cases").fetchone()[0]


def lock(program, folder, cases):
    shutil.copytree(LOCK, os.path.join(folder, "lock"))
    folder = os.path.join(folder, "lock")
    faults = "\n".join(f"fault later_{i} {{ on chamber_level  offset {i + 1} mm  from 644 s }}" for i in range(20))
    with open(os.path.join(folder, "campaigns.dyne"), "a") as out:
        out.write(f"\n{faults}\ncampaign alike {{ scenario uplock\n  vary chamber.area from 600 m^2 to 680 m^2\n"
                  f"  draw {cases} by random\n  setting model\n  keep none }}\n"
                  f"campaign later {{ scenario uplock\n  fault {', '.join(f'later_{i}' for i in range(20))}\n"
                  f"  vary chamber.area = {', '.join(f'{600 + i} m^2' for i in range(max(1, cases // 20)))}\n"
                  f"  setting model\n  keep none }}\n")
    for _ in range(3):
        w1 = campaign(program, folder, "lock.dyne", "alike", "--jobs", "1")[0] / cases
        run = own(folder)
        w2 = campaign(program, folder, "lock.dyne", "alike", "--jobs", "2")[0] / cases
        print(f"lock, {cases} cases: {w1 * 1e3:.1f} ms each in 1 worker, of which the run is {run * 1e3:.1f} ms; "
              f"{w2 * 1e3:.1f} ms in 2 workers: {w1 / w2:.2f} x", flush=True)
    for _ in range(3):
        shared, said = campaign(program, folder, "lock.dyne", "later", "--jobs", "2")
        alone = campaign(program, folder, "lock.dyne", "later", "--jobs", "2", "--each-alone")[0]
        print(f"  faults at 60 %: {alone:.1f} s each by itself, {shared:.1f} s with shared beginnings: {alone / shared:.2f} x;",
              [line for line in said.splitlines() if "went on" in line][0], flush=True)


def short(program, folder, most):
    states = "\n".join(f"  state x{i} : 1 = {1 + i / 100}\n  x{i}' = (k - x{i}) * {10 + 2 * i} / 100 s" for i in range(100))
    for cases in [10 ** e for e in range(2, 7) if 10 ** e <= most]:
        with open(os.path.join(folder, f"short{cases}.dyne"), "w") as out:
            out.write(f"bench Short {{\n  step 1 ms  method rk4\n  param k : 1 = 1  from 0 to 10\n{states}\n}}\n"
                      "requirement low { always x3 <= 5 }\nscenario s { hold 1 s }\n"
                      f"campaign c {{ scenario s\n  vary k from 0 to 10\n  draw {cases} by random\n  keep none }}\n")
        took = campaign(program, folder, f"short{cases}.dyne", "c", "--jobs", "2")[0]
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"short bench, {cases} cases: {cases / took:.0f} a second; a run {own(folder) * 1e3:.2f} ms, with all of it "
              f"{took / cases * 2e3:.2f} ms of a worker; {peak:.0f} MiB at most",
              flush=True)


def main():
    if len(sys.argv) < 2:
        sys.exit(__doc__)
    program = os.path.abspath(sys.argv[1])
    cases = int(sys.argv[2]) if len(sys.argv) > 2 else 200
    most = int(sys.argv[3]) if len(sys.argv) > 3 else 10_000
    with tempfile.TemporaryDirectory() as folder:
        short(program, folder, most)
        lock(program, folder, cases)


main()
