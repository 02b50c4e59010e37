#!/usr/bin/env python3
"""What the live view costs: processor time with 12 traces at 30 pictures a second, and how long its first picture takes.

    /usr/bin/python3 benchmarks/view.py build/release/bin/isodyne
"""

import fcntl
import os
import pty
import re
import select
import struct
import subprocess
import sys
import tempfile
import termios
import time

PROGRAM = os.path.abspath(sys.argv[1])
SECONDS = 15.0
BENCH = (
    "bench Twelve {\n  step 1 ms\n  record every 100 ms\n"
    + "".join(f"  let x{i} = {i} m * sin({0.2 + 0.13 * i} rad/s * time)\n" for i in range(1, 13))
    + "}\npanel all {\n" + "\n".join(f"trace x{i} over 30 s" for i in range(1, 13)) + "\n}\n"
)


def view(folder, columns, lines):
    begin = time.monotonic()
    child, file = pty.fork()
    if child == 0:
        os.environ.update(TERM="xterm-256color", LC_ALL="C.UTF-8")
        os.execv(PROGRAM, [PROGRAM, "attach", os.path.join(folder, "run")])
    fcntl.ioctl(file, termios.TIOCSWINSZ, struct.pack("HHHH", lines, columns, 0, 0))
    first, told, screen = None, 0, b""
    while time.monotonic() - begin < SECONDS:
        if not select.select([file], [], [], 0.5)[0]:
            continue
        block = os.read(file, 65536)
        told += len(block)
        if first is None:
            screen += block
            if re.search(rb"\xe2[\xa0-\xa3]", screen):
                first = time.monotonic() - begin
    used = sum(float(v) for v in open(f"/proc/{child}/stat").read().rsplit(")", 1)[1].split()[11:13]) / os.sysconf("SC_CLK_TCK")
    os.write(file, b"q")
    os.waitpid(child, 0)
    return first, used / SECONDS, told / SECONDS


with tempfile.TemporaryDirectory() as folder:
    with open(os.path.join(folder, "bench.dyne"), "w") as out:
        out.write(BENCH)
    run = subprocess.Popen([PROGRAM, "run", "bench.dyne", "--paced", "--open", "--no-report", "--out", "run"], cwd=folder,
                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while subprocess.run([PROGRAM, "read", "run", "x1"], cwd=folder, capture_output=True).returncode != 0:
        time.sleep(0.1)
    for columns, lines in ((160, 60), (200, 100)):
        for _ in range(3):
            first, share, told = view(folder, columns, lines)
            print(f"{columns}x{lines}: first picture {first:.3f} s, {100 * share:.1f} % of a core, {told / 1000:.0f} kB/s")
    subprocess.run([PROGRAM, "end", "run"], cwd=folder, capture_output=True)
    run.wait()
