#!/usr/bin/env python3
"""Half of a canal on a core of its own: the same run on one thread and on two, in turns, best of five each.

    /usr/bin/python3 benchmarks/cores.py PATH/isodyne
"""
import filecmp
import pathlib
import subprocess
import sys
import tempfile
import time

MODEL = """model Reach {
  input u : m
  output h : m
  state a : m = 2 m
  state b : m = 2.1 m
  state c : m = 1.9 m
  a' = (u - a) / 3 s + 0.01 m/s * sin(time / 1 s)
  b' = sqrt(abs(a - b) * 1 m) / 5 s - 0.001 / 1 s * b
  c' = (b - c) / 7 s + 0.002 m/s * exp(-b / 1 m)
  h = c
}
"""


def bench(step, reaches):
    lines = [MODEL, "bench Canal {", "  step 1 ms  method rk4"]
    for i in range(reaches):
        lines.append(f"  part r{i} : Reach{step}{' on core 1' if 2 * i >= reaches else ''}")
        lines.append(f"  r{i}.u = r{(i - 1) % reaches}.h")
    return "\n".join(lines + ["}", ""])


def main():
    program = pathlib.Path(sys.argv[1]).resolve()
    print("| 60 reaches, 180 states | one thread | two threads | ratio |\n|---|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as folder:
        folder = pathlib.Path(folder)
        for what, step, seconds in (("steps of 50 µs in 1 ms", " step 50 us", 20), ("steps of 250 µs", " step 250 us", 60),
                                    ("steps of 1 ms", "", 120)):
            (folder / "canal.dyne").write_text(bench(step, 60))
            best = {}
            for turn in range(6):  # the first compiles
                for cores in (1, 2):
                    out = folder / f"{turn}-{cores}"
                    begin = time.monotonic()
                    subprocess.run([program, "run", "canal.dyne", "--for", f"{seconds} s", "--cores", str(cores), "--no-report",
                                    "--out", out], cwd=folder, check=True, capture_output=True)
                    took = (time.monotonic() - begin) / seconds * 1e3  # us for each step of the bench
                    if turn > 0:
                        best[cores] = min(best.get(cores, took), took)
                if not filecmp.cmp(folder / f"{turn}-1/recording.h5", folder / f"{turn}-2/recording.h5", shallow=False):
                    sys.exit("the recordings differ")
                subprocess.run(["rm", "-rf", folder / f"{turn}-1", folder / f"{turn}-2"], check=True)
            print(f"| {what} | {best[1]:.1f} µs | {best[2]:.1f} µs | {best[2] / best[1]:.2f} |")


main()
