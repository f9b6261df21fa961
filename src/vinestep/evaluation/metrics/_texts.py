"""Metrics of texts and of sequences of tokens."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ...errors import ShapeError
from ...parts._registry import register
from ._base import Counts, Metric, classified, ratio

__all__ = [
    "character_error_rate",
    "edit_distance",
    "perplexity",
    "token_error_rate",
    "word_error_rate",
]


def _per_token(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = classified("perplexity", outputs, targets)
    flat = rows.astype(np.float64)
    top_ = flat.max(axis=1)
    logs = np.log(np.exp(flat - top_[:, None]).sum(axis=1)) + top_
    return np.array([np.sum(logs - flat[np.arange(len(labels)), labels]), len(labels)])


def _exponential(counts: Counts) -> float:
    with np.errstate(over="ignore"):
        return float(np.exp(ratio(counts)))


perplexity = Metric("perplexity", _per_token, _exponential, better="lower", elementwise=True)
"""Exponential of the mean cross-entropy a token."""


def edit_distance(found: Sequence[Any], true: Sequence[Any]) -> int:
    """Fewest insertions, deletions and replacements that make one sequence of the other.

    R. A. Wagner and M. J. Fischer, J. ACM 21(1), 168-173, 1974.

    Examples
    --------
    >>> vs.metrics.edit_distance("merlot", "malbec")
    5
    """
    from rapidfuzz.distance import Levenshtein

    return Levenshtein.distance(found, true)


def character_error_rate(found: Sequence[str], true: Sequence[str]) -> float:
    """Edits a character of the true texts, all texts together.

    Examples
    --------
    >>> round(vs.metrics.character_error_rate(["merlo", "1998"], ["merlot", "1998"]), 2)
    0.1
    """
    return _error_rate(found, true)


def word_error_rate(found: Sequence[str], true: Sequence[str]) -> float:
    """Edits a word of the true texts, all texts together.

    Examples
    --------
    >>> vs.metrics.word_error_rate(["a dry white"], ["a dry red wine"])
    0.5
    """
    return _error_rate([text.split() for text in found], [text.split() for text in true])


def _error_rate(found: Sequence[Any], true: Sequence[Any]) -> float:
    if len(found) != len(true):
        raise ShapeError(f"error rate: {len(found)} texts found for {len(true)} true ones.")
    length = sum(len(text) for text in true)
    edits = sum(edit_distance(a, b) for a, b in zip(found, true, strict=True))
    return edits / length if length else float("nan")


def _edits(outputs: Any, targets: Any, task: Any, weights: Any) -> Counts:
    """Edits between decided and true sequences of tokens; padding, -1, is no token."""
    labels = np.asarray(targets)
    true = [row[row >= 0].tolist() for row in labels]
    decoded = getattr(task, "decoded", None)
    found = (
        decoded(np.asarray(outputs))
        if decoded is not None
        else [
            row[label >= 0].tolist()
            for row, label in zip(np.asarray(outputs).argmax(axis=-1), labels, strict=True)
        ]
    )
    pairs = list(zip(found, true, strict=True))
    if weights is not None:
        weigh = np.asarray(weights).reshape(len(labels), -1).sum(axis=1)
        pairs = [pair for pair, weight in zip(pairs, weigh, strict=True) if weight]
    edits = sum(edit_distance(a, b) for a, b in pairs)
    return np.array([edits, sum(len(b) for _, b in pairs)], np.float64)


token_error_rate = Metric("token_error_rate", _edits, ratio, better="lower", of="task")
"""Edits a token of the true sequences, all sequences together."""

for _metric in (perplexity, token_error_rate):
    register(_metric.name, _metric, "metric", form="object")
