"""Losses: one number that says how far outputs are from targets."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, Literal, NamedTuple

import numpy as np

from . import kernels
from ._activations import log_softmax, relu, softplus
from ._alignment import MISSING, alignment_loss, least_time
from ._arguments import checked_seed
from ._findings import Finding, warn_of
from ._masking import zero_nonfinite
from ._public_names import own_names
from .autodiff.derivatives import gradient_of
from .autodiff.fused import Fused
from .autodiff.signatures import WHOLE, Signature, standard
from .autodiff.tensor import Tensor, held
from .autodiff.tracking import STATE
from .errors import DataError, SettingError, ShapeError
from .kernels.machinery.pool import WORTH, over_rows
from .parts._registry import part

__all__ = [
    "absolute_error",
    "batch_contrastive",
    "batch_triplet",
    "binary_cross_entropy",
    "contrastive",
    "cosine",
    "cross_entropy",
    "gradient_penalty",
    "hinge",
    "huber",
    "kullback_leibler",
    "log_cosh",
    "negative_log_likelihood",
    "next_token",
    "squared_error",
    "temporal_classification",
    "triplet",
    "wasserstein_critic",
]

Reduction = Literal["mean", "sum", "none"]
REDUCTIONS = ("mean", "sum", "none")
LN2 = 0.6931471805599453
LENGTH_FLOOR = 1e-12  # keeps the cosine of a zero vector finite
FEW_CLASSES = 64  # up to here one compiled loop beats NumPy's passes


def _reduced(losses: Any, reduction: str) -> Any:
    if reduction == "mean":
        return np.mean(losses)
    return np.sum(losses) if reduction == "sum" else losses


def _check_reduction(reduction: str) -> None:
    if reduction not in REDUCTIONS:
        raise SettingError(f"reduction must be one of {', '.join(REDUCTIONS)}, got {reduction!r}.")


def _cross_entropy_definition(logits: Any, labels: Any, *, reduction: str = "mean") -> Any:
    check_range(labels, logits.shape[1])
    picked = log_softmax(logits)[np.arange(labels.shape[0]), labels]
    return _reduced(-picked, reduction)


def _scale(logits: Any, reduction: str) -> Any:
    """What each example weighs in the loss."""
    return logits.dtype.type(1 / logits.shape[0] if reduction == "mean" else 1)


def _cross_entropy_forward(logits: Any, labels: Any, *, reduction: str = "mean") -> tuple[Any, Any]:
    if logits.shape[1] <= FEW_CLASSES:
        losses, slopes = (
            np.empty(logits.shape[0], logits.dtype),
            np.empty(logits.shape, logits.dtype),
        )
        weight = 1 / logits.shape[0] if reduction == "mean" else 1.0
        total, bad = kernels.losses.cross_entropy(logits, labels, losses, slopes, weight)
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
    g: Any,
    slopes: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Any,
) -> list[Any]:
    if options.get("reduction", "mean") == "none":
        return [slopes * g[:, None], None]
    return [slopes if g == 1 else slopes * slopes.dtype.type(g), None]


_cross_entropy = Fused(
    "cross_entropy",
    definition=_cross_entropy_definition,
    forward=_cross_entropy_forward,
    adjoint=_cross_entropy_adjoint,
    form=Signature(logits="n n_classes", labels="whole n"),
)


@part("cross_entropy", "loss")
def cross_entropy(
    logits: Any,
    labels: Any,
    *,
    reduction: Reduction = "mean",
    weights: Any = None,
    class_weights: Any = None,
    ignored: int | None = None,
    smoothing: float = 0.0,
) -> Any:
    """Cross-entropy of labels with the softmax of logits.

    With ``p = softmax(logits)``: ``-log(p[label])`` of each example. Stable for logits of any size.

    Parameters
    ----------
    logits : array_like, shape (n, n_classes) or (n, time, n_classes)
        What the last layer puts out, before any softmax.
    labels : array_like of whole numbers, shape (n,) or (n, time); or of floats, of the shape of the
    logits
        From 0 to ``n_classes - 1``; or a probability for each class, which add up to 1.
    reduction : {"mean", "sum", "none"}
        Over the examples and times; the mean is over what they weigh.
    weights : array_like of the shape of the labels, optional
        What each example weighs. For sequences of unequal length a mask.
    class_weights : array_like, shape (n_classes,), optional
        What examples of each class weigh, besides.
    ignored : int, optional
        A label that says that there is none; such examples weigh nothing.
    smoothing : float
        Share of probability that is spread over all classes alike (C. Szegedy et al., CVPR 2016,
        section 7).

    Raises
    ------
    ShapeError
        If the shapes do not belong together.
    DataError
        If a label is out of range or not a whole number, probabilities do not add up to 1, or
        everything is ignored.

    Examples
    --------
    >>> cross_entropy(np.array([[0.0, 0.0], [1e4, 0.0]]), np.array([0, 1])).round(4)
    np.float64(5000.3466)
    >>> cross_entropy(np.zeros((2, 4)), np.array([3, -1]), ignored=-1).round(4)
    np.float64(1.3863)
    """
    _check_reduction(reduction)
    logits = logits if isinstance(logits, Tensor) else np.asarray(logits)
    if STATE.now.sealing:
        note_probabilities(logits)
    if (
        weights is None
        and class_weights is None
        and ignored is None
        and not smoothing
        and logits.ndim == 2
    ):
        array = np.asarray(held(labels))
        if array.dtype.kind != "f" or array.shape != logits.shape or logits.shape[1] == 1:
            return _cross_entropy(logits, checked_labels(array, logits.shape), reduction=reduction)
    return _weighted_cross_entropy(
        logits, labels, reduction, weights, class_weights, ignored, smoothing
    )


next_token = partial(cross_entropy, ignored=-1)
"""Cross-entropy of the next tokens; places of which the label is -1, such as padding and requests,
are left out.
"""


def note_probabilities(outputs: Any) -> None:
    """Say so if what should be logits are probabilities by all appearances."""
    plain = held(outputs)
    if plain.ndim < 2 or plain.shape[-1] < 2 or not plain.size or plain.min() < 0:
        return
    if np.allclose(plain.sum(axis=-1), 1, atol=1e-4):
        warn_of(
            Finding(
                "the outputs that cross_entropy got",
                "suspicious",
                "they are all positive and each row adds up to 1, as probabilities do; logits are "
                "expected.",
                "Leave the softmax out of the network, or end it in log_softmax and use "
                "negative_log_likelihood.",
            ),
            stacklevel=3,
        )


def _weighted_cross_entropy(
    logits: Any,
    labels: Any,
    reduction: str,
    weights: Any,
    class_weights: Any,
    ignored: int | None,
    smoothing: float,
) -> Any:
    if not 0 <= smoothing < 1:
        raise SettingError(
            f"cross_entropy: smoothing must be from 0 up to but not including 1, got {smoothing!r}."
        )
    classes = logits.shape[-1]
    flat = logits if logits.ndim == 2 else np.reshape(logits, (-1, classes))
    given = np.asarray(held(labels))
    soft = given.dtype.kind == "f" and given.shape == logits.shape
    weigh = (
        np.ones(flat.shape[0], flat.dtype)
        if weights is None
        else _flat_weights(weights, logits.shape[:-1], flat.dtype)
    )
    if soft:
        shares = given.reshape(-1, classes)
        if not weigh.all():
            shares = np.where(weigh[:, None] == 0, 1 / classes, shares)
        shares = _checked_shares(shares).astype(flat.dtype)
    else:
        if given.shape != logits.shape[:-1]:
            raise ShapeError(
                f"cross_entropy: expected labels of shape {logits.shape[:-1]}, got {given.shape}."
            )
        numbers = given.reshape(-1)
        if ignored is not None:
            weigh = weigh * (numbers != ignored)
            numbers = np.where(numbers == ignored, 0, numbers)
        numbers = checked_labels(numbers, flat.shape)
        check_range(numbers, classes)
        shares = np.zeros(flat.shape, flat.dtype)
        shares[np.arange(len(numbers)), numbers] = 1
    shares = shares * (1 - smoothing) + smoothing / classes
    flat = zero_nonfinite(flat, weigh == 0)
    if class_weights is not None:
        if np.shape(class_weights) != (classes,):
            raise ShapeError(
                f"cross_entropy: expected {classes} class weights, got shape "
                f"{np.shape(class_weights)}."
            )
        by_class = np.asarray(class_weights, flat.dtype)
        weigh = weigh * (by_class[numbers] if not soft else shares @ by_class)
    losses = -np.sum(_safe_product(log_softmax(flat), shares.astype(flat.dtype)), axis=1)
    return _reduced_by_weight(losses, weigh, reduction, logits.shape[:-1])


def _safe_product(logarithms: Any, shares: np.ndarray) -> Any:
    """Their product, in which minus infinity of a share of 0 is 0."""
    if np.isfinite(held(logarithms)).all():
        return logarithms * shares
    return np.where(shares > 0, np.where(shares > 0, logarithms, 0.0) * shares, 0.0)


def _flat_weights(weights: Any, shape: tuple[int, ...], dtype: Any) -> np.ndarray:
    array = np.asarray(held(weights)).astype(dtype)
    if array.shape != shape:
        raise ShapeError(
            f"weights have shape {array.shape}, the losses {shape}. Give one for each."
        )
    if (array < 0).any():
        raise DataError("weights must not be negative.")
    return array.reshape(-1)


def _checked_shares(shares: np.ndarray) -> np.ndarray:
    total = shares.sum(axis=1)
    if (shares < 0).any() or not np.allclose(total, 1, atol=1e-3):
        row = int(np.argmax(np.abs(total - 1)))
        raise DataError(
            f"cross_entropy: the probabilities of row {row} add up to {total[row]:.4g}, not to 1."
        )
    return shares


def _reduced_by_weight(
    losses: Any, weights: np.ndarray, reduction: str, shape: tuple[int, ...]
) -> Any:
    weighed = zero_nonfinite(losses, weights == 0) * weights.astype(losses.dtype)
    if reduction == "none":
        return weighed if weighed.shape == shape else np.reshape(weighed, shape)
    if reduction == "sum":
        return np.sum(weighed)
    total = float(weights.sum())
    if total == 0:
        raise DataError(
            "The loss has nothing to average: all weights are 0, or every label is ignored."
        )
    return np.sum(weighed) * (1 / total)


def checked_labels(labels: Any, shape: tuple[int, ...]) -> np.ndarray:
    """Labels as whole numbers, one for each row of logits of this shape."""
    if (
        type(labels) is np.ndarray
        and labels.dtype.kind in "iu"
        and len(shape) == 2
        and labels.shape == shape[:1]
    ):
        return labels
    array = np.asarray(held(labels))
    if len(shape) != 2:
        raise ShapeError(f"cross_entropy: expected logits of shape (n, n_classes), got {shape}.")
    if array.shape == shape and shape[1] > 1:
        raise ShapeError(
            f"cross_entropy: labels have the shape of the logits, {shape}, as one-hot rows do. "
            "Give whole numbers, one an "
            "example: labels.argmax(axis=1)."
        )
    if array.shape != shape[:1]:
        raise ShapeError(
            f"cross_entropy: expected {shape[0]} labels, shape ({shape[0]},), got shape "
            f"{array.shape}."
        )
    if array.dtype.kind not in "iu":
        raise DataError(
            f"cross_entropy: labels have to be whole numbers, got {array.dtype}. Use "
            "labels.astype(int)."
        )
    return array


def check_range(labels: np.ndarray, classes: int) -> None:
    """Refuse labels that are no class number."""
    if labels.size and (labels.min() < 0 or labels.max() >= classes):
        raise _out_of_range(labels, classes)


def _out_of_range(labels: np.ndarray, classes: int) -> DataError:
    row = int(np.argmax((labels < 0) | (labels >= classes)))
    return DataError(
        f"cross_entropy: label {labels[row]} at row {row} is out of range: {classes} logits an "
        "example allow labels 0 to "
        f"{classes - 1}. Make the last layer wider, or encode the labels anew."
    )


def _squared_error_definition(prediction: Any, target: Any, *, reduction: str = "mean") -> Any:
    return _reduced(np.square(prediction - target), reduction)


def _squared_error_forward(
    prediction: Any, target: Any, *, reduction: str = "mean"
) -> tuple[Any, Any]:
    if reduction == "none":
        slopes = prediction - target
        return np.square(slopes), slopes
    slopes = np.empty(prediction.shape, prediction.dtype)
    flat = [np.ravel(prediction), np.ravel(target), slopes.reshape(-1)]
    total = sum(over_rows(kernels.losses.squared_error, flat))
    return prediction.dtype.type(total / prediction.size if reduction == "mean" else total), slopes


def _squared_error_adjoint(
    g: Any,
    slopes: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Any,
) -> list[Any]:
    reduction = options.get("reduction", "mean")
    factor = g * 2 if reduction != "mean" else g * (2 / slopes.size)
    by_prediction = (
        slopes * np.asarray(factor, slopes.dtype)
        if np.ndim(factor)
        else _scaled(slopes, slopes.dtype.type(factor))
    )
    return [by_prediction if wanted[0] else None, -by_prediction if wanted[1] else None]


def _scaled(array: np.ndarray, factor: Any) -> np.ndarray:
    out = np.empty(array.shape, array.dtype)
    over_rows(
        lambda part, into: np.multiply(part, factor, out=into), [array.reshape(-1), out.reshape(-1)]
    )
    return out


_squared_error = Fused(
    "squared_error",
    definition=_squared_error_definition,
    forward=_squared_error_forward,
    adjoint=_squared_error_adjoint,
    form=Signature(prediction="*n", target="*n"),
)


def _check_shapes(name: str, prediction: tuple[int, ...], target: tuple[int, ...]) -> None:
    if prediction != target:
        cure = (
            "Give the targets that shape too: targets[:, None]."
            if prediction == (*target, 1)
            else "They have to agree."
        )
        raise ShapeError(f"{name}: predictions have shape {prediction}, targets {target}. {cure}")


def _checked_pair(
    prediction: Any, target: Any, name: str = "squared_error", weights: Any = None
) -> tuple[Any, Any]:
    prediction = prediction if isinstance(prediction, Tensor) else np.asarray(prediction)
    target = target if isinstance(target, Tensor) else np.asarray(target)
    _check_shapes(name, prediction.shape, target.shape)
    if target.dtype != prediction.dtype and not isinstance(target, Tensor):
        target = target.astype(prediction.dtype)
    if weights is not None:
        unweighted = np.asarray(held(weights)) == 0
        return zero_nonfinite(prediction, unweighted), zero_nonfinite(target, unweighted)
    return prediction, target


@part("squared_error", "loss")
def squared_error(
    prediction: Any, target: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """Mean squared error, ``mean((prediction - target)**2)`` over all elements.

    Parameters
    ----------
    prediction, target : array_like of one shape
        They are not broadcast against each other; ``(n, 1)`` predictions of ``(n,)`` targets are an
        error, since NumPy would make ``(n, n)`` of them.
    reduction : {"mean", "sum", "none"}
        Over all elements.
    weights : array_like, shape (n,), optional
        What each example weighs.

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
    prediction, target = _checked_pair(prediction, target, weights=weights)
    if weights is None:
        return _squared_error(prediction, target, reduction=reduction)
    return _by_example(np.square(prediction - target), reduction, weights)


