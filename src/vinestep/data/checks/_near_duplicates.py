"""Pictures of one part that show what a picture of another shows: resized, encoded again, brighter.

Each is shrunk to a small grey one, centred and scaled to length 1; of copies the products are
near 1. N. Krawetz, "Looks Like It", 2011, describes such a hash by average.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..._findings import Finding
from ..batches._batch import first_of
from ..encoding._drift import PICTURES

__all__ = ["near_duplicate_findings", "near_row_findings"]

SIDE = 12
ALIKE = 0.985
OTHERS, NEARER = 8, 0.3  # the eighth nearest, and how much nearer a copy is
MOST_ROWS, MOST_COLUMNS, LEAST_ROWS = 3000, 64, 60
NEAR = 0.02  # of the distance of other rows: a row that was written twice, or rounded
MOST_TRAINED, MOST_SCORED = 4000, 1000  # pictures that are looked at
FLAT = 1e-3  # a picture of which the standard deviation is below this share of its range is plain


def near_duplicate_findings(train: Any, part: Any, role: str) -> list[Finding]:
    """Of two parts whose batches are pictures."""
    theirs = _thumbnails(part, MOST_SCORED)
    if theirs is None or len(theirs) < 2:
        return []
    ours = _thumbnails(train, MOST_TRAINED)
    if ours is None or ours.shape[1] != theirs.shape[1] or len(ours) < OTHERS:
        return []
    # pictures of one kind may be alike by nature: what counts is far nearer than others are
    alike = theirs @ ours.T
    some = np.sort(np.partition(alike, -OTHERS, axis=1)[:, -OTHERS:], axis=1)
    nearest, others = some[:, -1], some[:, 0]
    copies = int(np.sum((nearest > ALIKE) & (1 - nearest < NEARER * (1 - others))))
    if copies < 2:
        return []
    return [
        Finding(
            f"the {role} part",
            "suspicious",
            f"{copies} of {len(theirs)} pictures that were looked at are nearly those of training, "
            "as pictures are that were resized or encoded again; their scores say little of new "
            "ones.",
            "Keep pictures of one thing in one part: split(..., groups=).",
        )
    ]


def near_row_findings(train: Any, part: Any, role: str) -> list[Finding]:
    """Rows of numbers of one part that are nearly rows of the other: written twice, rounded, or
    measured again.
    """
    ours, theirs = (_rows_of(source) for source in (train, part))
    if ours is None or theirs is None or ours.shape[1] != theirs.shape[1]:
        return []
    if len(ours) < LEAST_ROWS or len(theirs) < 2:
        return []
    spread = ours.std(axis=0)
    used = spread > 0
    if used.sum() < 3:  # few columns are near one another by chance
        return []
    ours, theirs = ours[:, used] / spread[used], theirs[:, used] / spread[used]
    from scipy.spatial import cKDTree

    distance, _ = cKDTree(ours).query(theirs, k=OTHERS)
    nearest, others = distance[:, 0], distance[:, -1]
    copies = int(np.sum((nearest > 0) & (nearest < NEAR * others)))
    if copies < max(3, len(theirs) / 50):
        return []
    return [
        Finding(
            f"the {role} part",
            "suspicious",
            f"{copies} of {len(theirs)} rows that were looked at are nearly rows of training, "
            f"{1 / NEAR:.0f} times nearer than others; their scores say little of new ones.",
            "Keep rows of one thing in one part: split(..., groups=); or drop what is there twice.",
        )
    ]


def _rows_of(source: Any) -> np.ndarray | None:
    inputs = getattr(source, "inputs", None)
    if not isinstance(inputs, np.ndarray) or inputs.ndim != 2 or inputs.dtype.kind != "f":
        return None
    if inputs.shape[1] > MOST_COLUMNS or isinstance(inputs, np.memmap):
        return None
    rows = inputs[:MOST_ROWS].astype(np.float64)
    return rows if np.isfinite(rows).all() else None


def _thumbnails(batches: Any, most: int) -> np.ndarray | None:
    """Rows of length 1, one for each picture that is not plain."""
    made: list[np.ndarray] = []
    for batch in batches.in_order():
        pictures = first_of(batch.inputs)
        if not isinstance(pictures, np.ndarray) or pictures.ndim != PICTURES:
            return None
        if min(pictures.shape[1:3]) < SIDE:
            return None
        made.append(_shrunk(pictures.astype(np.float32).mean(axis=-1)))
        if sum(map(len, made)) >= most:
            break
    grey = np.concatenate(made)[:most].reshape(-1, SIDE * SIDE)
    centred = grey - grey.mean(axis=1, keepdims=True)
    length = np.linalg.norm(centred, axis=1)
    varied = length > FLAT * np.ptp(grey)
    return np.asarray(centred[varied] / length[varied, None])


def _shrunk(grey: np.ndarray) -> np.ndarray:
    """Means over a grid of cells."""
    rows, columns = (np.linspace(0, n, SIDE + 1).astype(int)[:-1] for n in grey.shape[1:])
    sums = np.add.reduceat(np.add.reduceat(grey, rows, axis=1), columns, axis=2)
    heights, widths = (
        np.diff([*places, n]) for places, n in zip((rows, columns), grey.shape[1:], strict=True)
    )
    return np.asarray(sums / np.outer(heights, widths))
