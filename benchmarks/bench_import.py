"""What `import vinestep` costs beyond `import numpy`: medians of fresh processes that take
turns.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys

__all__ = ["run"]

RUNS = 10


def _seconds(module: str) -> float:
    """In a fresh process that keeps compiled sources, as an installed package has them."""
    environment = {
        key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"
    }
    code = f"import time; t = time.perf_counter(); import {module}; print(time.perf_counter() - t)"
    return float(
        subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            check=True,
            env=environment,
        ).stdout
    )


def run() -> dict[str, float]:
    times: dict[str, list[float]] = {"numpy": [], "vinestep": []}
    _seconds("vinestep")
    for _ in range(RUNS):
        for module, found in times.items():
            found.append(_seconds(module))
    medians = {
        f"import {module} ms": 1e3 * statistics.median(found) for module, found in times.items()
    }
    return medians | {"difference ms": medians["import vinestep ms"] - medians["import numpy ms"]}
