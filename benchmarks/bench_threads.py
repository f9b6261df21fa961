"""Steps as users run them: each contender alone in a process of its own, in turn, beside NumPy code
of the user's.

python -m benchmarks threads runs them all; python -m benchmarks.bench_threads NETWORK CONTENDER
times one and prints it. There is no settling phase: what a step costs because of what ran before it
belongs to its cost.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
from collections.abc import Callable
from itertools import pairwise
from time import perf_counter

import numpy as np

import vinestep as vs

from .hand_written import HandWrittenDense

__all__ = ["NETWORKS", "run"]

RATE = 1e-6
SERIES = 3
SECONDS = 3.0
BESIDE = 600  # rows and columns of the user's own matrices

NETWORKS = {
    "640-1024-512-6, batch 1024": ((640, 1024, 512, 6), 1024),
    "640-128-6, batch 64": ((640, 128, 6), 64),
}


class NumPyDense(vs.Layer):
    """A dense layer as a user writes it."""

    def __init__(self, width: int) -> None:
        super().__init__()
        self.width = width

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter("weight", (shape[-1], self.width), vs.initialisers.he_normal)
        self.parameter("bias", (self.width,), vs.initialisers.zeros)

    def compute(self, x: vs.Tensor) -> vs.Tensor:
        return x @ self.weight + self.bias


def _numpy_relu(x: vs.Tensor) -> vs.Tensor:
    return np.maximum(x, 0)


def _library(width: int, place: int) -> list[object]:
    return [vs.Dense(width), vs.relu]


def _numpy(width: int, place: int) -> list[object]:
    return [NumPyDense(width), _numpy_relu]


def _mixed(width: int, place: int) -> list[object]:
    return _numpy(width, place) if place % 2 else _library(width, place)


def _batch(widths: tuple[int, ...], n: int) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(0)
    return rng.normal(size=(n, widths[0])).astype(np.float32), rng.integers(0, widths[-1], n)


def _ours(
    kind: Callable[[int, int], list[object]],
) -> Callable[[tuple[int, ...], int], Callable[[], object]]:
    def contender(widths: tuple[int, ...], n: int) -> Callable[[], object]:
        places = len(widths) - 1
        layers = [
            layer
            for place, width in enumerate(widths[1:])
            for layer in kind(width, place)[: 2 if place < places - 1 else 1]
        ]
        training = vs.Training(
            vs.Stack(*layers), loss=vs.losses.cross_entropy, optimiser=vs.optimisers.Adam(RATE)
        )
        batch = _batch(widths, n)
        return lambda: training.step(batch)

    return contender


def _ours_in_a_loop(widths: tuple[int, ...], n: int) -> Callable[[], object]:
    """The steps of one long run, one by one."""
    layers = [layer for width in widths[1:-1] for layer in (vs.Dense(width), vs.relu)]
    training = vs.Training(
        vs.Stack(*layers, vs.Dense(widths[-1])),
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(RATE),
    )
    steps = iter(
        training.steps(
            vs.data.Dataset(*_batch(widths, n)).batches(n, shuffled=False), epochs=1_000_000
        )
    )
    return lambda: next(steps)


def _by_hand(widths: tuple[int, ...], n: int) -> Callable[[], object]:
    hand, batch = HandWrittenDense(widths, RATE), _batch(widths, n)
    return lambda: hand.step(*batch)


def _beside_products(
    contender: Callable[[tuple[int, ...], int], Callable[[], object]],
) -> Callable[..., Callable[[], object]]:
    def beside(widths: tuple[int, ...], n: int) -> Callable[[], object]:
        step = contender(widths, n)
        a, b = (
            np.random.default_rng(k).normal(size=(BESIDE, BESIDE)).astype(np.float32)
            for k in (0, 1)
        )
        out = np.empty_like(a)

        def both() -> None:
            step()
            np.matmul(a, b, out=out)

        return both

    return beside


def _products(widths: tuple[int, ...], n: int) -> Callable[[], object]:
    """The matrix products of one step, and nothing else."""
    rng = np.random.default_rng(0)
    work = [
        [rng.normal(size=s).astype(np.float32) for s in ((n, a), (a, b), (n, b))]
        for a, b in pairwise(widths)
    ]

    def products() -> None:
        for i, (x, w, g) in enumerate(work):
            x @ w
            x.T @ g
            if i:
                g @ w.T

    return products


CONTENDERS = {
    "hand-written": _by_hand,
    "library layers": _ours(_library),
    "all NumPy": _ours(_numpy),
    "mixed": _ours(_mixed),
    "hand-written, own products between": _beside_products(_by_hand),
    "library layers, own products between": _beside_products(_ours(_library)),
    "library layers in one run, own products between": _beside_products(_ours_in_a_loop),
    "bare products": _products,
}


def seconds_per_step(network: str, contender: str) -> float:
    """The median over a few seconds from the third step on."""
    step = CONTENDERS[contender](*NETWORKS[network])
    for _ in range(3):
        step()
    times = []
    begun = now = perf_counter()
    while now - begun < SECONDS:
        step()
        times.append(perf_counter() - now)
        now += times[-1]
    return statistics.median(times)


def _alone(network: str, contender: str) -> float:
    command = [sys.executable, "-m", "benchmarks.bench_threads", network, contender]
    return float(subprocess.run(command, check=True, capture_output=True, text=True).stdout)


def run() -> dict[str, dict[str, object]]:
    found: dict[str, dict[str, object]] = {}
    for network in NETWORKS:
        times: dict[str, list[float]] = {name: [] for name in CONTENDERS}
        for _ in range(SERIES):
            for name, series in times.items():
                series.append(_alone(network, name))
        middle = {name: statistics.median(series) for name, series in times.items()}
        for name, series in times.items():
            beside = "hand-written" + name[name.index(",") :] if "," in name else "hand-written"
            ratios = [ours / theirs for ours, theirs in zip(series, times[beside], strict=True)]
            found[f"{network}: {name}"] = {
                "ms": 1e3 * middle[name],
                "of the hand-written": middle[name] / middle[beside],
                "series": [round(ratio, 2) for ratio in ratios],
            }
        found[f"{network}: mixed of all NumPy"] = {"ratio": middle["mixed"] / middle["all NumPy"]}
    return found


if __name__ == "__main__":
    print(seconds_per_step(*sys.argv[1:]))
