"""Whole training steps of larger layers against the same step by hand, and against the floor: its
bare matrix products alone.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

import vinestep as vs

from .hand_written import (
    HandWritten,
    HandWrittenConvolutional,
    HandWrittenEmbedding,
    HandWrittenLSTM,
    HandWrittenResidual,
    HandWrittenTransformer,
)
from .timing import interleaved

__all__ = ["CASES", "Case", "convolutional", "embedding", "lstm", "residual", "run", "transformer"]

RATE = 1e-4

Product = tuple[int, int, int, bool]
"""Rows, width in, width out of a product, and whether the cotangent of its input is needed."""


def _floor(products: Sequence[Product]) -> Callable[[], object]:
    rng = np.random.default_rng(0)
    work = []
    for rows, n_in, n_out, back in products:
        x, w, g = (
            rng.normal(size=s).astype(np.float32)
            for s in ((rows, n_in), (n_in, n_out), (rows, n_out))
        )
        work.append((x, w, g, np.empty_like(g), np.empty_like(w), np.empty_like(x), back))

    def run() -> None:
        for x, w, g, y, gw, gx, back in work:
            np.matmul(x, w, out=y)
            np.matmul(x.T, g, out=gw)
            if back:
                np.matmul(g, w.T, out=gx)

    return run


@dataclass(frozen=True, slots=True)
class Case:
    """A network, data, the same step by hand, and the matrix products of it."""

    network: vs.Layer
    inputs: np.ndarray
    targets: np.ndarray
    loss: Callable[..., Any]
    hand: HandWritten | None
    products: Sequence[Product]

    def training(self) -> vs.Training:
        """Ours, on which the hand-written one begins with the same parameters."""
        training = vs.Training(self.network, loss=self.loss, optimiser=vs.optimisers.Adam(RATE))
        self.network.initialise(self.inputs[:1])
        assert self.network.arena is not None
        if self.hand is not None:
            self.hand.theta[:] = self.network.arena.flat
        return training

    def contender(self) -> Callable[[], object]:
        """A step of ours."""
        training = self.training()
        return lambda: training.step((self.inputs, self.targets))

    def contenders(self) -> dict[str, Callable[[], object]]:
        assert self.hand is not None
        by_hand = self.hand.step
        return {
            "ours": self.contender(),
            "hand-written": lambda: by_hand(self.inputs, self.targets),
            "floor": _floor(self.products),
        }


def _normal(*shape: int) -> np.ndarray:
    return np.random.default_rng(0).normal(size=shape).astype(np.float32)


def _labels(n: int, classes: int = 10) -> np.ndarray:
    return np.random.default_rng(1).integers(0, classes, n)


def convolutional(n: int = 64, channels: tuple[int, int] = (16, 32), classes: int = 6) -> Case:
    """On pictures like those of leaves."""
    a, b = channels
    network = vs.Stack(
        vs.Convolution(a, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Convolution(b, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Flatten(),
        vs.Dense(classes),
    )
    products = [(n * 1024, 27, a, False), (n * 256, 9 * a, b, True), (n, 64 * b, classes, True)]
    hand = HandWrittenConvolutional((n, 32, 32, 3), channels, classes, RATE)
    return Case(
        network, _normal(n, 32, 32, 3), _labels(n, classes), vs.losses.cross_entropy, hand, products
    )


def residual(n: int = 32, width: int = 32) -> Case:
    body = vs.Stack(
        vs.Convolution(width, 3), vs.BatchNorm(), vs.relu, vs.Convolution(width, 3), vs.BatchNorm()
    )
    x, target = _normal(n, 32, 32, width), _normal(n + 1, 32, 32, width)[1:]
    products = [(n * 1024, 9 * width, width, False), (n * 1024, 9 * width, width, True)]
    hand = HandWrittenResidual(x.shape, RATE)
    return Case(
        vs.Stack(vs.Residual(body), vs.relu), x, target, vs.losses.squared_error, hand, products
    )


def lstm(n: int = 64, time: int = 28, width: int = 128) -> Case:
    network = vs.Stack(vs.LSTM(width, output="last"), vs.Dense(10))
    products = [
        (n * time, 28, 4 * width, False),
        *[(n, width, 4 * width, True)] * time,
        (n, width, 10, True),
    ]
    hand = HandWrittenLSTM(n, time, 28, width, 10, RATE)
    return Case(network, _normal(n, time, 28), _labels(n), vs.losses.cross_entropy, hand, products)


def transformer(n: int = 16, time: int = 128, width: int = 128) -> Case:
    each, rows = width // 4, n * time
    attention: list[Product] = [(time, each, time, True)] * (4 * n) + [(time, time, each, True)] * (
        4 * n
    )
    products = [
        *[(rows, width, width, True)] * 4,
        (rows, width, 4 * width, True),
        (rows, 4 * width, width, True),
        *attention,
    ]
    x, target = _normal(n, time, width), _normal(n + 1, time, width)[1:]
    network = vs.TransformerBlock(4, activation=vs.gelu_tanh)
    return Case(
        network,
        x,
        target,
        vs.losses.squared_error,
        HandWrittenTransformer(n, time, width, 4, RATE),
        products,
    )


def embedding(count: int = 20_000, tokens: int = 5_000) -> Case:
    ids = np.random.default_rng(0).integers(0, count, (50, tokens // 50))
    network = vs.Stack(vs.Embedding(count, 128), vs.Dense(8))
    hand = HandWrittenEmbedding(count, 128, 8, RATE)
    return Case(
        network,
        ids,
        _normal(*ids.shape, 8),
        vs.losses.squared_error,
        hand,
        [(tokens, 128, 8, True)],
    )


CASES: dict[str, Callable[[], Case]] = {
    "leaves, 32x32x3: conv 3x3x16, pool 2, conv 3x3x32, pool 2, dense 6; batch 64": convolutional,
    "residual block, 32x32x32, two 3x3 convolutions with batch norm, batch 32": residual,
    "LSTM 28 -> 128, 28 steps, batch 64, last state to dense 10": lstm,
    "transformer block, width 128, 4 heads, 128 tokens, batch 16": transformer,
    "embedding of 20,000 x 128 with 5,000 tokens a batch": embedding,
}


def run() -> dict[str, dict[str, float]]:
    found = {}
    for name, case in CASES.items():
        times = interleaved(case().contenders(), seconds=6.0, rounds=15)
        found[name] = {
            "ours ms": 1e3 * times["ours"],
            "of the floor": times["ours"] / times["floor"],
            "of the hand-written": times["ours"] / times["hand-written"],
        }
    return found
