"""How hard the demo sets are: a guess, a linear model and a small network, scored on a part that
none has seen.

Run it: python -m benchmarks.demo_scores [name ...]
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

import numpy as np

import vinestep as vs

Parts = list[Any]


def _table(name: str, target: str, *, stratified: bool = True) -> Parts:
    table = vs.data.Table(getattr(vs.demo, name)(), target=target)
    return vs.data.scaled(*table.split(0.7, 0.3, seed=1, stratified=stratified))


def _leaves() -> Parts:
    found = vs.demo.leaves(2000)
    return vs.data.Dataset(
        (found.pictures - 0.5) / 0.25, found.labels, class_values=found.names
    ).split(0.7, 0.3, seed=1, stratified=True)


def _ferments() -> Parts:
    """Hours until dry, in units of their spread."""
    series, hours, _ = vs.demo.ferments(1200)
    hours = (hours - hours.mean()) / hours.std()
    return vs.data.Dataset(
        (series - series.mean((0, 1))) / series.std((0, 1)), hours[:, None]
    ).split(0.7, 0.3, seed=1)


def _dense(classes: int) -> vs.Layer:
    return vs.Stack(vs.Dense(48, vs.gelu), vs.Dense(48, vs.gelu), vs.Dense(classes))


def _convolutional(classes: int) -> vs.Layer:
    return vs.networks.convolutional_classifier(classes, channels=(16, 32))


def _recurrent(classes: int) -> vs.Layer:
    return vs.Stack(vs.LSTM(32, output="last"), vs.Dense(classes))


SETS: dict[str, tuple[Callable[[], Parts], Callable[[int], vs.Layer], int]] = {
    "barrels": (lambda: _table("barrels", "state"), _dense, 60),
    "harvest": (lambda: _table("harvest", "yield", stratified=False), _dense, 80),
    "parcels": (lambda: _table("parcels", "parcel"), _dense, 60),
    "leaves": (_leaves, _convolutional, 12),
    "ferments": (_ferments, _recurrent, 30),
}


def _scored(network: vs.Layer, train: Any, test: Any, epochs: int, numbers: bool) -> float:
    loss, metric = (
        (vs.losses.squared_error, vs.metrics.r_squared)
        if numbers
        else (vs.losses.cross_entropy, vs.metrics.accuracy)
    )
    training = vs.Training(
        network, loss=loss, optimiser=vs.optimisers.Adam(3e-3), metrics=[metric], clip=2.0, seed=1
    )
    training.run(train.batches(32), epochs=epochs)
    return training.assess(test.batches(256))[metric.name]


def scores(name: str) -> dict[str, float]:
    """R squared for numbers, accuracy for classes."""
    make, network, epochs = SETS[name]
    train, test = make()
    numbers = train.targets.dtype.kind == "f"
    outputs = 1 if numbers else int(train.targets.max()) + 1
    guess = 0.0 if numbers else float(np.mean(test.targets == np.bincount(train.targets).argmax()))
    linear = _scored(vs.Stack(vs.Flatten(), vs.Dense(outputs)), train, test, epochs, numbers)
    return {
        "guess": guess,
        "linear": linear,
        "network": _scored(network(outputs), train, test, epochs, numbers),
    }


if __name__ == "__main__":
    for chosen in sys.argv[1:] or SETS:
        print(chosen, {key: round(value, 3) for key, value in scores(chosen).items()}, flush=True)
