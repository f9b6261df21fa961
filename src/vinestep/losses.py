"""Losses: one number that says how far outputs are from targets."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal

import numpy as np

from . import kernels
from .activations import log_softmax
from .autodiff.fused import Fused
from .autodiff.tensor import Tensor, held
from .errors import DataError, ShapeError

__all__ = ["cross_entropy", "squared_error"]

Reduction = Literal["mean", "sum", "none"]
REDUCTIONS = ("mean", "sum", "none")
FEW_CLASSES = 64  # up to here one compiled loop beats NumPy's passes


def _reduced(losses: Any, reduction: str) -> Any:
    if reduction == "mean":
        return np.mean(losses)
    return np.sum(losses) if reduction == "sum" else losses


def _check_reduction(reduction: str) -> None:
    if reduction not in REDUCTIONS:
        raise ValueError(f"reduction must be one of {', '.join(REDUCTIONS)}, got {reduction!r}.")


def _cross_entropy_definition(logits: Any, labels: Any, *, reduction: str = "mean") -> Any:
    check_range(labels, logits.shape[1])
    picked = log_softmax(logits)[np.arange(labels.shape[0]), labels]
    return _reduced(-picked, reduction)


def _scale(logits: Any, reduction: str) -> Any:
    """What each example weighs in the loss."""
    return logits.dtype.type(1 / logits.shape[0] if reduction == "mean" else 1)


def _cross_entropy_forward(logits: Any, labels: Any, *, reduction: str = "mean") -> tuple[Any, Any]:
    if logits.shape[1] <= FEW_CLASSES:
        losses, slopes = np.empty(logits.shape[0], logits.dtype), np.empty(logits.shape, logits.dtype)
        total, bad = kernels.losses.cross_entropy(logits, labels, losses, slopes, _scale(logits, reduction))
        if bad >= 0:
            raise _out_of_range(labels, logits.shape[1])
    else:
        check_range(labels, logits.shape[1])
        rows = np.arange(logits.shape[0])
        slopes = logits - np.max(logits, axis=1, keepdims=True)
        picked = slopes[rows, labels]
        np.exp(slopes, out=slopes)
        weights = np.sum(slopes, axis=1, keepdims=True)
        slopes /= weights
        slopes[rows, labels] -= 1
        slopes *= _scale(logits, reduction)
        losses = np.log(weights[:, 0]) - picked
        total = np.sum(losses, dtype=np.float64)
    if reduction == "none":
        return losses, slopes
    return logits.dtype.type(total / logits.shape[0] if reduction == "mean" else total), slopes


def _cross_entropy_adjoint(
    g: Any, slopes: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool], places: Any
) -> list[Any]:
    if options.get("reduction", "mean") == "none":
        return [slopes * g[:, None], None]
    return [slopes if g == 1 else slopes * slopes.dtype.type(g), None]


_cross_entropy = Fused(
    "cross_entropy", definition=_cross_entropy_definition, forward=_cross_entropy_forward, adjoint=_cross_entropy_adjoint
)


def cross_entropy(logits: Any, labels: Any, *, reduction: Reduction = "mean") -> Any:
    """Cross-entropy of class labels with the softmax of logits.

    With ``p = softmax(logits)``: ``-log(p[label])`` of each example. Stable for logits of any size.

    Parameters
    ----------
    logits : array_like, shape (n, n_classes)
        What the last layer puts out, before any softmax.
    labels : array_like of whole numbers, shape (n,)
        From 0 to ``n_classes - 1``.
    reduction : {"mean", "sum", "none"}
        Over the examples.

    Raises
    ------
    ShapeError
        If the shapes do not belong together.
    DataError
        If a label is out of range or not a whole number.

    Examples
    --------
    >>> cross_entropy(np.array([[0.0, 0.0], [1e4, 0.0]]), np.array([0, 1])).round(4)
    np.float64(5000.3466)
    """
    _check_reduction(reduction)
    logits = logits if isinstance(logits, Tensor) else np.asarray(logits)
    labels = checked_labels(labels, logits.shape)
    return _cross_entropy(logits, labels, reduction=reduction)


def checked_labels(labels: Any, shape: tuple[int, ...]) -> np.ndarray:
    """Labels as whole numbers, one for each row of logits of this shape."""
    array = np.asarray(held(labels))
    if len(shape) != 2:
        raise ShapeError(f"cross_entropy: expected logits of shape (n, n_classes), got {shape}.")
    if array.shape == shape and shape[1] > 1:
        raise ShapeError(
            f"cross_entropy: labels have the shape of the logits, {shape}, as one-hot rows do. Give whole numbers, one an "
            "example: labels.argmax(axis=1)."
        )
    if array.shape != shape[:1]:
        raise ShapeError(f"cross_entropy: expected {shape[0]} labels, shape ({shape[0]},), got shape {array.shape}.")
    if array.dtype.kind not in "iu":
        raise DataError(f"cross_entropy: labels have to be whole numbers, got {array.dtype}. Use labels.astype(int).")
    return array


def check_range(labels: np.ndarray, classes: int) -> None:
    """Refuse labels that are no class number."""
    if labels.size and (labels.min() < 0 or labels.max() >= classes):
        raise _out_of_range(labels, classes)


def _out_of_range(labels: np.ndarray, classes: int) -> DataError:
    row = int(np.argmax((labels < 0) | (labels >= classes)))
    return DataError(
        f"cross_entropy: label {labels[row]} at row {row} is out of range: {classes} logits an example allow labels 0 to "
        f"{classes - 1}. Make the last layer wider, or encode the labels anew."
    )


def _squared_error_definition(prediction: Any, target: Any, *, reduction: str = "mean") -> Any:
    return _reduced(np.square(prediction - target), reduction)


def _squared_error_forward(prediction: Any, target: Any, *, reduction: str = "mean") -> tuple[Any, Any]:
    if reduction == "none":
        slopes = prediction - target
        return np.square(slopes), slopes
    slopes = np.empty(prediction.shape, prediction.dtype)
    total = kernels.losses.squared_error(np.ravel(prediction), np.ravel(target), slopes.reshape(-1))
    return prediction.dtype.type(total / prediction.size if reduction == "mean" else total), slopes


def _squared_error_adjoint(
    g: Any, slopes: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool], places: Any
) -> list[Any]:
    reduction = options.get("reduction", "mean")
    factor = g * 2 if reduction != "mean" else g * (2 / slopes.size)
    by_prediction = slopes * np.asarray(factor, slopes.dtype)
    return [by_prediction if wanted[0] else None, -by_prediction if wanted[1] else None]


_squared_error = Fused(
    "squared_error", definition=_squared_error_definition, forward=_squared_error_forward, adjoint=_squared_error_adjoint
)


def _checked_pair(prediction: Any, target: Any) -> tuple[Any, Any]:
    prediction = prediction if isinstance(prediction, Tensor) else np.asarray(prediction)
    target = target if isinstance(target, Tensor) else np.asarray(target)
    if prediction.shape != target.shape:
        cure = "Give the targets that shape too: targets[:, None]." if prediction.shape == (*target.shape, 1) else "They have to agree."
        raise ShapeError(f"squared_error: predictions have shape {prediction.shape}, targets {target.shape}. {cure}")
    if target.dtype != prediction.dtype and not isinstance(target, Tensor):
        target = target.astype(prediction.dtype)
    return prediction, target


def squared_error(prediction: Any, target: Any, *, reduction: Reduction = "mean") -> Any:
    """Mean squared error, ``mean((prediction - target)**2)`` over all elements.

    Parameters
    ----------
    prediction, target : array_like of one shape
        They are not broadcast against each other; ``(n, 1)`` predictions of ``(n,)`` targets are an error, since NumPy
        would make ``(n, n)`` of them.
    reduction : {"mean", "sum", "none"}
        Over all elements.

    Raises
    ------
    ShapeError
        If the shapes differ.

    Examples
    --------
    >>> squared_error(np.array([1.0, 2.0]), np.array([1.0, 4.0]))
    np.float64(2.0)
    """
    _check_reduction(reduction)
    prediction, target = _checked_pair(prediction, target)
    return _squared_error(prediction, target, reduction=reduction)


def makes_logits(loss: Any) -> bool:
    """Whether outputs trained with this loss are logits of classes, through partial application too."""
    return getattr(loss, "func", loss) is cross_entropy


def _labels_for(targets: Any, outputs: Any) -> Any:
    return checked_labels(targets, outputs.shape)


def _targets_for(targets: Any, outputs: Any) -> Any:
    return _checked_pair(outputs, targets)[1]


def straight_form(loss: Any) -> tuple[Callable[[Any, Any], Any], Fused] | None:
    """How to check targets against outputs, and the fused operation, of a loss that is one; None for any other."""
    if loss is cross_entropy:
        return _labels_for, _cross_entropy
    return (_targets_for, _squared_error) if loss is squared_error else None
