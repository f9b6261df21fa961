"""What differentiation costs: gradient against function, recording a call, memory of a sweep, a
million operations.
"""

from __future__ import annotations

import time
import tracemalloc
from collections.abc import Callable

import numpy as np

import vinestep as vs

from .timing import interleaved

__all__ = ["run"]


def _functions() -> dict[str, tuple[Callable[[np.ndarray], object], np.ndarray]]:
    rng = np.random.default_rng(0)
    weights = [rng.normal(size=(500, 500)) / 22 for _ in range(3)]
    x = rng.normal(size=(400, 500))
    matrix = rng.normal(size=(300, 300)) + 20 * np.eye(300)

    def dense(x):
        for w in weights:
            x = np.tanh(x @ w)
        return np.sum(x * x)

    def dense_by_weights(w):
        return np.sum(np.square(np.maximum(x @ w, 0) @ weights[0]))

    def elementwise(x):
        return np.sum(np.exp(-np.square(x)) * np.sin(x) + np.log1p(np.abs(x)))

    def rosenbrock(x):
        return np.sum(100 * (x[1:] - x[:-1] ** 2) ** 2 + (1 - x[:-1]) ** 2)

    def logdet(a):
        return np.linalg.slogdet(a)[1] + np.sum(np.linalg.solve(a, weights[0][:300, :300]))

    return {
        "dense, tanh": (dense, x),
        "dense by its weights, relu": (dense_by_weights, weights[1]),
        "elementwise, 200,000 elements": (elementwise, x),
        "Rosenbrock, 200,000 variables": (rosenbrock, rng.normal(size=200_000)),
        "slogdet and solve, 300 x 300": (logdet, matrix),
    }


def gradients() -> dict[str, float]:
    found = {}
    for name, (f, x) in _functions().items():
        gradient = vs.gradient_of(f)
        times = interleaved(
            {"f": lambda f=f, x=x: f(x), "g": lambda g=gradient, x=x: g(x)}, seconds=3.0, rounds=15
        )  # type: ignore[misc]
        found[f"{name}: gradient / function"] = times["g"] / times["f"]
    return found


def recording() -> dict[str, float]:
    """Microseconds that recording adds to a call on 20 elements: median and best round, and what
    the plain call takes.

    The last tells how fast the machine was at the time: virtual ones change by a factor of two
    within minutes.
    """
    plain, other = np.random.default_rng(0).uniform(0.5, 1, (2, 20))
    tensor = vs.Tensor(plain)
    found = {}
    for name, f in {
        "tanh": np.tanh,
        "x + c": lambda x: x + other,
        "x * c": lambda x: x * other,
        "sum": np.sum,
    }.items():
        rounds = [
            interleaved(
                {"plain": lambda f=f: f(plain), "recorded": lambda f=f: f(tensor)},
                seconds=0.2,
                rounds=5,
            )  # type: ignore[misc]
            for _ in range(9)
        ]
        added = sorted(1e6 * (t["recorded"] - t["plain"]) for t in rounds)
        found[f"{name}: median us"], found[f"{name}: best us"] = added[len(added) // 2], added[0]
        found[f"{name}: plain call, best us"] = min(1e6 * t["plain"] for t in rounds)
    return found


def memory() -> dict[str, float]:
    """Peak of a sweep with release over a chain of 50 operations, in arrays."""
    found = {}
    for name, f in {
        "tanh": np.tanh,
        "exp(-x)": lambda x: np.exp(-x),
        "x * 0.9": lambda x: x * 0.9,
    }.items():
        x = vs.Tensor(np.full(200_000, 0.5))
        tracemalloc.start()
        y = x
        for _ in range(50):
            y = f(y)
        total, y = np.sum(y), None
        vs.differentiate(total, x, release=True)
        found[f"{name}: arrays at the peak of a chain of 50"] = (
            1 + tracemalloc.get_traced_memory()[1] / x.nbytes
        )
        tracemalloc.stop()
    return found


def million() -> dict[str, float]:
    x = vs.Tensor(1.0)
    y = x
    for _ in range(1_000_000):
        y = y * 0.9999999
    begun = time.perf_counter()
    vs.differentiate(y, x)
    return {"1,000,000 scalar operations swept, seconds": time.perf_counter() - begun}


def run() -> dict[str, dict[str, float]]:
    return {
        "gradient": gradients(),
        "recording": recording(),
        "memory": memory(),
        "million": million(),
    }
