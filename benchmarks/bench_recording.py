"""What recording costs: a number in the loop, all recorders together, a ledger that is slow, lists
of many runs.
"""

from __future__ import annotations

import multiprocessing
import os
import sqlite3
import tempfile
import time
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

import vinestep as vs
from vinestep.runs._ledger import Ledger

from .timing import interleaved

__all__ = ["run"]

STEPS = 4000
MANY = 500


def _number() -> dict[str, float]:
    """Microseconds that a recorded number adds to a step of a loop of one's own, writing
    included.
    """

    def loop(figures: int) -> float:
        names = [f"figure {i}" for i in range(figures)]
        with vs.recorded_run(
            {"noise": vs.RandomStream(0)}, steps=STEPS, record=tempfile.mkdtemp()
        ) as run:
            begun = time.perf_counter()
            for number in run.steps():
                if figures:
                    run.numbers(**dict.fromkeys(names, number / 7))
            return time.perf_counter() - begun

    loop(1)
    bare, ten = [loop(0) for _ in range(3)], [loop(10) for _ in range(3)]
    return {"microseconds": 1e6 * (float(np.median(ten)) - float(np.median(bare))) / STEPS / 10}


@cache
def _leaves() -> vs.data.Dataset:
    leaves = vs.demo.leaves(1280)
    return vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)


def _train(record: str, observers: list[Any], epochs: int = 10) -> None:
    data = _leaves()
    network = vs.Stack(
        vs.Convolution(16, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Convolution(32, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Flatten(),
        vs.Dense(6),
    )
    vs.Training(network, loss=vs.losses.cross_entropy).run(
        data.batches(64), epochs=epochs, observers=observers, record=record
    )


def _recorders() -> dict[str, float]:
    """All recorders at their default spacing, into a folder, of the same run with none of them."""

    def everything() -> None:
        o = vs.observers
        _train(
            tempfile.mkdtemp(), [o.Steps(), o.Norms(), o.Distributions(), o.Samples(), o.Machine()]
        )

    _train(tempfile.mkdtemp(), [])
    times = interleaved(
        {"without": lambda: _train(tempfile.mkdtemp(), []), "with": everything},
        seconds=60.0,
        rounds=5,
    )
    return {"of the run without": times["with"] / times["without"]}


class _Median(vs.observers.Observer):
    """The median time from one step to the next."""

    order = 20

    def __init__(self) -> None:
        self.times: list[float] = []

    def after_step(self, run: Any, step: Any) -> None:
        self.times.append(time.perf_counter())

    @property
    def seconds(self) -> float:
        return float(np.median(np.diff(self.times)))


def _steps(url: str) -> float:
    watch = _Median()
    before = os.environ.pop("VINESTEP_LEDGER", None)
    if url:
        os.environ["VINESTEP_LEDGER"] = url
    try:
        x = np.random.default_rng(0).normal(size=(3200, 64)).astype(np.float32)
        training = vs.Training(
            vs.Stack(vs.Dense(256, vs.relu), vs.Dense(3)), loss=vs.losses.cross_entropy
        )
        data = vs.data.Dataset(x, np.arange(3200) % 3)
        training.run(
            data.batches(64),
            epochs=80,
            observers=[vs.observers.Steps(), watch],
            record=tempfile.mkdtemp(),
        )
    finally:
        os.environ.pop("VINESTEP_LEDGER", None)
        if before is not None:
            os.environ["VINESTEP_LEDGER"] = before
    return watch.seconds


def _hold(path: str, asleep: bool) -> None:
    """Keep a ledger locked, or busy, until the process is ended."""
    connection = sqlite3.connect(path, isolation_level=None, timeout=60)
    connection.execute("create table if not exists busy (text)")
    while True:
        connection.execute("begin immediate")
        connection.execute("insert into busy values (?)", ("x" * 100,))
        time.sleep(1.0 if asleep else 0.02)
        connection.execute("commit")
        time.sleep(0.01)


def _ledgers() -> dict[str, float]:
    """The median step with a ledger that sleeps, and with one that is busy, of that without one."""
    found: dict[str, list[float]] = {"without": [], "asleep": [], "busy": []}
    for _ in range(5):
        found["without"].append(_steps(""))
        for name in ("asleep", "busy"):
            path = f"{tempfile.mkdtemp()}/ledger.sqlite"
            Ledger(f"sqlite:///{path}").close()
            holding = multiprocessing.get_context("spawn").Process(
                target=_hold, args=(path, name == "asleep"), daemon=True
            )
            holding.start()
            found[name].append(_steps(f"sqlite:///{path}"))
            holding.kill()
            holding.join()
    medians = {name: float(np.median(times)) for name, times in found.items()}
    return {name: medians[name] / medians["without"] for name in ("asleep", "busy")} | {
        "step, ms": 1e3 * medians["without"]
    }


def _many() -> dict[str, float]:
    """Seconds until 500 runs are listed, at first and later, and until a run of 200,000 steps with
    20 figures is read.
    """
    root = Path(tempfile.mkdtemp())
    for number in range(1, MANY + 2):
        with vs.runs.RunFolder.new(root, "many") as folder:
            folder.write_status(
                {
                    "name": "many",
                    "status": "finished",
                    "reason": "",
                    "epoch": 0,
                    "epochs": 0,
                    "step": 2000,
                    "last": {},
                }
            )
            folder.begin("many", {"optimiser": {"rate": 0.001 * number}})
            n, columns = (200_000, 20) if number == MANY + 1 else (2000, 2)
            table = np.random.default_rng(number).normal(size=(n, columns))
            lines = [f"{i + 1},{','.join(map(repr, row))}" for i, row in enumerate(table.tolist())]
            (folder.path / "steps.csv").write_text(
                "\n".join(["step," + ",".join(f"figure{i}" for i in range(columns)), *lines]) + "\n"
            )
    times = {}
    for name in ("taken in", "listed again"):
        begun = time.perf_counter()
        runs = vs.runs.open(root)
        runs.table(where=["optimiser.rate>0.1"], sort="-optimiser.rate")
        times[name] = time.perf_counter() - begun
    begun = time.perf_counter()
    runs[MANY + 1].steps  # noqa: B018  # it is read
    return times | {"long run read": time.perf_counter() - begun}


def run() -> dict[str, dict[str, float]]:
    """All rows."""
    return {
        "a number recorded": _number(),
        "all recorders, on leaves": _recorders(),
        "steps beside a ledger that is": _ledgers(),
        "501 runs, seconds": _many(),
    }
