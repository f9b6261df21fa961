"""The last and the best value of each figure of a run."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

__all__ = ["scores_of"]

NOT_SCORES = ("epoch", "step", "rate", "examples", "seconds")


def scores_of(
    rows: Sequence[Mapping[str, float]], better: Mapping[str, str]
) -> list[dict[str, Any]]:
    """A row for each figure: its last value, and where it is known what is better, its best and the
    epoch of that.

    Examples
    --------
    >>> scores_of([{"epoch": 1, "loss": 0.5}, {"epoch": 2, "loss": 0.7}], {"loss": "lower"})
    [{'name': 'loss', 'last': 0.7, 'best': 0.5, 'best_epoch': 1.0, 'better': 'lower'}]
    """
    names = list(dict.fromkeys(name for row in rows for name in row if name not in NOT_SCORES))
    result = []
    for name in names:
        known = [
            (row[name], row.get("epoch"))
            for row in rows
            if name in row and math.isfinite(row[name])
        ]
        if not known:
            continue
        direction = better.get(name) or ("lower" if name.endswith("loss") else "")
        best = (
            min(known, key=lambda item: item[0] if direction == "lower" else -item[0])
            if direction
            else (None, None)
        )
        epoch = None if best[1] is None else float(best[1])
        result.append(
            {
                "name": name,
                "last": known[-1][0],
                "best": best[0],
                "best_epoch": epoch,
                "better": direction,
            }
        )
    return result
