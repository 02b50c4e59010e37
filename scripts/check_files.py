"""Compiles each file of a build folder by itself, without making code. See check-files."""

import json
import os
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

# What nearly every file includes, from outside of this project. Reading it ahead is most of what a file costs.
COMMON = """algorithm array atomic bit charconv chrono cmath condition_variable cstring deque filesystem fstream functional
future limits map memory mutex optional set span sstream string thread unordered_map unordered_set utility variant vector
fmt/format.h nlohmann/json.hpp""".split()


def entries(folder):
    """(file, command, is it a header) of each file that is compiled and is ours."""
    with open(os.path.join(folder, "compile_commands.json")) as f:
        for e in json.load(f):
            header = "_verify_interface_header_sets" in e["file"]
            made = os.path.abspath(e["file"]).startswith(os.path.abspath(folder) + os.sep)
            if e["file"].endswith((".cpp", ".cxx")) and (header or not made):
                yield e["file"], re.sub(r" -o \S+", "", e["command"]), header


def main():
    folder, headers_only, strict = sys.argv[1], sys.argv[2] == "yes", sys.argv[3] == "yes"
    files = [e for e in entries(folder) if e[2] or not headers_only]
    ahead = ""
    if not strict:
        base = os.path.join(os.path.abspath(folder), "common.h")
        with open(base, "w") as f:
            f.writelines(f"#include <{name}>\n" for name in COMMON)
        flags = " ".join(w for w in files[0][1].split() if w.startswith(("-D", "-O", "-W", "-std", "-f")))
        making = f"clang++ {flags} -fpch-instantiate-templates -x c++-header {base} -o {base}.pch"
        subprocess.run(making, shell=True, check=True)
        ahead = f" -include-pch {base}.pch"

    def look(entry):
        r = subprocess.run(entry[1] + " -fsyntax-only" + ahead, shell=True, cwd=folder, capture_output=True, text=True)
        return entry[0], r.returncode, r.stderr

    bad = 0
    with ThreadPoolExecutor(os.cpu_count()) as threads:
        for name, status, said in threads.map(look, files):
            if status != 0:
                bad += 1
                sys.stderr.write(f"{name}:\n{said}\n")
    print(f"{len(files)} files by themselves, {sum(e[2] for e in files)} of them headers: {bad} of them cannot stand alone")
    return 1 if bad else 0


sys.exit(main())
