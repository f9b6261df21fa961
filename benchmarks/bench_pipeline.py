"""A pipeline of two stages on two ranks: its speed against one process, and how long a rank is idle
against the formula (p - 1) / (m + p - 1) of p stages and m parts of a batch.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time

import numpy as np

import vinestep as vs

from .bench_ranks import launcher

__all__ = ["run"]

WIDTH, ROWS, STEPS, WARM = 1024, 1024, 10, 3
PARTS = (1, 2, 4, 8, 16)


def steps(parts: int) -> dict[str, float]:
    """Seconds of a step, and the share of the time in which this rank waited."""
    rng = np.random.default_rng(0)
    x = rng.normal(size=(ROWS, WIDTH)).astype(np.float32)
    batch = x, rng.normal(size=(ROWS, WIDTH)).astype(np.float32)
    stages = (vs.Stack(*(vs.Dense(WIDTH, vs.relu) for _ in range(4))) for _ in range(2))
    network = vs.Pipeline(*stages, micro_batches=parts)
    training = vs.Training(network, loss=vs.losses.squared_error, seed=1)
    comm, times = vs.distributed.communicator(), []
    spent = begun = 0.0
    for number in range(WARM + STEPS):
        if number == WARM:
            spent, begun = comm.seconds["waiting"], time.perf_counter()
        start = time.perf_counter()
        training.step(batch)
        times.append(time.perf_counter() - start)
    whole = time.perf_counter() - begun
    idle = (comm.seconds["waiting"] - spent) / whole
    return {"step": float(np.median(times[WARM:])), "idle": idle}


def measured(ranks: int, parts: int) -> dict[str, float]:
    command = [sys.executable, "-m", "benchmarks.bench_pipeline", str(parts)]
    if ranks > 1:
        command = [launcher(), "-n", str(ranks), *command]
    environment = os.environ | {"VINESTEP_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    return dict(json.loads(done.stdout.strip().splitlines()[-1]))


def run() -> dict[str, float]:
    """One thread for each rank."""
    alone = min(measured(1, 1)["step"] for _ in range(2))
    result = {"one process, ms": 1000 * alone}
    for parts in PARTS:
        found = min((measured(2, parts) for _ in range(2)), key=lambda one: one["step"])
        result |= {
            f"{parts} parts: step, ms": 1000 * found["step"],
            f"{parts} parts: idle, %": 100 * found["idle"],
            f"{parts} parts: idle by the formula, %": 100 / (parts + 1),
        }
    return result


if __name__ == "__main__":
    figures = steps(int(sys.argv[1]))
    comm = vs.distributed.communicator()
    every = comm.all_gather(figures)
    if comm.rank == 0:
        idle = float(np.mean([one["idle"] for one in every]))
        print(json.dumps({"step": figures["step"], "idle": idle}))