def _by_example(losses: Any, reduction: str, weights: Any = None) -> Any:
    """Element-wise losses reduced, each example weighed; the mean is over what the elements
    weigh.
    """
    _check_reduction(reduction)
    if weights is None:
        return _reduced(losses, reduction)
    array = np.asarray(held(weights)).astype(losses.dtype)
    if array.shape != losses.shape[:1]:
        raise ShapeError(
            f"weights have shape {array.shape}, expected one for each of {losses.shape[0]} "
            "examples."
        )
    spread = np.broadcast_to(array.reshape(-1, *(1,) * (losses.ndim - 1)), losses.shape)
    return _reduced_by_weight(
        np.ravel(losses), _flat_weights(spread, losses.shape, losses.dtype), reduction, losses.shape
    )


@part("absolute_error", "loss")
def absolute_error(
    prediction: Any, target: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """Mean absolute error, ``mean(|prediction - target|)``; parameters as for `squared_error`.

    Examples
    --------
    >>> vs.losses.absolute_error(np.array([1.0, 2.0]), np.array([1.0, 4.0]))
    np.float64(1.0)
    """
    prediction, target = _checked_pair(prediction, target, "absolute_error", weights)
    return _by_example(np.abs(prediction - target), reduction, weights)


@part("huber", "loss")
def huber(
    prediction: Any,
    target: Any,
    *,
    delta: float = 1.0,
    reduction: Reduction = "mean",
    weights: Any = None,
) -> Any:
    """With ``r = prediction - target``: ``r**2 / 2`` where ``|r| <= delta``, else ``delta * (|r| -
    delta / 2)``.

    P. J. Huber, "Robust Estimation of a Location Parameter", Ann. Math. Statist. 35(1), 73-101,
    1964. `delta` is in the unit of the target; other parameters as for `squared_error`.

    Examples
    --------
    >>> vs.losses.huber(np.array([0.5, 3.0]), np.zeros(2), reduction="none")
    array([0.125, 2.5  ])
    """
    if not delta > 0:
        raise SettingError(f"huber: delta must be positive, got {delta!r}.")
    prediction, target = _checked_pair(prediction, target, "huber", weights)
    r = prediction - target
    size = np.abs(r)
    return _by_example(
        np.where(held(size) <= delta, np.square(r) * 0.5, (size - delta / 2) * delta),
        reduction,
        weights,
    )


@part("log_cosh", "loss")
def log_cosh(
    prediction: Any, target: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """``log(cosh(prediction - target))`` without overflow; parameters as for `squared_error`.

    Examples
    --------
    >>> vs.losses.log_cosh(np.array([0.0, 1000.0]), np.zeros(2), reduction="none").round(3)
    array([  0.   , 999.307])
    """
    prediction, target = _checked_pair(prediction, target, "log_cosh", weights)
    r = prediction - target
    size = np.abs(r)
    small = held(size) < 1
    near = np.log1p(np.square(np.sinh(np.where(small, r, 0.0) * 0.5)) * 2.0)
    far = np.where(small, 1.0, size)
    far = far + np.log1p(np.exp(far * -2.0)) - LN2
    return _by_example(np.where(small, near, far), reduction, weights)


@part("negative_log_likelihood", "loss")
def negative_log_likelihood(
    log_probabilities: Any, labels: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """``-log_probabilities[label]`` of each example, for networks that end in `log_softmax`.

    Parameters
    ----------
    log_probabilities : array_like, shape (n, n_classes)
        Not above 0.
    labels : array_like of whole numbers, shape (n,)
    reduction, weights
        As for `cross_entropy`.

    Raises
    ------
    DataError
        If a value is above 0, as logits and probabilities are, or a label is out of range.

    Examples
    --------
    >>> vs.losses.negative_log_likelihood(np.log(np.array([[0.25, 0.75]])), [1]).round(4)
    np.float64(0.2877)
    """
    outputs = (
        log_probabilities
        if isinstance(log_probabilities, Tensor)
        else np.asarray(log_probabilities)
    )
    numbers = checked_labels(labels, outputs.shape)
    check_range(numbers, outputs.shape[1])
    plain = held(outputs)
    if plain.size and plain.max() > 1e-4:
        raise DataError(
            f"negative_log_likelihood: a log-probability cannot be {plain.max():.4g}, above 0. "
            "For logits use cross_entropy; for "
            "probabilities take their logarithm."
        )
    return _by_example(-outputs[np.arange(len(numbers)), numbers], reduction, weights)


@part("binary_cross_entropy", "loss")
def binary_cross_entropy(
    logits: Any,
    targets: Any,
    *,
    positive_weight: float = 1.0,
    reduction: Reduction = "mean",
    weights: Any = None,
) -> Any:
    """Cross-entropy of yes or no with the sigmoid of logits, stable for logits of any size.

    Parameters
    ----------
    logits, targets : array_like of one shape
        Targets from 0 to 1. Labels of shape (n,), as tables of two classes have them, are taken for
        logits of shape (n, 1), too.
    positive_weight : float
        What yes weighs against no.
    reduction, weights
        As for `squared_error`.

    Raises
    ------
    DataError
        If a target is not between 0 and 1.

    Examples
    --------
    >>> vs.losses.binary_cross_entropy(
    ...     np.array([0.0, 100.0]), np.array([1.0, 0.0]), reduction="none"
    ... ).round(4)
    array([  0.6931, 100.    ])
    """
    targets = _labels_beside(logits, targets)
    logits, targets = _checked_pair(logits, targets, "binary_cross_entropy", weights)
    plain = held(targets)
    if plain.size and (plain.min() < 0 or plain.max() > 1):
        raise DataError(
            f"binary_cross_entropy: targets have to be from 0 to 1, got {plain.min():.4g} to "
            f"{plain.max():.4g}."
        )
    yes, no = softplus(-logits), softplus(logits)
    if isinstance(targets, Tensor) or np.isfinite(held(logits)).all():
        losses = yes * (targets * positive_weight) + no * (1 - targets)
    else:
        losses = _safe_product(yes, targets * positive_weight) + _safe_product(no, 1 - targets)
    return _by_example(losses, reduction, weights)


@part("kullback_leibler", "loss")
def kullback_leibler(
    log_probabilities: Any, target: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """Divergence of a distribution from the one predicted: ``sum(target * (log(target) -
    log_probabilities))`` over the last axis.

    S. Kullback and R. A. Leibler, Ann. Math. Statist. 22(1), 79-86, 1951, equation 2.4.

    Parameters
    ----------
    log_probabilities, target : array_like, shape (n, n_classes)
        Rows of the target add up to 1.

    Examples
    --------
    >>> vs.losses.kullback_leibler(
    ...     np.log(np.array([[0.5, 0.5]])), np.array([[1.0, 0.0]])
    ... ).round(4)
    np.float64(0.6931)
    """
    outputs, target = _checked_pair(log_probabilities, target, "kullback_leibler", weights)
    plain = held(target)
    counted = plain if weights is None else plain[np.asarray(held(weights)) > 0]
    _checked_shares(counted.reshape(-1, plain.shape[-1]))
    entropy = np.where(plain > 0, target * np.log(np.where(plain > 0, target, 1.0)), 0.0)
    if isinstance(target, Tensor):
        return _by_example(np.sum(entropy - target * outputs, axis=-1), reduction, weights)
    return _by_example(
        np.sum(entropy - _safe_product(outputs, target), axis=-1), reduction, weights
    )


@part("temporal_classification", "loss")
def temporal_classification(
    logits: Any, labels: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """Minus the logarithm of the probability of each sequence of labels, over all ways in which it
    may lie in the times of the outputs (connectionist temporal classification).

    A. Graves et al., ICML 2006, equation 8.

    Parameters
    ----------
    logits : array_like, shape (n, time, n_classes + 1)
        The last stands for no label.
    labels : array_like of whole numbers, shape (n, length)
        From 0 to ``n_classes - 1``; shorter sequences are filled up with -1.
    reduction, weights
        As for `squared_error`; over the examples.

    Raises
    ------
    ShapeError
        If the shapes do not belong together.
    DataError
        If a label is out of range, stands behind a -1, or a sequence needs more times than there
        are.

    Examples
    --------
    >>> logits = np.log([[[0.5, 0.5], [0.5, 0.5]]])
    >>> temporal_classification(logits, [[0]]).round(4)  # 0 0, 0 -, - 0: three of four
    np.float64(0.2877)
    """
    logits = logits if isinstance(logits, Tensor) else np.asarray(logits)
    given = np.asarray(held(labels))
    if logits.ndim != 3 or given.ndim != 2 or given.shape[0] != logits.shape[0]:
        raise ShapeError(
            "temporal_classification: expected logits (n, time, n_classes + 1) and labels (n, "
            f"length), got {logits.shape} and {given.shape}."
        )
    if given.dtype.kind not in "iu":
        raise DataError(
            f"temporal_classification: labels have to be whole numbers, got {given.dtype}."
        )
    known, classes = given != MISSING, logits.shape[2] - 1
    behind = ~np.logical_and.accumulate(known, axis=1)
    wrong = known & ((given < 0) | (given >= classes) | behind)
    if wrong.any():
        row, place = (int(i) for i in np.argwhere(wrong)[0])
        raise DataError(
            f"temporal_classification: label {given[row, place]} in row {row}, place {place}: "
            f"labels go from 0 to {classes - 1}, and what follows the last is -1."
        )
    needed = least_time(given)
    if (needed > logits.shape[1]).any():
        row = int(np.argmax(needed > logits.shape[1]))
        raise DataError(
            f"temporal_classification: row {row} needs {needed[row]} times, one a label and one "
            f"between equal ones, and the outputs have {logits.shape[1]}. Pool or stride less."
        )
    return _by_example(alignment_loss(logits, given.astype(WHOLE)), reduction, weights)


@part("hinge", "loss")
def hinge(
    scores: Any,
    labels: Any,
    *,
    margin: float = 1.0,
    reduction: Reduction = "mean",
    weights: Any = None,
) -> Any:
    """By how much other classes come within a margin of the right one: ``sum(max(0, margin + other
    - right))``.

    K. Crammer and Y. Singer, JMLR 2, 265-292, 2001, summed over classes as in J. Weston and C.
    Watkins, 1999, equation 4.

    Examples
    --------
    >>> vs.losses.hinge(np.array([[2.0, 1.5, -1.0]]), [0])
    np.float64(0.5)
    """
    scores = scores if isinstance(scores, Tensor) else np.asarray(scores)
    numbers = checked_labels(labels, scores.shape)
    check_range(numbers, scores.shape[1])
    rows = np.arange(len(numbers))
    others = np.ones(scores.shape, bool)
    others[rows, numbers] = False
    short = relu(scores - scores[rows, numbers][:, None] + margin)
    return _by_example(np.sum(np.where(others, short, 0.0), axis=1), reduction, weights)


def _cosines(a: Any, b: Any) -> Any:
    lengths = np.linalg.norm(a, axis=-1) * np.linalg.norm(b, axis=-1)
    return np.sum(a * b, axis=-1) / np.maximum(lengths, LENGTH_FLOOR)


@part("cosine", "loss")
def cosine(
    prediction: Any, target: Any, *, reduction: Reduction = "mean", weights: Any = None
) -> Any:
    """One minus the cosine of the angle between rows.

    Examples
    --------
    >>> vs.losses.cosine(np.array([[1.0, 0.0]]), np.array([[0.0, 2.0]]))
    np.float64(1.0)
    """
    prediction, target = _checked_pair(prediction, target, "cosine", weights)
    return _by_example(1 - _cosines(prediction, target), reduction, weights)


@part("triplet", "loss")
def triplet(
    anchor: Any,
    positive: Any,
    negative: Any,
    *,
    margin: float = 1.0,
    reduction: Reduction = "mean",
    weights: Any = None,
) -> Any:
    """By how much the negative example is not farther than the positive one by a margin: ``max(0,
    |a - p|**2 - |a - n|**2 + margin)``.

    F. Schroff, D. Kalenichenko and J. Philbin, CVPR 2015, equation 3.

    Examples
    --------
    >>> vs.losses.triplet(np.zeros((1, 2)), np.ones((1, 2)), np.full((1, 2), 1.1)).round(6)
    np.float64(0.58)
    """
    anchor, positive = _checked_pair(anchor, positive, "triplet")
    anchor, negative = _checked_pair(anchor, negative, "triplet")
    gap = np.sum(np.square(anchor - positive), axis=-1) - np.sum(
        np.square(anchor - negative), axis=-1
    )
    return _by_example(relu(gap + margin), reduction, weights)


@part("contrastive", "loss")
def contrastive(
    first: Any,
    second: Any,
    same: Any,
    *,
    margin: float = 1.0,
    reduction: Reduction = "mean",
    weights: Any = None,
) -> Any:
    """Pairs of the same kind drawn together, others pushed a margin apart: ``d**2 / 2`` or ``max(0,
    margin - d)**2 / 2``.

    R. Hadsell, S. Chopra and Y. LeCun, CVPR 2006, equation 4.

    Examples
    --------
    >>> vs.losses.contrastive(
    ...     np.zeros((2, 1)), np.full((2, 1), 0.5), [True, False], reduction="none"
    ... )
    array([0.125, 0.125])
    """
    first, second = _checked_pair(first, second, "contrastive")
    distance = np.linalg.norm(first - second, axis=-1)
    kind = np.asarray(held(same)).astype(bool)
    if kind.shape != distance.shape:
        raise ShapeError(
            f"contrastive: expected {distance.shape[0]} marks of same or not, got shape "
            f"{kind.shape}."
        )
    return _by_example(
        np.where(kind, np.square(distance), np.square(relu(margin - distance))) * 0.5,
        reduction,
        weights,
    )


def _kinds_of(embeddings: Any, kinds: Any, name: str) -> tuple[Any, np.ndarray, np.ndarray]:
    """Embeddings, and which pairs of different examples are of one kind, and which of two."""
    vectors = embeddings if isinstance(embeddings, Tensor) else np.asarray(embeddings)
    labels = np.asarray(held(kinds))
    if vectors.ndim != 2 or labels.shape != vectors.shape[:1]:
        raise ShapeError(
            f"{name}: expected embeddings (n, width) and kinds (n,), got {vectors.shape} and "
            f"{labels.shape}."
        )
    alike = labels[:, None] == labels[None]
    return vectors, alike & ~np.eye(len(labels), dtype=bool), ~alike


@part("batch_triplet", "loss")
def batch_triplet(embeddings: Any, kinds: Any, *, margin: float = 1.0) -> Any:
    """Of each example of a batch, by how much the nearest of another kind is not farther than the
    farthest of its own by a margin; mean over those that have both.

    A. Hermans, L. Beyer and B. Leibe, arXiv 1703.07737, 2017, equation 5.

    Parameters
    ----------
    embeddings : array_like, shape (n, width)
    kinds : array_like, shape (n,)
    margin : float

    Raises
    ------
    DataError
        If no example of the batch has one of its kind and one of another.

    Examples
    --------
    >>> vs.losses.batch_triplet(np.array([[0.0], [1.0], [1.5]]), [0, 0, 1]).round(4)
    np.float64(1.0)
    """
    vectors, alike, apart = _kinds_of(embeddings, kinds, "batch_triplet")
    counts = alike.any(axis=1) & apart.any(axis=1)
    if not counts.any():
        raise DataError("batch_triplet: no example has one of its kind and one of another.")
    differences = vectors[:, None] - vectors[None]
    distances = np.sqrt(np.sum(np.square(differences), axis=-1) + LENGTH_FLOOR)
    farthest = np.max(np.where(alike, distances, -np.inf)[counts], axis=1)
    nearest = np.min(np.where(apart, distances, np.inf)[counts], axis=1)
    return np.mean(relu(farthest - nearest + margin))


@part("batch_contrastive", "loss")
def batch_contrastive(embeddings: Any, kinds: Any, *, temperature: float = 0.1) -> Any:
    """Cross-entropy of picking those of its kind among all others of a batch by the cosine; mean
    over those that have one.

    P. Khosla et al., "Supervised Contrastive Learning", NeurIPS 2020, equation 2. With kinds that
    name the example of which two views are, it is that of views (T. Chen et al., ICML 2020).

    Parameters
    ----------
    embeddings : array_like, shape (n, width)
    kinds : array_like, shape (n,)
    temperature : float

    Raises
    ------
    DataError
        If no example of the batch has one of its kind.

    Examples
    --------
    >>> vs.losses.batch_contrastive(np.eye(2)[[0, 0, 1]], [0, 0, 1]).round(4)
    np.float64(0.0)
    """
    if not temperature > 0:
        raise SettingError(f"batch_contrastive: temperature must be positive, got {temperature!r}.")
    vectors, alike, _ = _kinds_of(embeddings, kinds, "batch_contrastive")
    counts = alike.any(axis=1)
    if not counts.any():
        raise DataError("batch_contrastive: no example of the batch has another one of its kind.")
    lengths = np.sqrt(np.sum(np.square(vectors), axis=1, keepdims=True) + LENGTH_FLOOR)
    unit = vectors / lengths
    cosines = (unit @ np.swapaxes(unit, 0, 1)) * (1 / temperature)
    others = ~np.eye(len(alike), dtype=bool)
    logs = log_softmax(np.where(others, cosines, -1e9))
    shares = alike / np.maximum(alike.sum(axis=1, keepdims=True), 1)
    each = -np.sum(np.where(alike, logs, 0.0) * shares.astype(held(logs).dtype), axis=1)
    return np.mean(each[counts])


def gradient_penalty(critic: Callable[[Any], Any], at: Any, *, target: float = 1.0) -> Any:
    """Mean squared departure of the length of the critic's derivative by its input from a target.

    I. Gulrajani et al., "Improved Training of Wasserstein GANs", NIPS 2017, equation 3.
    Differentiable by the critic's weights.

    Parameters
    ----------
    critic : callable
        Takes inputs and returns one number each.
    at : array_like, shape (n, ...)

    Examples
    --------
    >>> vs.losses.gradient_penalty(lambda x: np.sum(x * 3.0, axis=1), np.ones((2, 1))).item()
    4.0
    """
    slope = gradient_of(lambda x: np.sum(critic(x)))(at if isinstance(at, Tensor) else Tensor(at))
    lengths = np.linalg.norm(np.reshape(slope, (slope.shape[0], -1)), axis=1)
    return np.mean(np.square(lengths - target))


def wasserstein_critic(
    critic: Callable[[Any], Any], real: Any, generated: Any, *, penalty: float = 10.0, seed: int = 0
) -> Any:
    """What a critic that tells real from generated minimises: ``mean(critic(generated)) -
    mean(critic(real))`` and a gradient penalty at random points between the two.

    M. Arjovsky, S. Chintala and L. Bottou, ICML 2017, with the penalty of Gulrajani et al. 2017,
    algorithm 1.

    Parameters
    ----------
    critic : callable
    real, generated : ndarray of one shape
    penalty : float
        What the gradient penalty weighs.
    seed : int
        Of the points between.

    Examples
    --------
    >>> x = np.ones((4, 1))
    >>> vs.losses.wasserstein_critic(lambda x: np.sum(x, axis=1), x * 2, x).item()
    -1.0
    """
    real, generated = np.asarray(held(real)), np.asarray(held(generated))
    if real.shape != generated.shape:
        raise ShapeError(
            f"wasserstein_critic: real inputs have shape {real.shape}, generated ones "
            f"{generated.shape}. They have to agree."
        )
    fraction = (
        np.random.default_rng(checked_seed(seed, "wasserstein_critic"))
        .random((real.shape[0], *(1,) * (real.ndim - 1)))
        .astype(real.dtype)
    )
    between = real * fraction + generated * (1 - fraction)
    return (
        np.mean(critic(generated))
        - np.mean(critic(real))
        + gradient_penalty(critic, between) * penalty
    )


def as_two_classes(logits: np.ndarray, targets: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Binary logits as those of two classes, and targets as their labels. Both are unchanged if
    targets are not all 0 or 1.

    Examples
    --------
    >>> as_two_classes(np.array([[2.0], [-1.0]]), np.array([1, 0]))
    (array([[ 0.,  2.],
           [ 0., -1.]]), array([1, 0]))
    """
    if logits.shape == (*targets.shape, 1):
        logits = logits[..., 0]
    if logits.shape != targets.shape or not np.isin(targets, (0, 1)).all():
        return logits, targets
    return np.stack([np.zeros_like(logits), logits], axis=-1), targets.astype(np.int64)


def _labels_beside(logits: Any, targets: Any) -> Any:
    """Labels of shape (n,) as a column where their logits are one."""
    labels = np.asarray(targets) if not isinstance(targets, Tensor) else targets
    if labels.dtype.kind in "iub" and np.shape(logits) == (*labels.shape, 1):
        return labels[..., None]
    return labels


def unwrapped(loss: Any) -> tuple[Any, dict[str, Any]]:
    """The function behind partial application, and the settings that were fixed."""
    settings: dict[str, Any] = {}
    while hasattr(loss, "func"):
        settings = {**loss.keywords, **settings}
        loss = loss.func
    return loss, settings


def plain_form(loss: Any) -> Any:
    """The function that a task without missing targets comes to, or the loss itself."""
    return loss.plain if getattr(loss, "gaps", None) is False else loss


def _labels_for(targets: Any, shape: tuple[int, ...], dtype: np.dtype[Any]) -> Any:
    labels = checked_labels(targets, shape)
    return (
        labels
        if labels.dtype == WHOLE and labels.flags.carray
        else np.array(labels, WHOLE, order="C")
    )


def _targets_for(targets: Any, shape: tuple[int, ...], dtype: np.dtype[Any]) -> Any:
    target = np.asarray(held(targets))
    _check_shapes("squared_error", shape, target.shape)
    return standard(target if target.dtype == dtype else target.astype(dtype))


def _are_labels(targets: Any) -> bool:
    return np.ndim(targets) == 1


def _are_any(targets: Any) -> bool:
    return True


class StraightForm(NamedTuple):
    """A loss that is one fused operation."""

    takes: Callable[[Any], bool]
    """Whether these targets are of the kind that the operation takes: class numbers, and not the
    probabilities of classes."""
    checked: Callable[[Any, tuple[int, ...], np.dtype[Any]], Any]
    """Targets, checked against the shape and dtype of outputs."""
    operation: Fused
    loop: str
    """Its name among the loops that compute loss and gradients of dense layers in one call."""
    suits: Callable[[tuple[int, ...]], bool]
    """Whether that loop is for outputs of this shape."""
    count: Callable[[tuple[int, ...]], int]
    """Of how many losses it is the mean."""


def straight_form(loss: Any) -> StraightForm | None:
    """Of a loss that is one; None of any other."""
    loss = plain_form(loss)
    if loss is cross_entropy:
        return StraightForm(
            _are_labels,
            _labels_for,
            _cross_entropy,
            "cross_entropy",
            lambda shape: shape[1] <= FEW_CLASSES,
            lambda shape: shape[0],
        )
    if loss is squared_error:
        return StraightForm(
            _are_any,
            _targets_for,
            _squared_error,
            "squared_error",
            lambda shape: math.prod(shape) < WORTH,
            math.prod,
        )
    return None


__getattr__, __dir__ = own_names(__name__, __all__)
