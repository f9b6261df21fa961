"""Metrics: how good outputs are, in figures people read.

A metric turns each batch into additive counts, and the counts into a figure at the end, so that batches of unequal size
weigh as much as they should.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from .autodiff.tensor import held
from .errors import ShapeError

__all__ = ["Metric", "absolute_error", "accuracy"]

Counts = np.ndarray


class Metric:
    """A figure over examples.

    Parameters
    ----------
    name : str
        Column of the curves.
    count : callable
        ``count(outputs, targets)`` to a float64 array of counts, which add up over batches.
    conclude : callable
        ``conclude(counts)`` to the figure.
    better : {"higher", "lower"}

    Examples
    --------
    >>> accuracy(np.array([[0.1, 0.9], [0.8, 0.2]]), np.array([1, 1]))
    0.5
    """

    def __init__(self, name: str, count: Callable[[Any, Any], Counts], conclude: Callable[[Counts], float], *, better: str) -> None:
        self.name = name
        self.count = count
        self.conclude = conclude
        self.better = better

    def __call__(self, outputs: Any, targets: Any) -> float:
        return self.conclude(self.count(np.asarray(held(outputs)), np.asarray(held(targets))))

    def __repr__(self) -> str:
        return f"<metric {self.name}>"


def _ratio(counts: Counts) -> float:
    return float(counts[0] / counts[1]) if counts[1] else float("nan")


def _right(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    if outputs.ndim != 2 or targets.shape != outputs.shape[:1]:
        raise ShapeError(
            f"accuracy: expected outputs of shape (n, n_classes) and labels of shape (n,), got {outputs.shape} and {targets.shape}."
        )
    return np.array([np.count_nonzero(outputs.argmax(axis=1) == targets), targets.shape[0]], dtype=np.float64)


def _absolute(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    if outputs.shape != targets.shape:
        raise ShapeError(f"absolute_error: outputs have shape {outputs.shape}, targets {targets.shape}. They have to agree.")
    return np.array([np.sum(np.abs(outputs.astype(np.float64) - targets)), targets.size])


accuracy = Metric("accuracy", _right, _ratio, better="higher")
absolute_error = Metric("absolute_error", _absolute, _ratio, better="lower")
