"""The probability of a sequence of labels that is not aligned with the times of the outputs, and
the likeliest sequence.

A. Graves, S. Fernandez, F. Gomez and J. Schmidhuber, "Connectionist Temporal Classification", ICML
2006. A path says a label, or blank, at every time; repeated labels count once, and blanks are left
out. States are the labels with a blank before, between and after them; blank is the last output.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

import numpy as np
import scipy

from ._activations import log_softmax
from .autodiff.fused import Fused
from .autodiff.signatures import Signature

__all__ = ["MISSING", "alignment_loss", "best_labels", "least_time"]

MISSING = -1  # in place of a label: the sequence is shorter
NEVER = -1e30  # logarithm of a probability of 0, of which sums stay finite


def least_time(labels: np.ndarray) -> np.ndarray:
    """How many times the outputs need for each sequence: one a label, and one more between equal
    ones.
    """
    repeated = (labels[:, 1:] == labels[:, :-1]) & (labels[:, 1:] != MISSING)
    return np.asarray((labels != MISSING).sum(axis=1) + repeated.sum(axis=1))


def _states(labels: np.ndarray, blank: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The label of every state, whether it may be reached past the blank before it, and the number
    of labels of each sequence.
    """
    n, length = labels.shape
    lengths = (labels != MISSING).sum(axis=1)
    found = np.full((n, 2 * length + 1), blank)
    found[:, 1::2] = np.where(labels == MISSING, blank, labels)
    skips = np.zeros(found.shape, bool)
    skips[:, 2:] = (found[:, 2:] != blank) & (found[:, 2:] != found[:, :-2])
    return found, skips, lengths


def _definition(logits: Any, labels: Any) -> Any:
    n, time, classes = logits.shape
    states, skips, lengths = _states(np.asarray(labels), classes - 1)
    logs = log_softmax(logits)
    rows = np.arange(n)[:, None]
    begins = np.arange(states.shape[1]) < 2
    alpha = np.where(begins, logs[:, 0][rows, states], NEVER)
    for t in range(1, time):
        before = np.concatenate([np.full((n, 1), NEVER), alpha[:, :-1]], axis=1)
        passed = np.concatenate([np.full((n, 2), NEVER), alpha[:, :-2]], axis=1)
        arrived = np.logaddexp(np.logaddexp(alpha, before), np.where(skips, passed, NEVER))
        alpha = arrived + logs[:, t][rows, states]
    ends = alpha[np.arange(n), 2 * lengths]
    labelled = alpha[np.arange(n), np.maximum(2 * lengths - 1, 0)]
    return -np.where(lengths > 0, np.logaddexp(ends, labelled), ends)


def _forward(logits: Any, labels: Any) -> tuple[Any, Any]:
    """By the recursions of section 4.1 in float64, forward and backward at once."""
    n, time, classes = logits.shape
    states, skips, lengths = _states(labels, classes - 1)
    logs = scipy.special.log_softmax(logits.astype(np.float64), axis=2)
    emitted = np.take_along_axis(
        logs, np.broadcast_to(states[:, None], (n, time, states.shape[1])), 2
    )
    width = states.shape[1]
    alpha = np.full((time, n, width), NEVER)
    alpha[0, :, :2] = emitted[:, 0, :2]
    for t in range(1, time):
        arrived = alpha[t - 1].copy()
        arrived[:, 1:] = np.logaddexp(arrived[:, 1:], alpha[t - 1, :, :-1])
        arrived[:, 2:] = np.where(
            skips[:, 2:], np.logaddexp(arrived[:, 2:], alpha[t - 1, :, :-2]), arrived[:, 2:]
        )
        alpha[t] = arrived + emitted[:, t]
    place = np.arange(width)
    final = (place == 2 * lengths[:, None]) | (place == 2 * lengths[:, None] - 1)
    beta = np.full((time, n, width), NEVER)
    beta[-1] = np.where(final, 0.0, NEVER)
    for t in range(time - 2, -1, -1):
        leaving = beta[t + 1] + emitted[:, t + 1]
        beta[t] = leaving
        beta[t, :, :-1] = np.logaddexp(beta[t, :, :-1], leaving[:, 1:])
        beta[t, :, :-2] = np.where(
            skips[:, 2:], np.logaddexp(beta[t, :, :-2], leaving[:, 2:]), beta[t, :, :-2]
        )
    whole = scipy.special.logsumexp(np.where(final, alpha[-1], NEVER), axis=1)
    shares = np.exp(np.minimum(alpha + beta - whole[:, None], 0.0))
    slopes = np.exp(logs)
    rows = np.arange(n)[:, None]
    for t in range(time):
        np.subtract.at(slopes[:, t], (rows, states), shares[t])
    return np.asarray(-whole, logits.dtype), slopes.astype(logits.dtype)


def _adjoint(
    g: Any,
    slopes: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Any,
) -> list[Any]:
    return [slopes * g[:, None, None], None]


alignment_loss = Fused(
    "temporal classification",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(logits="n time n_classes", labels="whole n length"),
)
"""Minus the logarithm of the probability of each sequence."""


def best_labels(logits: np.ndarray, beams: int = 1) -> list[list[int]]:
    """The likeliest sequence of each example: by the likeliest path (section 3.2), or by a search
    over beginnings, of which so many are kept at every time.
    """
    logs = scipy.special.log_softmax(logits.astype(np.float64), axis=-1)
    blank = logits.shape[-1] - 1
    if beams == 1:
        paths = logs.argmax(axis=-1)
        changed = np.ones(paths.shape, bool)
        changed[:, 1:] = paths[:, 1:] != paths[:, :-1]
        kept = changed & (paths != blank)
        return [path[keep].tolist() for path, keep in zip(paths, kept, strict=True)]
    return [_searched(one, blank, beams) for one in logs]


def _searched(logs: np.ndarray, blank: int, beams: int) -> list[int]:
    """Beginnings with the probability of their paths that end in blank, and in their last label."""
    kept: dict[tuple[int, ...], tuple[float, float]] = {(): (0.0, NEVER)}
    for now in logs:
        found: dict[tuple[int, ...], list[float]] = defaultdict(lambda: [NEVER, NEVER])
        for begun, (in_blank, in_label) in kept.items():
            both = np.logaddexp(in_blank, in_label)
            found[begun][0] = np.logaddexp(found[begun][0], both + now[blank])
            for label in range(blank):
                longer = (*begun, label)
                if begun and begun[-1] == label:
                    found[begun][1] = np.logaddexp(found[begun][1], in_label + now[label])
                    found[longer][1] = np.logaddexp(found[longer][1], in_blank + now[label])
                else:
                    found[longer][1] = np.logaddexp(found[longer][1], both + now[label])
        best = sorted(found.items(), key=lambda item: (-_either(*item[1]), item[0]))[:beams]
        kept = {begun: (values[0], values[1]) for begun, values in best}
    return list(max(kept.items(), key=lambda item: _either(*item[1]))[0])


def _either(in_blank: float, in_label: float) -> float:
    return float(np.logaddexp(in_blank, in_label))
