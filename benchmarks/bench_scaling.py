"""A model of how long a step takes on so many ranks: fitted to some settings, held against others,
and carried on to more machines than there are here.

A step of n ranks on p processors is taken to be

    ceil(n / p) * busy * (fixed + each * P + start * rounds + byte * bytes
                          + (product * P + value * A) * rows / n)

with P parameters, A values that layers put out for an example, ``rounds = ceil(log2(n))`` and
``bytes = 8 P (n - 1) / n``, which an all-reduce sends and gets in float32 (R. Rabenseifner,
"Optimization of Collective Reduction Operations", ICCS 2004). Ranks that share a processor take
turns; `busy` is how much longer all takes where more than one processor works, as those that share
a core or a memory do.
"""

from __future__ import annotations

import json
import math
import os
import subprocess
import sys
import time
from itertools import product

import numpy as np
import scipy.optimize

import vinestep as vs

from .bench_ranks import launcher

__all__ = ["predicted", "run"]

WIDTHS, ROWS, RANKS = (256, 512, 768, 1024), (128, 256, 512, 1024), (1, 2, 3, 4)
HELD_BACK = {(768, rows, ranks) for rows in ROWS for ranks in RANKS} | {
    (width, 512, 3) for width in WIDTHS
}
STEPS, WARM = 12, 3
NETWORKS = {
    "10 Gbit/s Ethernet": {"start": 30e-6, "byte": 1 / 1.25e9},
    "100 Gbit/s, remote memory access": {"start": 3e-6, "byte": 1 / 12.5e9},
}
LARGE = 125_000_000, 100_000, 4096
"""Parameters, values put out for an example, and rows of a batch, of what is carried on."""


def size(width: int) -> tuple[int, int]:
    """Parameters, and values that layers put out for an example."""
    return 3 * width * (width + 1) + 10 * (width + 1), 3 * width + 10


def measured() -> list[tuple[int, int, float]]:
    """Width, rows and seconds of a step, of the ranks that this is one of."""
    found = []
    for width, rows in product(WIDTHS, ROWS):
        rng = np.random.default_rng(0)
        x = rng.normal(size=(rows, width)).astype(np.float32)
        batch = x, rng.integers(0, 10, rows)
        network = vs.Stack(*(vs.Dense(width, vs.relu) for _ in range(3)), vs.Dense(10))
        training = vs.Training(network, loss=vs.losses.cross_entropy, seed=1)
        times = []
        for _ in range(WARM + STEPS):
            begun = time.perf_counter()
            training.step(batch)
            times.append(time.perf_counter() - begun)
        found.append((width, rows, float(np.median(times[WARM:]))))
    return found


def terms(count: int, values: int, rows: int, ranks: int, processors: int) -> np.ndarray:
    """What each coefficient is multiplied by, but for `busy`."""
    rounds, sent = math.ceil(math.log2(ranks)), 8 * count * (ranks - 1) / ranks
    each = np.array(
        [1, count, rows * count / ranks, rows * values / ranks, rounds, sent], dtype=float
    )
    return math.ceil(ranks / processors) * each


NAMES = ("fixed", "each", "product", "value", "start", "byte")


def predicted(
    fitted: dict[str, float], count: int, values: int, rows: int, ranks: int, processors: int
) -> float:
    shared = fitted["busy"] if min(ranks, processors) > 1 else 1.0
    own = np.array([fitted[name] for name in NAMES])
    return float(shared * terms(count, values, rows, ranks, processors) @ own)


def fit(found: dict[tuple[int, int, int], float], processors: int) -> dict[str, float]:
    """Coefficients that are not negative, by least squares of relative errors."""
    known = [key for key in found if key not in HELD_BACK]
    every = np.array([terms(*size(w), r, n, processors) / found[w, r, n] for w, r, n in known])
    shared = np.array([min(n, processors) > 1 for _, _, n in known])
    best: tuple[float, dict[str, float]] = (math.inf, {})
    for busy in np.arange(1.0, 2.01, 0.05):
        rows = every * np.where(shared, busy, 1.0)[:, None]
        scale = rows.max(axis=0)
        values, error = scipy.optimize.nnls(rows / scale, np.ones(len(rows)))
        if error < best[0]:
            named = dict(zip(NAMES, (values / scale).tolist(), strict=True))
            best = float(error), {"busy": float(busy), **named}
    return best[1]


def measured_on(ranks: int) -> dict[tuple[int, int, int], float]:
    """The fastest of two runs."""
    command = [sys.executable, "-m", "benchmarks.bench_scaling"]
    if ranks > 1:
        command = [launcher(), "-n", str(ranks), *command]
    environment = os.environ | {"VINESTEP_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    found: dict[tuple[int, int, int], float] = {}
    for _ in range(2):
        done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
        for width, rows, seconds in json.loads(done.stdout.strip().splitlines()[-1]):
            key = width, rows, ranks
            found[key] = min(seconds, found.get(key, math.inf))
    return found


def run() -> dict[str, float]:
    """Coefficients, errors of what was held back, and predictions for clusters."""
    processors = os.cpu_count() or 1
    found: dict[tuple[int, int, int], float] = {}
    for ranks in RANKS:
        found |= measured_on(ranks)
    fitted = fit(found, processors)
    errors = {
        key: predicted(fitted, *size(key[0]), *key[1:], processors) / seconds - 1
        for key, seconds in found.items()
    }
    held = np.abs([error for key, error in errors.items() if key in HELD_BACK])
    result = {f"fitted, {name}": value for name, value in fitted.items()}
    result |= {
        "held back, median error, %": 100 * float(np.median(held)),
        "held back, 9 of 10 within, %": 100 * float(np.quantile(held, 0.9)),
        "held back, largest error, %": 100 * float(held.max()),
    }
    for network, own in NETWORKS.items():
        for machines in (1, 8, 64, 1024):
            seconds = predicted(fitted | own | {"busy": 1.0}, *LARGE, machines, machines)
            alone = predicted(fitted, *LARGE, 1, 1)
            result[f"{network}, {machines} machines: speed-up"] = alone / seconds
            exchange = terms(*LARGE, machines, machines)[4:] @ list(own.values())
            result[f"{network}, {machines} machines: share of exchange, %"] = (
                100 * float(exchange) / seconds
            )
    return result


if __name__ == "__main__":
    figures = measured()
    if vs.distributed.communicator().rank == 0:
        print(json.dumps(figures))
