"""What a run costs beside its steps: optimisers against a copy, the loop, saving, observers."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

import vinestep as vs
from vinestep.storage.run_store import MemoryStore

from .timing import interleaved

__all__ = ["run"]

PARAMETERS = 10_000_000
EPOCHS = 20
OPTIMISERS: dict[str, Callable[[], Any]] = {
    "sgd, momentum": lambda: vs.optimisers.SGD(1e-3, momentum=0.9),
    "adagrad": lambda: vs.optimisers.Adagrad(1e-3),
    "adadelta": vs.optimisers.Adadelta,
    "rmsprop": lambda: vs.optimisers.RMSprop(1e-3),
    "rmsprop, centred": lambda: vs.optimisers.RMSprop(1e-3, centred=True),
    "adam": lambda: vs.optimisers.Adam(1e-3),
    "amsgrad": lambda: vs.optimisers.AMSGrad(1e-3),
    "nadam": lambda: vs.optimisers.NAdam(1e-3),
    "radam": lambda: vs.optimisers.RAdam(1e-3),
    "lion": lambda: vs.optimisers.Lion(1e-4),
    "lamb": lambda: vs.optimisers.LAMB(1e-3),
}


def _updates() -> dict[str, float]:
    """Bandwidth of an update of ten million parameters, of that of a copy on all threads'
    memory.
    """
    theta, g = np.ones(PARAMETERS, np.float32), np.full(PARAMETERS, 1e-3, np.float32)
    target = np.empty_like(theta)
    made = {name: make() for name, make in OPTIMISERS.items()}
    contenders: dict[str, Callable[[], object]] = {"copy": lambda: np.copyto(target, theta)}
    contenders |= {name: (lambda one=one: one.update(theta, g)) for name, one in made.items()}
    for call in contenders.values():
        call()
    times = interleaved(contenders, seconds=12.0, rounds=5)
    copied = 2 * theta.nbytes / times["copy"]
    # read and written: parameters and states; read: gradients
    moved = {name: theta.nbytes * (3 + 2 * len(one.state_names)) for name, one in made.items()}
    return {name: moved[name] / times[name] / copied for name in made} | {
        "copy, GB a second": copied / 1e9
    }


def _loop() -> dict[str, float]:
    """Microseconds that a run adds to a bare step, taking the batches included."""
    x = np.random.default_rng(0).normal(size=(3200, 10)).astype(np.float32)
    data = vs.data.Dataset(x, np.arange(3200) % 3)

    def training() -> vs.Training:
        return vs.Training(
            vs.Stack(vs.Dense(32, vs.relu), vs.Dense(3)), loss=vs.losses.cross_entropy
        )

    bare, whole = training(), training()
    batches = list(data.batches(32).epoch(0))

    def steps() -> None:
        for _ in range(EPOCHS):
            for batch in batches:
                bare.step(batch)

    steps()
    times = interleaved(
        {"bare": steps, "run": lambda: whole.run(data.batches(32), epochs=EPOCHS)},
        seconds=4.0,
        rounds=5,
    )
    n = EPOCHS * len(batches)
    return {
        "a bare step, us": 1e6 * times["bare"] / n,
        "the run adds, us": 1e6 * (times["run"] - times["bare"]) / n,
    }


def _saving() -> dict[str, float]:
    """How long saving a state of 100 MB holds the loop up, of a copy of its arrays."""
    import tempfile

    network = vs.Stack(vs.Dense(2900), vs.Dense(2900), vs.Dense(1)).initialise(
        np.ones((1, 100), np.float32)
    )
    training = vs.Training(
        network, loss=vs.losses.squared_error, optimiser=vs.optimisers.Adam(1e-4)
    )
    data = vs.data.Dataset(np.ones((8, 100), np.float32), np.ones((8, 1), np.float32))
    held: list[float] = []

    class Timed(vs.observers.Observer):
        order = 8

        def after_step(self, run: Any, step: Any) -> None:
            if step.number % 4 == 0:
                run.finish_saving()
                begun = time.perf_counter()
                run.save(f"step-{step.number:08d}")
                held.append(time.perf_counter() - begun)

    with tempfile.TemporaryDirectory() as folder:
        training.run(data.batches(8), epochs=24, observers=[Timed()], record=folder)
    arrays = [network.arena.values, *training.optimiser.state.values()]  # type: ignore[union-attr]
    copies = []
    for _ in range(8):
        begun = time.perf_counter()
        kept = [array.copy() for array in arrays]
        copies.append(time.perf_counter() - begun)
        del kept
    total = sum(array.nbytes for array in arrays) / 1e6
    return {
        "megabytes": total,
        "held up, ms": 1e3 * float(np.median(held)),
        "of a copy": float(np.median(held) / np.median(copies)),
    }


def _observers() -> dict[str, float]:
    """What all observers at their default spacing add to a run on leaves."""
    leaves = vs.demo.leaves(1280)
    data = vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)

    def run(observers: list[Any]) -> None:
        network = vs.Stack(
            vs.Convolution(16, 3, activation=vs.relu),
            vs.MaxPool(2),
            vs.Convolution(32, 3, activation=vs.relu),
            vs.MaxPool(2),
            vs.Flatten(),
            vs.Dense(6),
        )
        vs.Training(network, loss=vs.losses.cross_entropy).run(
            data.batches(64), epochs=10, observers=observers, record=MemoryStore()
        )

    def everything() -> None:
        o = vs.observers
        samples = o.Samples(leaves.pictures[:8], leaves.labels[:8])
        run(
            [
                o.Norms(),
                o.Distributions(),
                o.Machine(),
                samples,
                o.Scheduled(lambda run: None, steps=100),
            ]
        )

    run([])
    times = interleaved({"without": lambda: run([]), "with": everything}, seconds=20.0, rounds=4)
    return {"of the run without": times["with"] / times["without"]}


def run() -> dict[str, dict[str, float]]:
    """All rows."""
    return {
        "updates of 10 million parameters, of a copy's bandwidth": _updates(),
        "the loop": _loop(),
        "a state of 100 MB": _saving(),
        "all observers, on leaves": _observers(),
    }
