#!/usr/bin/env python3
"""Compares two folders of scripts/same-results, file by file. What may differ: the version, when a run was, and how long
the machine took. Recordings are compared value by value, to the bit, with every attribute."""
import json
import re
import sys
from pathlib import Path

import h5py

FREE_KEYS = {"isodyne_version", "started", "wall_seconds", "offline_s", "answering_s", "ready_s", "bench_folder", "wall_s", "inputs"}
FREE_ATTRIBUTES = {"isodyne_version", "version", "started", "wall_seconds"}
FREE_TEXT = [
    (re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d( UTC)?"), "WHEN"),
    (re.compile(r"isodyne \d+\.\d+\.\d+\S*|Isodyne \d+\.\d+\.\d+\S*"), "VERSION"),
    (re.compile(r"\d+\.\d+\.\d+(-\d+-g[0-9a-f]+)?(-changed)?"), "VERSION"),
    (re.compile(r"[\d,. ]*\d ?x real time"), "SPEED"),
    (re.compile(r"simulated in [\d.]+ (ms|s|min)\b"), "TOOK"),
    (re.compile(r" in [\d.]+ (ms|s|min) of wall time"), "TOOK"),
    (re.compile(r'\btime="[\d.e-]+"|timestamp="[^"]*"'), "TOOK"),
    (re.compile(r"/(before|after)/"), "/HERE/"),
    (re.compile(r"CreationDate \(D:\d+Z\)"), "WHEN"),
]


def plain(text):
    for pattern, word in FREE_TEXT:
        text = pattern.sub(word, text)
    return text


def without_free(value):
    if isinstance(value, dict):
        return {k: without_free(v) for k, v in value.items() if k not in FREE_KEYS}
    if isinstance(value, list):
        return [without_free(v) for v in value]
    return plain(value) if isinstance(value, str) else value


def recordings(one, two):
    """What differs between two recordings, a line each."""
    told = []
    with h5py.File(one, "r") as a, h5py.File(two, "r") as b:
        names = [[], []]
        for file, found in ((a, names[0]), (b, names[1])):
            file.visit(found.append)
        if names[0] != names[1]:
            return ["other things are in it: " + ", ".join(sorted(set(names[0]) ^ set(names[1]))[:5])]
        for name in ["/"] + names[0]:
            x, y = a[name], b[name]
            keys = set(x.attrs) | set(y.attrs)
            for key in sorted(keys - FREE_ATTRIBUTES):
                if key not in x.attrs or key not in y.attrs:
                    told.append(f"{name}: attribute {key} is in one of them only")
                elif repr(x.attrs[key]) != repr(y.attrs[key]):
                    told.append(f"{name}: attribute {key}: {x.attrs[key]!r} and {y.attrs[key]!r}")
            if isinstance(x, h5py.Dataset):
                if x.dtype != y.dtype or x.shape != y.shape:
                    told.append(f"{name}: another shape or type")
                elif x.dtype.hasobject or h5py.check_string_dtype(x.dtype):
                    if repr(x[()]) != repr(y[()]):
                        told.append(f"{name}: other values")
                elif x[()].tobytes() != y[()].tobytes():
                    told.append(f"{name}: other values")
    return told


def files(one, two):
    if one.suffix == ".h5":
        return recordings(one, two)
    if one.suffix in (".png", ".so", ".o", ".db"):
        return [] if one.suffix != ".png" or one.read_bytes() == two.read_bytes() else ["another picture"]
    texts = [p.read_text(errors="replace") for p in (one, two)]
    if one.suffix == ".json":
        values = [without_free(json.loads(t)) for t in texts]
        return [] if values[0] == values[1] else ["other contents"]
    lines = [plain(t).splitlines() for t in texts]
    if lines[0] == lines[1]:
        return []
    for i, (x, y) in enumerate(zip(*lines)):
        if x != y:
            at = next((k for k, (c, d) in enumerate(zip(x, y)) if c != d), min(len(x), len(y)))
            return [f"line {i + 1}: {x[max(0, at - 40):at + 80]!r} and {y[max(0, at - 40):at + 80]!r}"]
    return ["another number of lines"]


def main():
    before, after = Path(sys.argv[1]), Path(sys.argv[2])
    listed = [sorted(p.relative_to(f) for f2 in ("said", "runs") for p in (f / f2).rglob("*") if p.is_file()) for f in (before, after)]
    told = [f"{p}: only in one of them" for p in sorted(set(listed[0]) ^ set(listed[1]))]
    counts = {}
    for path in sorted(set(listed[0]) & set(listed[1])):
        counts[path.suffix] = counts.get(path.suffix, 0) + 1
        told += [f"{path}: {t}" for t in files(before / path, after / path)]
    # Two commands that were both refused would agree about nothing.
    told += [f"{p}: refused, so nothing was compared" for p in sorted((after / "said").glob("*.out"))
             if p.read_text().rstrip().endswith("status 2")]
    for line in told:
        print(line)
    kinds = ", ".join(f"{n} {s or 'other'}" for s, n in sorted(counts.items()))
    print(f"{sum(counts.values())} files compared ({kinds}): " + (f"{len(told)} differ" if told else "nothing differs"))
    return 1 if told or not counts else 0


if __name__ == "__main__":
    sys.exit(main())
