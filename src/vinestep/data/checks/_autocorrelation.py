"""Rows that follow one another, such as readings of a time, and were divided at random."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..._findings import Finding

__all__ = ["autocorrelation_findings"]

LEAST = 80  # rows
FAR = 20  # rows apart
SURE = 6.0  # standard errors
FALLS = 0.25  # of a correlation, from neighbours to rows far apart
BETWEEN = 0.3  # of the rows of a part, that lie between rows of training


def autocorrelation_findings(train: Any, part: Any, role: str) -> list[Finding]:
    """Of two parts of one source, whose targets are numbers."""
    ours, theirs = (_rows_and_targets(source) for source in (train, part))
    if ours is None or theirs is None or ours[0] != theirs[0]:
        return []
    index = np.concatenate([ours[1], theirs[1]])
    order = np.argsort(index, kind="stable")
    targets = np.concatenate([ours[2], theirs[2]])[order]
    if len(targets) < LEAST or not np.isfinite(targets).all() or not targets.std():
        return []
    near, far = (_correlation(targets[:-lag], targets[lag:]) for lag in (1, FAR))
    if near < SURE / np.sqrt(len(targets)) or near - max(far, 0.0) < FALLS:
        return []
    trained = np.isin(theirs[1] - 1, ours[1]) & np.isin(theirs[1] + 1, ours[1])
    if trained.mean() < BETWEEN:
        return []
    return [
        Finding(
            f"the {role} part",
            "suspicious",
            f"rows follow one another: targets of neighbours correlate {near:.2f}, of rows {FAR} "
            f"apart {far:.2f}; and {trained.mean():.0%} of its rows lie between two that are "
            "trained on, so its scores say little of other times or groups.",
            "Divide by time, split(..., by=), or keep what belongs together in one part, groups=.",
        )
    ]


def _rows_and_targets(source: Any) -> tuple[Any, np.ndarray, np.ndarray] | None:
    """The origin, which of its rows, and their targets."""
    known = getattr(source, "provenance", None)
    targets = getattr(source, "targets", None)
    if known is None or not isinstance(targets, np.ndarray) or targets.dtype.kind != "f":
        return None
    flat = targets.reshape(len(targets), -1)
    if flat.shape[1] != 1:
        return None
    return known.source, np.asarray(known.rows), flat[:, 0].astype(np.float64)


def _correlation(a: np.ndarray, b: np.ndarray) -> float:
    spread = a.std() * b.std()
    return float(np.mean((a - a.mean()) * (b - b.mean())) / spread) if spread > 0 else 0.0
