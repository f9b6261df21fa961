"""Whole training steps of larger layers against the floor: the bare matrix products of the same step, and nothing else."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

import vinestep as vs

from .timing import interleaved

__all__ = ["run"]

Product = tuple[int, int, int, bool]
"""Rows, width in, width out of a product, and whether the cotangent of its input is needed."""


def _floor(products: Sequence[Product]) -> Callable[[], object]:
    rng = np.random.default_rng(0)
    work = []
    for rows, n_in, n_out, back in products:
        x, w, g = (rng.normal(size=s).astype(np.float32) for s in ((rows, n_in), (n_in, n_out), (rows, n_out)))
        work.append((x, w, g, np.empty_like(g), np.empty_like(w), np.empty_like(x), back))

    def run() -> None:
        for x, w, g, y, gw, gx, back in work:
            np.matmul(x, w, out=y)
            np.matmul(x.T, g, out=gw)
            if back:
                np.matmul(g, w.T, out=gx)

    return run


def _step(network: vs.Layer, x: np.ndarray, targets: np.ndarray, loss: Callable[..., object]) -> Callable[[], object]:
    training = vs.Training(network, loss=loss, optimiser=vs.optimisers.Adam(1e-4))
    training.step((x, targets))
    return lambda: training.step((x, targets))


def _cases() -> dict[str, tuple[Callable[[], object], list[Product]]]:
    rng = np.random.default_rng(0)

    def normal(*shape: int) -> np.ndarray:
        return rng.normal(size=shape).astype(np.float32)

    small = vs.Stack(
        vs.Convolution(8, 5, activation=vs.relu),
        vs.MaxPool(2),
        vs.Convolution(16, 5, activation=vs.relu),
        vs.MaxPool(2),
        vs.Flatten(),
        vs.Dense(10),
    )
    body = vs.Stack(vs.Convolution(32, 3), vs.BatchNorm(), vs.relu, vs.Convolution(32, 3), vs.BatchNorm())
    pictures = normal(32, 32, 32, 32)
    lstm = vs.Stack(vs.LSTM(128, gives="last"), vs.Dense(10))
    block = vs.TransformerBlock(4, activation=vs.gelu_tanh)
    text = normal(16, 128, 128)
    attention: list[Product] = [(128, 32, 128, True)] * 64 + [(128, 128, 32, True)] * 64
    words = vs.Stack(vs.Embedding(20_000, 128), vs.Dense(8))
    ids = rng.integers(0, 20_000, (50, 100))
    squared, labelled = vs.losses.squared_error, vs.losses.cross_entropy
    return {
        "28x28x1: conv 5x5x8, pool 2, conv 5x5x16, pool 2, dense 10; batch 64": (
            _step(small, normal(64, 28, 28, 1), rng.integers(0, 10, 64), labelled),
            [(64 * 784, 25, 8, False), (64 * 196, 200, 16, True), (64, 784, 10, True)],
        ),
        "residual block, 32x32x32, two 3x3 convolutions with batch norm, batch 32": (
            _step(vs.Stack(vs.Residual(body), vs.relu), pictures, normal(32, 32, 32, 32), squared),
            [(32 * 1024, 288, 32, False), (32 * 1024, 288, 32, True)],
        ),
        "LSTM 28 -> 128, 28 steps, batch 64, last state to dense 10": (
            _step(lstm, normal(64, 28, 28), rng.integers(0, 10, 64), labelled),
            [(64 * 28, 28, 512, False), *[(64, 128, 512, True)] * 28, (64, 128, 10, True)],
        ),
        "transformer block, width 128, 4 heads, 128 tokens, batch 16": (
            _step(block, text, normal(16, 128, 128), squared),
            [*[(2048, 128, 128, True)] * 4, (2048, 128, 512, True), (2048, 512, 128, True), *attention],
        ),
        "embedding of 20,000 x 128 with 5,000 tokens a batch": (
            _step(words, ids, normal(50, 100, 8), squared),
            [(5000, 128, 8, True)],
        ),
    }


def run() -> dict[str, dict[str, float]]:
    found = {}
    for name, (ours, products) in _cases().items():
        times = interleaved({"ours": ours, "floor": _floor(products)}, seconds=6.0, rounds=15)
        found[name] = {"ours ms": 1e3 * times["ours"], "of the floor": times["ours"] / times["floor"]}
    return found
