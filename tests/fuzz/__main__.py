"""Run a fuzzer: python tests/fuzz kernels 20000 [first seed]. Attempts run in child processes, so
that a crash is an outcome too.
"""

import json
import subprocess
import sys
import time
from collections import Counter
from importlib import import_module
from pathlib import Path

HERE = Path(__file__).parent
EACH = 500  # attempts a child
GOOD = ("right", "refused")


def serve(name, first, last):
    """In the child: one line before an attempt and one after it."""
    attempt = import_module(name).attempt
    for seed in range(first, last):
        print(json.dumps({"seed": seed}), flush=True)
        print(json.dumps({"seed": seed, "outcome": attempt(seed)}), flush=True)


def fuzz(name, count, first=0, *, say=None):
    """How often what came out, and each attempt that did not end well."""
    outcomes, bad, seed, end = Counter(), [], first, first + count
    while seed < end:
        command = [sys.executable, str(HERE), "serve", name, str(seed), str(min(seed + EACH, end))]
        child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        lines, errors = child.communicate()
        last = seed
        for line in map(json.loads, lines.splitlines()):
            last = line["seed"]
            if "outcome" in line:
                found = line["outcome"]
                outcomes[found if found in GOOD else found.partition(" ")[0].rstrip(":")] += 1
                if found not in GOOD:
                    bad.append((last, found))
                last += 1
        if child.returncode:
            outcomes["crashed"] += 1
            bad.append((last, f"crashed with {child.returncode}: {errors[-120:]}"))
            last += 1
        seed = last
        if say is not None:
            say(f"{name}: {seed - first} of {count}, {dict(outcomes)}")
    return outcomes, bad


if __name__ == "__main__":
    if sys.argv[1] == "serve":
        serve(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
    else:
        begun = time.perf_counter()
        outcomes, bad = fuzz(
            sys.argv[1], int(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 0, say=None
        )
        for seed, text in bad[:40]:
            print(f"  seed {seed}: {text}")
        print(f"{sys.argv[1]}: {dict(outcomes)} in {time.perf_counter() - begun:.0f} s")
        sys.exit(bool(bad))
