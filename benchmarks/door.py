#!/usr/bin/env python3
"""What clients of an open run cost it, and how quickly it does what they say.

    benchmarks/door.py PATH/TO/isodyne [SECONDS]

Runs keep to the wall clock at 1 ms and at 50 us. With nobody there and with 16 clients, each watching 100 signals 50 times a second
and one of them never reading, in turns of so many seconds (default 5), seven each: how late steps begin. And with nobody there while
a program that has nothing to do with the run is busy, as those of the clients are: what of it is the machine's. Then at 1 ms: how long a
command takes until its effect has been seen, and how many are done a second when they come without a pause.
"""

import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time

HERE = os.path.dirname(os.path.abspath(__file__))
sys.path.insert(0, os.path.join(HERE, "..", "clients"))
import isodyne  # noqa: E402

TURNS = 7


def bench(step):
    lines = "".join(f"  let x{i} = inflow * {i + 1}\n" for i in range(100))
    return (f"bench Tank {{ step {step}  method rk4\n  record every 1 s\n  input inflow : l/s = 2 l/s\n{lines}"
            "  state level : m = 1 m\n  level' = inflow / 1 m^2\n}\nscenario hold { hold 100000 s }\n")


def watch(run, stopped, over):
    run.call("watch", names=["x*"], per_second=50)
    if stopped:
        over.wait()
        return
    try:
        while not over.is_set():
            for _ in run.told(0.2):
                if over.is_set():
                    break
    except isodyne.Over:
        pass


# Writes and reads texts of the size that clients get, all the time.
BUSY = ("import json\n"
        "x = {'values': {f'x{i}': {'si': i * 1.1, 'read': str(i), 'least': 0.5, 'greatest': i * 2.5} for i in range(100)}}\n"
        "while True: json.loads(json.dumps(x))")


def turn(program, file, clients, seconds):
    if clients == "busy":
        other = subprocess.Popen([sys.executable, "-c", BUSY])
        try:
            return turn(program, file, 0, seconds)
        finally:
            other.kill()
            other.wait()
    with isodyne.start(file, "hold", paced=True, program=program, more=["--no-report"]) as run:
        over = threading.Event()
        others = [isodyne.attach(run.folder) for _ in range(clients)]
        threads = [threading.Thread(target=watch, args=(other, i == 0, over)) for i, other in enumerate(others)]
        for t in threads:
            t.start()
        time.sleep(seconds)
        timing = run.timing()
        over.set()
        for t in threads:
            t.join()
        run.end()
    return timing["lateness_us"]["p99"], timing["late"] / timing["steps"]


def lateness(program, folder, step, seconds):
    file = os.path.join(folder, "tank.dyne")
    with open(file, "w", encoding="utf-8") as f:
        f.write(bench(step))
    got = {0: [], "busy": [], 15: []}
    for _ in range(TURNS):
        for clients in got:
            got[clients].append(turn(program, file, clients, seconds))
    for clients, all_of in got.items():
        who = {0: "nobody", "busy": "nobody, a busy program"}.get(clients) or f"{clients + 1} clients"
        print(f"{step}, {who:22}: p99 of lateness {statistics.median(p for p, _ in all_of):9.2f} us "
              f"({min(p for p, _ in all_of):.2f} .. {max(p for p, _ in all_of):.2f}), "
              f"late steps {100 * statistics.median(l for _, l in all_of):.3f} %")


def commands(program, folder):
    file = os.path.join(folder, "tank.dyne")
    with open(file, "w", encoding="utf-8") as f:
        f.write(bench("1 ms"))
    with isodyne.start(file, "hold", paced=True, program=program, more=["--no-report"]) as run:
        took = []
        for i in range(2000):
            begin = time.perf_counter()
            run.set("inflow", f"{1 + i % 7} l/s")
            took.append(1e3 * (time.perf_counter() - begin))
        took.sort()
        print(f"1 ms, from a command to the answer that it was done: median {took[1000]:.2f} ms, p99 {took[1980]:.2f} ms")
        many = 100_000
        text = b"".join(json.dumps({"jsonrpc": "2.0", "id": i, "method": "set",
                                    "params": {"name": "inflow", "value": f"{1 + i % 7} l/s"}}).encode() + b"\n"
                        for i in range(many))
        begin = time.perf_counter()
        sender = threading.Thread(target=run._socket.sendall, args=(text,))
        run._socket.settimeout(None)
        sender.start()
        rest, done, refused, last = b"", 0, 0, 0
        while done + refused < many:
            block = run._socket.recv(1 << 20)
            if not block:
                break
            lines = (rest + block).split(b"\n")
            rest = lines.pop()
            for line in lines:
                answer = json.loads(line)
                if "result" in answer:
                    done += 1
                    assert answer["id"] == last
                else:
                    refused += 1
                last += 1
        took_all = time.perf_counter() - begin
        sender.join()
        print(f"{many} commands without a pause: {done} done, {refused} refused, in order, {done / took_all:.0f} a second")
        run.end()


def main():
    program = os.path.abspath(sys.argv[1])
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 5.0
    with tempfile.TemporaryDirectory() as folder:
        commands(program, folder)
        for step in ("1 ms", "50 us"):
            lateness(program, folder, step, seconds)


if __name__ == "__main__":
    main()
