"""A whole training step (forward, loss, backward, Adam) against the same step hand-written, and
against bare products.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np

import vinestep as vs

from .hand_written import HandWrittenDense
from .timing import interleaved

__all__ = ["run"]

# thousands of steps on one batch learn nothing, else gradients vanish and Adam computes with
# denormal numbers
RATE = 1e-6

DENSE = {
    "dense 640-1024-512-6, batch 1024": ((640, 1024, 512, 6), 1024),
    "dense 640-128-6, batch 64": ((640, 128, 6), 64),
    "dense 10-32-3, batch 32 (barrels)": ((10, 32, 3), 32),
}


def _products(widths: tuple[int, ...], batch: int) -> Callable[[], object]:
    """The matrix products of one step, and nothing else."""
    rng = np.random.default_rng(0)
    draw = [
        (rng.normal(size=(batch, a)), rng.normal(size=(a, b)), rng.normal(size=(batch, b)))
        for a, b in pairwise(widths)
    ]
    arrays = [tuple(x.astype(np.float32) for x in layer) for layer in draw]
    outs = [(np.empty_like(g), np.empty_like(w), np.empty_like(x)) for x, w, g in arrays]

    def products() -> None:
        for i, ((x, w, g), (y, gw, gx)) in enumerate(zip(arrays, outs, strict=True)):
            np.matmul(x, w, out=y)
            np.matmul(x.T, g, out=gw)
            if i:
                np.matmul(g, w.T, out=gx)

    return products


def dense(widths: tuple[int, ...], batch: int) -> dict[str, Callable[[], object]]:
    rng = np.random.default_rng(0)
    x, labels = (
        rng.normal(size=(batch, widths[0])).astype(np.float32),
        rng.integers(0, widths[-1], batch),
    )
    layers: list[object] = []
    for width in widths[1:-1]:
        layers += [vs.Dense(width), vs.relu]
    training = vs.Training(
        vs.Stack(*layers, vs.Dense(widths[-1])),
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(RATE),
    )
    hand = HandWrittenDense(widths, RATE)
    return {
        "ours": lambda: training.step((x, labels)),
        "hand-written": lambda: hand.step(x, labels),
        "floor": _products(widths, batch),
    }


def run() -> dict[str, dict[str, float]]:
    found = {}
    for name, (widths, batch) in DENSE.items():
        times = interleaved(dense(widths, batch), seconds=6.0, rounds=21)
        found[name] = {
            "ours us": 1e6 * times["ours"],
            "of the floor": times["ours"] / times["floor"],
            "of the hand-written": times["ours"] / times["hand-written"],
        }
    return found
