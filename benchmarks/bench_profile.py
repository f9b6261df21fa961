"""What remains: the share of each loop, product and array function in the steps of `bench_layers`,
as the calling thread sees it.
"""

from __future__ import annotations

import cProfile
import pstats

from . import bench_layers

__all__ = ["run"]

SHOWN = 8


def run() -> dict[str, dict[str, float]]:
    found = {}
    for name, case in bench_layers.CASES.items():
        step = case().contender()
        for _ in range(10):
            step()
        profile = cProfile.Profile()
        profile.enable()
        for _ in range(20):
            step()
        profile.disable()
        entries = pstats.Stats(profile).stats  # type: ignore[attr-defined]
        whole = sum(own for _, _, own, _, _ in entries.values())
        largest = sorted(entries.items(), key=lambda entry: -entry[1][2])[:SHOWN]
        found[name] = {
            f"{path.rpartition('/')[2]} {function}": own / whole
            for (path, _, function), (_, _, own, _, _) in largest
        }
    return found
