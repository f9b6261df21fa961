"""Loops of the losses."""

from __future__ import annotations

import numpy as np

from ..machinery.compilation import kernel

__all__ = ["cross_entropy", "squared_error"]


@kernel
def cross_entropy(logits, labels, losses, slopes, weight):
    """Losses of the examples, and ``weight * (softmax(logits) - one_hot(labels))``.

    Returns the sum of the losses in float64, and the first row whose label is out of range, or -1;
    nothing is computed then.
    """
    total, scale = 0.0, logits.dtype.type(weight)
    for i in range(labels.size):
        if labels[i] < 0 or labels[i] >= logits.shape[1]:
            return total, i
    for i in range(logits.shape[0]):
        top = logits[i, 0]
        for j in range(1, logits.shape[1]):
            top = logits[i, j] if logits[i, j] > top else top
        whole = logits.dtype.type(0)
        for j in range(logits.shape[1]):
            slopes[i, j] = np.exp(logits[i, j] - top)
        for j in range(logits.shape[1]):
            whole += slopes[i, j]
        for j in range(logits.shape[1]):
            slopes[i, j] *= scale / whole
        label = labels[i]
        slopes[i, label] -= scale
        losses[i] = np.log(whole) + (top - logits[i, label])
        total += losses[i]
    return total, -1


@kernel
def squared_error(prediction, target, slopes):
    """Sum of squares in float64; `slopes` gets ``prediction - target``. All flat."""
    total = 0.0
    for i in range(prediction.size):
        slopes[i] = prediction[i] - target[i]
    for i in range(slopes.size):
        total += slopes[i] * slopes[i]
    return total
