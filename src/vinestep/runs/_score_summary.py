"""The last and the best value of each figure of a run."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

__all__ = ["merged_scores", "scores_of"]

NOT_SCORES = ("epoch", "step", "rate", "examples", "seconds")


def scores_of(
    columns: Sequence[str], matrix: np.ndarray, better: Mapping[str, str]
) -> list[dict[str, Any]]:
    """A row for each figure: its last value, and where it is known what is better, its best and the
    epoch and step of that. What was not recorded in a row is NaN there.

    Examples
    --------
    >>> rows = np.array([[1, 0.5], [2, 0.7], [3, np.nan]])
    >>> (found,) = scores_of(["step", "loss"], rows, {"loss": "lower"})
    >>> found["last"], found["best"], found["best_step"]
    (0.7, 0.5, 1.0)
    """
    result = []
    for k, name in enumerate(columns):
        known = np.flatnonzero(np.isfinite(matrix[:, k]))
        if name in NOT_SCORES or not len(known):
            continue
        values = matrix[known, k]
        direction = better.get(name) or ("lower" if name.endswith("loss") else "")
        row: dict[str, Any] = {"name": name, "last": float(values[-1]), "better": direction}
        row |= {"best": None, "best_epoch": None, "best_step": None}
        if direction:
            place = int(values.argmin() if direction == "lower" else values.argmax())
            row["best"] = float(values[place])
            for where in ("epoch", "step"):
                at = matrix[known[place], columns.index(where)] if where in columns else np.nan
                row[f"best_{where}"] = float(at) if np.isfinite(at) else None
        result.append(row)
    return result


def merged_scores(
    before: Iterable[Mapping[str, Any]], after: Iterable[Mapping[str, Any]]
) -> list[dict[str, Any]]:
    """Scores of rows, and of those that came after them, as those of all."""
    result = {row["name"]: dict(row) for row in before}
    for row in after:
        known = result.get(row["name"])
        result[row["name"]] = dict(row)
        if known is None or known["best"] is None or known["better"] != row["better"]:
            continue
        sign = -1 if row["better"] == "higher" else 1
        if sign * known["best"] <= sign * row["best"]:
            kept = ("best", "best_epoch", "best_step")
            result[row["name"]] |= {name: known[name] for name in kept}
    return list(result.values())
