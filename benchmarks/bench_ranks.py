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
from vinestep.training.step import _exchange

from .namespaces import launcher_over

__all__ = ["run"]

STEPS, WARM = 24, 6
WHOLE = "--whole"
BESIDE = Path(sys.executable).parent


def dense():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(2048, 1024)).astype(np.float32)
    network = vs.Stack(*(vs.Dense(2048, vs.relu) for _ in range(3)), vs.Dense(10))
    return network, vs.losses.cross_entropy, (x, rng.integers(0, 10, 2048)), 512


def wide_batch():
    return *dense()[:3], 2048


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
OVER_NETWORK = {"dense, 2048 rows": "2gbit", "convolutional": "500mbit", "language": "1gbit"}
MADE = CASES | {"dense, 2048 rows": wide_batch}


def steps(name: str) -> dict[str, float]:
    """Seconds of a step, its median, and of exchanging and waiting in it."""
    network, loss, data, size = MADE[name]()
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


def launcher() -> str:
    return str(shutil.which("mpiexec", path=f"{BESIDE}{os.pathsep}{os.environ['PATH']}"))


def measured(
    name: str,
    ranks: int,
    threads: int,
    *options: str,
    over: tuple[list[str], dict[str, str]] | None = None,
) -> dict[str, float]:
    """In processes of their own."""
    command = [sys.executable, "-m", "benchmarks.bench_ranks", name, *options]
    environment = os.environ | {"VINESTEP_THREADS": str(threads), "OPENBLAS_NUM_THREADS": "2"}
    if over is not None:
        command, environment = [*over[0], *command], environment | over[1]
    elif ranks > 1:
        command = [launcher(), "-n", str(ranks), *command]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    return dict(json.loads(done.stdout.strip().splitlines()[-1]))


def hidden(name: str, rate: str) -> dict[str, float]:
    """Two ranks that reach one another by a network of this bandwidth: the step with gradients
    sent at its end, and as they are made.
    """
    with launcher_over(2, rate, launcher()) as over:
        found = [
            (measured(name, 2, 1, WHOLE, over=over), measured(name, 2, 1, over=over))
            for _ in range(2)
        ]
    late, early = (min(each, key=lambda one: one["step"]) for each in zip(*found, strict=True))
    title = f"{name}, {rate}"
    return {
        f"{title}: step, ms": 1000 * late["step"],
        f"{title}: step with overlap, ms": 1000 * early["step"],
        f"{title}: exchanging, ms": 1000 * late["exchanging"],
        f"{title}: exchanging with overlap, ms": 1000 * early["exchanging"],
        f"{title}: share that is hidden": (late["step"] - early["step"]) / late["exchanging"],
    }


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
        late = min((measured(name, 2, 1, WHOLE) for _ in range(2)), key=lambda each: each["step"])
        result[f"{name}: exchanging, ms"] = 1000 * two["exchanging"]
        result[f"{name}: exchanging without overlap, ms"] = 1000 * late["exchanging"]
        result[f"{name}: waiting, ms"] = 1000 * two["waiting"]
    if os.geteuid() == 0 and shutil.which("tc"):
        for name, rate in OVER_NETWORK.items():
            result |= hidden(name, rate)
    return result


if __name__ == "__main__":
    if WHOLE in sys.argv:
        _exchange.LEAST = sys.maxsize
    figures = steps(sys.argv[1])
    if vs.distributed.communicator().rank == 0:
        print(json.dumps(figures))
