"""Side-by-side timing in one process: contenders take turns, and the median of each is compared."""

from __future__ import annotations

import gc
import platform
import statistics
import time
from collections.abc import Callable, Mapping

import numpy as np
from threadpoolctl import threadpool_info

__all__ = ["interleaved", "machine"]

SETTLING = 0.15  # seconds


def interleaved(
    contenders: Mapping[str, Callable[[], object]], *, seconds: float = 2.0, rounds: int = 41
) -> dict[str, float]:
    """Median seconds a call of each contender; they take turns, so that a slow moment of the
    machine hits all.

    A turn begins with calls that are not timed, for as long as the threads of BLAS go on spinning
    after its last product: else a contender would pay for the threads of the one before it, and
    find the cache full of that one's data.
    """
    for call in contenders.values():
        for _ in range(3):
            call()
    begun = time.perf_counter()
    for call in contenders.values():
        call()
    once = max(time.perf_counter() - begun, 1e-7)
    repeats = max(1, int(seconds / rounds / once))
    times: dict[str, list[float]] = {name: [] for name in contenders}
    gc.collect()
    for _ in range(rounds):
        for name, call in contenders.items():
            until = time.perf_counter() + SETTLING
            while time.perf_counter() < until:
                call()
            begun = time.perf_counter()
            for _ in range(repeats):
                call()
            times[name].append((time.perf_counter() - begun) / repeats)
    return {name: statistics.median(values) for name, values in times.items()}


def machine() -> dict[str, object]:
    """What the figures were measured on."""
    blas = [
        f"{pool['internal_api']} {pool['version']}, {pool['num_threads']} threads"
        for pool in threadpool_info()
    ]
    return {
        "python": platform.python_version(),
        "numpy": np.__version__,
        "processor": platform.processor(),
        "blas": blas,
    }
