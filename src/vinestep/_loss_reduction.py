"""How the losses of batches, or of examples, add up to that of all of them: by what they weigh.

A mean over all is not the mean of the means of batches where examples weigh differently, labels
are left out or sequences are padded. For the losses of the library what counts is known; a loss of
one's own is asked, by its values on parts of a batch.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, Literal, NamedTuple

import numpy as np

from . import losses
from .autodiff.tensor import held
from .autodiff.tracking import untracked
from .errors import DataError, SettingError, ShapeError, VineStepError

__all__ = [
    "LossAccumulator",
    "Reduction",
    "counted_mask",
    "declared_reduction",
    "inferred_reduction",
    "loss_value",
]

Loss = Callable[..., Any]
By = Literal["weight", "count", "sum", "unknown"]

ELEMENTWISE = (
    losses.squared_error,
    losses.absolute_error,
    losses.huber,
    losses.log_cosh,
    losses.binary_cross_entropy,
)
BY_LABEL = (losses.negative_log_likelihood, losses.hinge, losses.temporal_classification)
BY_ROW = (losses.kullback_leibler, losses.cosine)
OF_LIBRARY = (*ELEMENTWISE, *BY_LABEL, *BY_ROW, losses.cross_entropy)
AGREES = 1e-3  # sums of float32 in another order


class Reduction(NamedTuple):
    """How a loss brings those of its examples together.

    Examples
    --------
    >>> from functools import partial
    >>> found = declared_reduction(partial(vs.losses.cross_entropy, ignored=-1))
    >>> found.example_weights(np.array([[0, 1, -1], [2, -1, -1]]), None)
    array([2., 1.])
    """

    loss: Loss
    by: By
    """A mean by what examples weigh, or by how many elements they have; a sum; or neither."""

    @property
    def is_sum(self) -> bool:
        return self.by == "sum"

    def example_weights(self, targets: Any, weights: Any) -> np.ndarray:
        """What each example weighs in the mean, shape (n,)."""
        function, settings = losses.unwrapped(self.loss)
        if hasattr(function, "example_weights"):  # a task
            return np.asarray(function.example_weights(targets, weights))
        array = np.asarray(held(targets))
        n = array.shape[0] if array.ndim else 0
        if weights is None:
            weights = settings.get("weights")
        if function is losses.cross_entropy:
            return _of_labels(array, weights, settings)
        elements = array.size // max(n, 1)
        if function in BY_LABEL:
            elements = 1
        elif function in BY_ROW:
            elements //= max(array.shape[-1], 1)
        if weights is None or self.by == "count":
            return np.full(n, float(elements))
        given = np.asarray(held(weights), np.float64)
        per_example = given.reshape(n, -1)
        return np.asarray(per_example.sum(axis=1) * (elements / per_example.shape[1]))

    def weight(self, targets: Any, weights: Any) -> float:
        """What a batch weighs."""
        if weights is None:
            plain = losses.plain_form(self.loss)
            if plain in ELEMENTWISE:
                return float(np.size(targets))
            if plain is losses.cross_entropy and np.asarray(targets).dtype.kind in "iu":
                return float(np.size(targets))
        return float(self.example_weights(targets, weights).sum())


def _of_labels(labels: np.ndarray, weights: Any, settings: dict[str, Any]) -> np.ndarray:
    soft = labels.dtype.kind == "f"
    places = labels.shape[:-1] if soft else labels.shape
    weigh = np.ones(places) if weights is None else np.asarray(held(weights), np.float64)
    weigh = np.broadcast_to(weigh.reshape(weigh.shape + (1,) * (len(places) - weigh.ndim)), places)
    ignored, by_class = settings.get("ignored"), settings.get("class_weights")
    if ignored is not None and not soft:
        weigh = weigh * (labels != ignored)
    if by_class is not None:
        of_class = np.asarray(by_class, np.float64)
        if soft:
            smoothing = settings.get("smoothing", 0.0)
            weigh = weigh * (
                (labels.astype(np.float64) * (1 - smoothing) + smoothing / len(of_class)) @ of_class
            )
        else:
            weigh = weigh * of_class[np.where(weigh > 0, labels, 0)]
    return np.asarray(weigh.reshape(places[0], -1).sum(axis=1))


def declared_reduction(loss: Loss) -> Reduction | None:
    """Of a loss of the library, or one that says ``loss.reduction = "mean"`` or ``"sum"``; None of
    others, which have to be asked.
    """
    function, settings = losses.unwrapped(loss)
    said = settings.get("reduction", getattr(function, "reduction", None))
    if function in OF_LIBRARY:
        return Reduction(loss, "sum" if said == "sum" else "weight")
    if said is None:
        return None
    if said not in ("mean", "sum"):
        raise SettingError(f'The reduction of a loss is "mean" or "sum", got {said!r}.')
    return Reduction(loss, "sum" if said == "sum" else "weight")


def inferred_reduction(loss: Loss, outputs: Any, targets: Any, weights: Any = None) -> Reduction:
    """How a loss brings those of its examples together, by what it gives for parts of a batch."""
    known = declared_reduction(loss)
    if known is not None:
        return known
    n = len(targets)
    if isinstance(outputs, tuple | dict) or np.ndim(held(outputs)) == 0 or len(outputs) != n:
        return Reduction(loss, "unknown")
    once = np.arange(n)
    if weights is not None:
        once = once[np.any(np.asarray(held(weights)).reshape(n, -1) > 0, axis=1)]
    cut = max(1, len(once) // 3)
    parts = [once[:cut], once[cut:]] if len(once) > 1 else [once, once]
    try:
        values = [_value(loss, outputs, targets, weights, part) for part in parts]
        whole = _value(loss, outputs, targets, weights, np.concatenate(parts))
    except (VineStepError, ValueError, IndexError, ArithmeticError):
        return Reduction(loss, "unknown")  # it takes whole batches only
    scale = max(abs(whole), *map(abs, values), 1e-12)
    for by in ("weight", "count"):
        found = Reduction(loss, by)
        each = found.example_weights(targets, weights)
        weigh = [each[part].sum() for part in parts]
        total = sum(weigh)
        mean = sum(v * w for v, w in zip(values, weigh, strict=True)) / total if total else math.nan
        if abs(mean - whole) <= AGREES * scale:
            return found
    if abs(sum(values) - whole) <= AGREES * scale * 2:
        return Reduction(loss, "sum")
    return Reduction(loss, "unknown")


def _value(loss: Loss, outputs: Any, targets: Any, weights: Any, index: np.ndarray) -> float:
    return loss_value(
        loss,
        np.asarray(held(outputs))[index],
        np.asarray(held(targets))[index],
        None if weights is None else np.asarray(held(weights))[index],
    )


def loss_value(loss: Loss, outputs: Any, targets: Any, weights: Any = None) -> float:
    """The loss of some examples, one number.

    Raises
    ------
    ShapeError
        If it is not.
    """
    with untracked():
        return as_scalar(
            loss(outputs, targets) if weights is None else loss(outputs, targets, weights=weights)
        )


def as_scalar(loss: Any) -> float:
    """The value of a loss of some examples, which has to be one number."""
    value = held(loss)
    if np.size(value) != 1:
        raise ShapeError(
            f'The loss has shape {np.shape(value)}, and has to be one number. Use reduction="mean".'
        )
    return float(np.reshape(value, ()))


class LossAccumulator:
    """The loss of several batches, brought together as the loss itself does it.

    Examples
    --------
    >>> total = LossAccumulator(vs.losses.squared_error)
    >>> for outputs, targets in [(np.ones((3, 1)), np.zeros((3, 1))), (np.ones((1, 1)),) * 2]:
    ...     _ = total.add(vs.losses.squared_error(outputs, targets), outputs, targets)
    >>> total.value
    0.75
    """

    def __init__(self, loss: Loss) -> None:
        self.loss = loss
        self.sum, self.weight = 0.0, 0.0
        self.known = declared_reduction(loss)
        self.is_sum = False
        self.is_exact = True
        """Whether the loss of all follows from those of the batches."""

    def is_empty(self, targets: Any, weights: Any = None) -> bool:
        """Whether nothing of a batch counts, so that it has no loss."""
        if weights is not None and not np.any(held(weights)):
            return True
        return self.known is not None and not (
            self.known.is_sum or self.known.weight(targets, weights)
        )

    def add(self, value: Any, outputs: Any, targets: Any, weights: Any = None) -> float:
        """Take in the loss of a batch; returns the factor by which it goes into the sum."""
        found = self.known or inferred_reduction(self.loss, outputs, targets, weights)
        self.is_exact &= found.by != "unknown"
        factor = 1.0 if found.is_sum else found.weight(targets, weights)
        self.sum += as_scalar(value) * factor
        self.weight += factor
        self.is_sum = found.is_sum
        return factor

    def sums(self) -> tuple[float, float, bool, bool]:
        """What `joined` needs."""
        return self.sum, self.weight, self.is_sum, self.is_exact

    @classmethod
    def joined(
        cls, loss: Loss, parts: Sequence[tuple[float, float, bool, bool]]
    ) -> LossAccumulator:
        """What several have taken in."""
        result = cls(loss)
        result.sum = sum(part[0] for part in parts)
        result.weight = sum(part[1] for part in parts)
        result.is_sum = any(part[2] for part in parts)
        result.is_exact = all(part[3] for part in parts)
        return result

    @property
    def value(self) -> float:
        """
        Raises
        ------
        DataError
            If nothing counted.
        """
        if self.is_sum:
            return self.sum
        if not self.weight:
            raise DataError(
                "The loss has nothing to average: all weights are 0, or every label is ignored."
            )
        return self.sum / self.weight


def counted_mask(loss: Loss, targets: Any, weights: Any) -> np.ndarray | None:
    """Which examples, or places of sequences, count: their weight is not 0, and their label is not
    one that the loss leaves out. None where all do.
    """
    function, settings = losses.unwrapped(loss)
    if hasattr(function, "counted"):  # a task
        return _counted_of_task(function, targets, weights)
    labels = np.asarray(held(targets))
    ignored = settings.get("ignored") if function is losses.cross_entropy else None
    counted: np.ndarray | None = None
    if weights is not None:
        counted = np.asarray(held(weights)) > 0
    if ignored is not None and labels.dtype.kind in "iu":
        there = labels != ignored
        if counted is not None and counted.ndim < there.ndim:
            counted = counted.reshape(counted.shape + (1,) * (there.ndim - counted.ndim))
        counted = there if counted is None else counted & there
    return None if counted is None or counted.all() else counted


def _counted_of_task(task: Any, targets: Any, weights: Any) -> np.ndarray | None:
    known = task.counted(targets)
    if weights is None:
        return None if known is None else np.asarray(known)
    weighed = np.asarray(held(weights)) > 0
    if known is not None:
        weighed = weighed.reshape(weighed.shape + (1,) * (known.ndim - weighed.ndim)) & known
    return None if weighed.all() else weighed
