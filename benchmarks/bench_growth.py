"""How a step grows: its time over that of the smallest, divided by how much more there is to do.
Straight lines stay at 1.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import vinestep as vs

from . import bench_layers
from .timing import interleaved

__all__ = ["run"]


def _deep(depth: int) -> bench_layers.Case:
    case = bench_layers.residual(8, 16)
    blocks = [
        vs.Residual(vs.Stack(vs.Convolution(16, 3), vs.BatchNorm(), vs.relu)) for _ in range(depth)
    ]
    return bench_layers.Case(vs.Stack(*blocks), case.inputs, case.targets, case.loss, None, ())


def _gru(time: int) -> bench_layers.Case:
    case = bench_layers.lstm(64, time)
    network = vs.Stack(vs.GRU(128, output="last"), vs.Dense(10))
    return bench_layers.Case(network, case.inputs, case.targets, case.loss, None, ())


def _dropped(width: int) -> bench_layers.Case:
    case = bench_layers.lstm(64, 1)
    network = vs.Stack(vs.Flatten(), vs.Dense(width), vs.relu, vs.Dropout(0.3), vs.Dense(10))
    return bench_layers.Case(network, case.inputs, case.targets, case.loss, None, ())


GROWTH: dict[str, tuple[Callable[[int], bench_layers.Case], Sequence[int], int]] = {
    "convolutional, by batch": (bench_layers.convolutional, (32, 64, 128), 1),
    "residual block, by batch": (bench_layers.residual, (8, 16, 32), 1),
    "residual block, by width": (lambda width: bench_layers.residual(8, width), (32, 64, 128), 2),
    "residual blocks, by depth": (_deep, (2, 4, 8), 1),
    "LSTM, by batch": (bench_layers.lstm, (64, 128, 256), 1),
    "LSTM, by time": (lambda time: bench_layers.lstm(64, time), (14, 28, 56), 1),
    "LSTM, by long times": (lambda time: bench_layers.lstm(16, time, 32), (128, 512, 1024), 1),
    "GRU, by long times": (_gru, (64, 256), 1),
    "dropout, by width": (_dropped, (256, 1024, 4096), 1),
    "transformer block, by batch": (bench_layers.transformer, (4, 8, 16), 1),
    "transformer block, by width": (
        lambda width: bench_layers.transformer(4, 128, width),
        (128, 256, 512),
        2,
    ),
}
"""A case of a size, the sizes, and the power of the size by which the work grows."""


def run() -> dict[str, dict[str, float]]:
    found = {}
    for name, (build, sizes, power) in GROWTH.items():
        steps = {str(size): build(size).contender() for size in sizes}
        times = interleaved(steps, seconds=1.0, rounds=5)
        smallest = sizes[0]
        found[name] = {
            str(size): times[str(size)] / times[str(smallest)] / (size / smallest) ** power
            for size in sizes
        }
    return found
