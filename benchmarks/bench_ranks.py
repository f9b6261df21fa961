"""Training over ranks on this machine: its speed against one process with as many threads, and how
much of the exchange goes on while gradients are still derived.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

import vinestep as vs

__all__ = ["run"]

STEPS, WARM = 24, 6
BESIDE = Path(sys.executable).parent


def dense():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(2048, 1024)).astype(np.float32)
    network = vs.Stack(*(vs.Dense(2048, vs.relu) for _ in range(3)), vs.Dense(10))
    return network, vs.losses.cross_entropy, (x, rng.integers(0, 10, 2048)), 512


def convolutional():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(512, 32, 32, 3)).astype(np.float32)
    network = vs.networks.convolutional_classifier(10, channels=(32, 64, 128))
    return network, vs.losses.cross_entropy, (x, rng.integers(0, 10, 512)), 128


def language():
    rng = np.random.default_rng(0)
    tokens = rng.integers(0, 2000, size=(256, 97))
    network = vs.networks.LanguageModel(2000, width=192, depth=4, heads=4)
    return network, vs.losses.cross_entropy, (tokens[:, :-1], tokens[:, 1:]), 16


CASES = {"dense": dense, "convolutional": convolutional, "language": language}


def steps(name: str) -> dict[str, float]:
    """Seconds of a step, its median, and of exchanging and waiting in it."""
    network, loss, data, size = CASES[name]()
    training = vs.Training(network, loss=loss, optimiser=vs.optimisers.Adam(1e-4), seed=1)
    comm = vs.distributed.communicator()
    times: list[float] = []
    batches = vs.data.Dataset(*data).batches(size)
    begun, spent = time.perf_counter(), {}
    with _run_like():
        for step in training.steps(batches, epochs=1000):
            now = time.perf_counter()
            times.append(now - begun)
            begun = now
            if step.number == WARM:
                spent = dict(comm.seconds)
            if step.number >= WARM + STEPS:
                break
    found = {"step": float(np.median(times[WARM:]))}
    for what, seconds in comm.seconds.items():
        found[what] = (seconds - spent[what]) / STEPS
    return found


def _run_like():
    """The matrix library keeps to one thread, as in a run."""
    from vinestep.kernels.machinery.blas_threads import one_blas_thread

    return one_blas_thread()


def measured(name: str, ranks: int, threads: int) -> dict[str, float]:
    """In processes of their own."""
    launcher = shutil.which("mpiexec", path=f"{BESIDE}{os.pathsep}{os.environ['PATH']}")
    command = [sys.executable, "-m", "benchmarks.bench_ranks", name]
    if ranks > 1:
        command = [str(launcher), "-n", str(ranks), *command]
    environment = os.environ | {"VINESTEP_THREADS": str(threads), "OPENBLAS_NUM_THREADS": "2"}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    return dict(json.loads(done.stdout.strip().splitlines()[-1]))


def run() -> dict[str, float]:
    """Speed of two ranks of one thread against one process of two threads."""
    result = {}
    for name in CASES:
        found = [(measured(name, 1, 2), measured(name, 2, 1)) for _ in range(2)]
        one = min(alone["step"] for alone, _ in found)
        two = min((ranks for _, ranks in found), key=lambda each: each["step"])
        result[f"{name}: one process, ms"] = 1000 * one
        result[f"{name}: two ranks, ms"] = 1000 * two["step"]
        result[f"{name}: speed of two ranks to that of one process"] = one / two["step"]
        result[f"{name}: exchanging, ms"] = 1000 * two["exchanging"]
        result[f"{name}: waiting, ms"] = 1000 * two["waiting"]
    return result


if __name__ == "__main__":
    figures = steps(sys.argv[1])
    if vs.distributed.communicator().rank == 0:
        print(json.dumps(figures))
