#!/usr/bin/env python3
"""How long the cut sets of fault trees take, and whether their number is right.

    benchmarks/fault_trees.py PATH/TO/isodyne

Trees of 200 events, as redundant plants have them: so many of so many trains, each with parts of its own, pairs of them, and supplies that trains share. Two small ones are counted by a naive program as well, from the bottom up.
"""

import functools
import itertools
import os
import random
import subprocess
import sys
import tempfile
import time
import xml.etree.ElementTree as ET


def plant(seed, trains, least, own, pairs, supplies, parts):
    draw = random.Random(seed)
    events, gates, shared, top = [], [], [], []

    def event(name):
        events.append(name)
        return name

    for s in range(supplies):
        one = [event(f"s{s}a{i}") for i in range(parts)] + ([f"S{draw.randrange(s)}"] if s else [])
        other = [event(f"s{s}b{i}") for i in range(parts)]
        gates += [(f"S{s}a", "or", one, 0), (f"S{s}b", "or", other, 0), (f"S{s}", "and", [f"S{s}a", f"S{s}b"], 0)]
        shared.append(f"S{s}")
    for t in range(trains):
        of = [event(f"t{t}_{i}") for i in range(own)]
        for p in range(pairs):
            gates.append((f"T{t}P{p}", "and", [event(f"t{t}p{p}x"), event(f"t{t}p{p}y")], 0))
            of.append(f"T{t}P{p}")
        gates.append((f"T{t}", "or", of + draw.sample(shared, min(2, len(shared))), 0))
        top.append(f"T{t}")
    gates.append(("TOP", "atleast", top, least))
    names = {g[0] for g in gates}
    lines = ['<opsa-mef><define-fault-tree name="plant">']
    for name, kind, of, k in reversed(gates):
        inputs = "".join(f'<{"gate" if x in names else "basic-event"} name="{x}"/>' for x in of)
        lines.append(f'<define-gate name="{name}"><{kind}{f""" min="{k}" """ if k else ""}>{inputs}</{kind}></define-gate>')
    lines += [f'<define-basic-event name="{e}"><float value="{10 ** draw.uniform(-5, -2):.3g}"/></define-basic-event>' for e in events]
    return len(events), "\n".join(lines + ["</define-fault-tree></opsa-mef>"])


def counted_naively(text):
    gates = {g.get("name"): g[0] for g in ET.fromstring(text).iter("define-gate")}
    bits = {}

    def minimal(sets):
        kept = []
        for one in sorted(sets, key=lambda x: bin(x).count("1")):
            if not any(other & one == other for other in kept):
                kept.append(one)
        return kept

    @functools.lru_cache(None)
    def of_gate(name):
        return tuple(of(gates[name]))

    def of(formula):
        if formula.tag == "basic-event":
            return [1 << bits.setdefault(formula.get("name"), len(bits))]
        if formula.tag == "gate":
            return list(of_gate(formula.get("name")))
        inputs = [of(f) for f in formula]
        least = {"or": 1, "and": len(inputs)}.get(formula.tag) or int(formula.get("min"))
        found = set()
        for some in itertools.combinations(inputs, least):
            joined = {0}
            for sets in some:
                joined = {a | b for a in joined for b in sets}
            found |= joined
        return minimal(found)

    return len(of_gate("TOP"))


def main():
    isodyne = os.path.abspath(sys.argv[1])
    print("| tree | events | minimal cut sets | time | by the naive program |")
    print("|---|---:|---:|---:|---:|")
    right = True
    with tempfile.TemporaryDirectory() as folder:
        for name, shape, naive in [
            ("3 of 4, small", (1, 4, 3, 6, 3, 3, 4), True),
            ("3 of 5, small", (9, 5, 3, 4, 1, 3, 3), True),
            ("3 of 4", (1, 4, 3, 20, 5, 5, 8), False),
            ("4 of 5", (2, 5, 4, 15, 6, 4, 8), False),
            ("4 of 6", (4, 6, 4, 12, 4, 8, 5), False),
        ]:
            events, text = plant(*shape)
            file = os.path.join(folder, "tree.xml")
            with open(file, "w", encoding="utf-8") as f:
                f.write(text)
            best = None
            for _ in range(5):
                begin = time.monotonic()
                done = subprocess.run([isodyne, "tree", file, "--most", "1"], capture_output=True, text=True, check=True)
                took = time.monotonic() - begin
                best = took if best is None else min(best, took)
            count = int(next(l for l in done.stdout.splitlines() if l.startswith("Minimal")).split()[3])
            other = counted_naively(text) if naive else None
            right = right and other in (None, count)
            print(f"| {name} | {events} | {count:,} | {best * 1000:.0f} ms | {'' if other is None else other} |", flush=True)
    sys.exit(0 if right else 1)


main()
