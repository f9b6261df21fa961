"""Normalisation: over the batch, over the features, over groups of channels."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.custom_rules import differentiable
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, is_standard, misfit
from ..autodiff.tensor import held
from ..distributed._current import communicator
from ..errors import LayerError, ShapeError
from ..initialisers import ones, zeros
from ..kernels.machinery.grain_sizes import rows_together
from ..kernels.machinery.pool import helpers, in_parts, spans
from ..parts._registry import part
from ._base import Layer
from ._dense import DEFINITIONS, FLOORS
from ._learning_pass import PASS

__all__ = ["BatchNorm", "GroupNorm", "LayerNorm", "RMSNorm"]

MANY = 1e6  # updates after which running statistics are no plain averages any more
EPSILON = 1e-5  # added to the variance; keeps the divisor away from zero


def _normal(x: Any, axes: tuple[int, ...], epsilon: float) -> Any:
    centred = x - np.mean(x, axis=axes, keepdims=True)
    return centred / np.sqrt(np.mean(np.square(centred), axis=axes, keepdims=True) + epsilon)


def _batch_definition(
    x: Any, scale: Any, shift: Any, *, epsilon: float, moments: Any = None, activation: str = "none"
) -> Any:
    return DEFINITIONS[activation](
        _normal(x, tuple(range(x.ndim - 1)), epsilon) * scale + shift, 0.0
    )


def _long_rows(x: Any, width: int) -> tuple[np.ndarray, int]:
    """The array with a channel a column, several narrow rows side by side; and how many."""
    n = x.size // width
    together = rows_together(n, width)
    return np.ascontiguousarray(x).reshape(n // together, together * width), together


def _twice_through(rows: np.ndarray) -> list[tuple[int, int]]:
    """Parts for loops that do about twice the usual work on an element."""
    return spans(rows.shape[0], each=2 * rows.shape[1])


def _by_channel(
    add_up: Callable[..., None], rows: np.ndarray, parts: list[tuple[int, int]], together: int
) -> np.ndarray:
    """Two sums for each channel in float64, ``(2, channels)``, of those that ``add_up(start, stop,
    first, second)`` finds by column.
    """

    def compute(start: int, stop: int) -> np.ndarray:
        result = np.empty((2, rows.shape[1]))
        add_up(start, stop, *result)
        return result

    sums: np.ndarray = np.reshape(in_parts(compute, parts), (len(parts), 2, together, -1)).sum(
        axis=(0, 2)
    )
    return sums


def _batch_moments(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mean and population variance of each channel over everything else."""
    width = x.shape[-1]
    if not kernels.usable() or not is_standard(x):
        flat = x.reshape(-1, width)
        return flat.mean(axis=0), flat.var(axis=0)
    try:
        return _compiled_moments(x, width)
    except kernels.Unsound as error:
        kernels.give_up(error)
        return _batch_moments(x)


def _compiled_moments(x: np.ndarray, width: int) -> tuple[np.ndarray, np.ndarray]:
    rows, together = _long_rows(x, width)
    about = rows[
        0, :width
    ].copy()  # near the values, so that little is lost when the square of the mean is taken away

    middle = np.tile(about, together)
    parts = _twice_through(rows)
    sums = _by_channel(
        lambda start, stop, *found: kernels.normalisation.moments(rows[start:stop], middle, *found),
        rows,
        parts,
        together,
    )
    sums *= width / x.size
    return (about + sums[0]).astype(x.dtype), np.maximum(sums[1] - sums[0] ** 2, 0).astype(x.dtype)


def _batch_forward(
    x: Any, scale: Any, shift: Any, *, epsilon: float, moments: Any = None, activation: str = "none"
) -> tuple[Any, Any]:
    mean, variance = moments if moments is not None else _batch_moments(x)
    rows, together = _long_rows(x, x.shape[-1])
    inverse = 1 / np.sqrt(variance + variance.dtype.type(epsilon))
    y = np.empty(rows.shape, rows.dtype)
    floor = rows.dtype.type(FLOORS[activation])
    each = [np.tile(vector, together) for vector in (mean, inverse * scale, shift)]
    in_parts(
        lambda start, stop: kernels.normalisation.columns(
            rows[start:stop], *each, y[start:stop], floor
        ),
        spans(rows.shape[0], each=rows.shape[1]),
    )
    return y.reshape(x.shape), (mean, inverse)


def _batch_adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    x, scale, shift = inputs
    width = x.shape[-1]
    rows, together = _long_rows(x, width)
    long_g, gx = np.ascontiguousarray(g).reshape(rows.shape), np.empty(rows.shape, rows.dtype)
    mean, inverse = saved
    each = [np.tile(vector, together) for vector in (mean, inverse, inverse * scale, shift)]
    floor = rows.dtype.type(FLOORS[options.get("activation", "none")])

    def add_up(start: int, stop: int, *found: np.ndarray) -> None:
        kernels.normalisation.columns_sums(
            long_g[start:stop], rows[start:stop], *each, floor, *found
        )

    split = _twice_through(rows)
    sums = _by_channel(add_up, rows, split, together)
    means = [np.tile((total * (width / x.size)).astype(x.dtype), together) for total in sums]
    in_parts(
        lambda start, stop: kernels.normalisation.columns_adjoint(
            long_g[start:stop], rows[start:stop], *each, floor, *means, gx[start:stop]
        ),
        split,
    )
    return [gx.reshape(x.shape), *_into_places(sums, scale, places)]


def _into_places(sums: np.ndarray, scale: Any, places: Sequence[Any]) -> list[Any]:
    """The cotangents of scale and shift where they are wanted."""
    room = [
        place if place is not None else np.empty(scale.shape, scale.dtype) for place in places[1:3]
    ]
    for place, total in zip(room, sums, strict=True):
        place[...] = total
    return room


def _check_moments(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    moments = options.get("moments")
    if arrays[0].size == 0:
        raise misfit("batch norm", f"an input of shape {arrays[0].shape} has no mean.")
    if moments is not None and any(np.shape(moment) != (sizes["channels"],) for moment in moments):
        raise misfit(
            "batch norm",
            f"moments of shapes {[np.shape(m) for m in moments]} for {sizes['channels']} channels.",
        )


batch_norm = Fused(
    "batch norm",
    definition=_batch_definition,
    forward=_batch_forward,
    adjoint=_batch_adjoint,
    form=Signature(also=_check_moments, x="*n channels", scale="channels", shift="channels"),
)


def _layer_definition(x: Any, scale: Any, shift: Any, *, epsilon: float) -> Any:
    return _normal(x, (-1,), epsilon) * scale + shift


def _layer_forward(x: Any, scale: Any, shift: Any, *, epsilon: float) -> tuple[Any, Any]:
    rows = np.ascontiguousarray(x).reshape(-1, x.shape[-1])
    y, (mean, inverse) = np.empty(rows.shape, rows.dtype), np.empty((2, rows.shape[0]), rows.dtype)

    kernels.normalisation.rows(
        *helpers(2 * rows.size), rows, scale, shift, epsilon, y, mean, inverse
    )
    return y.reshape(x.shape), (mean, inverse)


def _layer_adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    x, scale, _ = inputs
    rows = np.ascontiguousarray(x).reshape(-1, x.shape[-1])
    g, gx = np.ascontiguousarray(g).reshape(rows.shape), np.empty(rows.shape, rows.dtype)
    mean, inverse = saved

    sums = kernels.normalisation.rows_adjoint(
        *helpers(2 * rows.size), g, rows, scale, mean, inverse, gx
    ).sum(axis=0)
    return [gx.reshape(x.shape), *_into_places(sums, scale, places)]


layer_norm = Fused(
    "layer norm",
    definition=_layer_definition,
    forward=_layer_forward,
    adjoint=_layer_adjoint,
    form=Signature(x="*n channels", scale="channels", shift="channels"),
)


def _group_definition(x: Any, scale: Any, shift: Any, *, groups: int, epsilon: float) -> Any:
    parts = np.reshape(x, (*x.shape[:-1], groups, -1))
    axes = (*range(1, x.ndim - 1), x.ndim)
    return np.reshape(_normal(parts, axes, epsilon), x.shape) * scale + shift


def _group_forward(
    x: Any, scale: Any, shift: Any, *, groups: int, epsilon: float
) -> tuple[Any, Any]:
    n, width = x.shape[0], x.shape[-1]
    rows = np.ascontiguousarray(x).reshape(n, -1, width)
    each = width // groups
    y = np.empty(rows.shape, rows.dtype)
    mean, inverse = np.empty((2, n, width), rows.dtype)

    def compute(start: int, stop: int) -> None:
        sums = np.empty((2, width))
        for i in range(start, stop):
            # near the values of the group, so that little is lost when squares are taken away
            about = np.repeat(rows[i, 0, ::each], each)
            kernels.normalisation.moments(rows[i], about, *sums)
            shared = sums.reshape(2, groups, each).mean(axis=2) / rows.shape[1]
            variance = np.maximum(shared[1] - shared[0] ** 2, 0)
            mean[i] = about + np.repeat(shared[0], each)
            inverse[i] = np.repeat(1 / np.sqrt(variance + epsilon), each)
            kernels.normalisation.columns(
                rows[i], mean[i], inverse[i] * scale, shift, y[i], rows.dtype.type(-np.inf)
            )

    in_parts(compute, spans(n, each=2 * rows[0].size))
    return y.reshape(x.shape), (mean, inverse)


def _group_adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    x, scale, shift = inputs
    n, width, groups = x.shape[0], x.shape[-1], options["groups"]
    rows = np.ascontiguousarray(x).reshape(n, -1, width)
    each, count = width // groups, rows.shape[1]
    g3, gx = np.ascontiguousarray(g).reshape(rows.shape), np.empty(rows.shape, rows.dtype)
    mean, inverse = saved
    split = spans(n, each=3 * rows[0].size)

    def compute(start: int, stop: int) -> np.ndarray:
        total, sums = np.zeros((2, width)), np.empty((2, width))
        for i in range(start, stop):
            statistics = mean[i], inverse[i]
            floor = rows.dtype.type(-np.inf)
            kernels.normalisation.columns_sums(
                g3[i], rows[i], *statistics, inverse[i] * scale, shift, floor, *sums
            )
            total += sums
            weighed = (sums * scale).reshape(2, groups, each).mean(axis=2) / count
            second, first = np.repeat(weighed, each, axis=1).astype(rows.dtype)
            kernels.normalisation.groups_adjoint(
                g3[i], rows[i], *statistics, scale, first, second, gx[i]
            )
        return total

    sums = np.sum(in_parts(compute, split), axis=0)
    return [gx.reshape(x.shape), *_into_places(sums, scale, places)]


def _check_groups(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    x = arrays[0]
    if x.ndim < 2 or x.size == 0 or sizes["channels"] % options["groups"]:
        raise misfit("group norm", f"{options['groups']} groups of an input of shape {x.shape}.")


group_norm = Fused(
    "group norm",
    definition=_group_definition,
    forward=_group_forward,
    adjoint=_group_adjoint,
    form=Signature(also=_check_groups, x="*n channels", scale="channels", shift="channels"),
)


class _Norm(Layer):
    """What all share: a scale and a shift for each channel."""

    scale: Any
    shift: Any

    def __init__(self, *, epsilon: float = EPSILON) -> None:
        if not epsilon > 0:
            raise LayerError(f"{type(self).__name__}: epsilon must be positive, got {epsilon!r}.")
        self.epsilon = epsilon

    def declare(self, shape: tuple[int, ...]) -> None:
        if len(shape) < 2:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels), got {shape}."
            )
        self.parameter("scale", shape[-1:], ones)
        self.parameter("shift", shape[-1:], zeros)

    def check_channels(self, x: Any) -> None:
        """Refuse another number of channels than at initialisation."""
        if x.ndim < 2 or x.shape[-1] != self.scale.shape[0]:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., {self.scale.shape[0]}), got "
                f"{tuple(x.shape)}. Initialise the "
                "network again on a sample of this shape, or make what comes before as wide."
            )


def _sum_of_ranks(array: Any) -> np.ndarray:
    result = np.array(array)
    communicator().all_reduce(result)
    return result


@differentiable(adjoint=lambda g, y, x: _sum_of_ranks(held(g)))
def summed_over_ranks(x: np.ndarray) -> np.ndarray:
    """The sum over all ranks, on each; what each makes of it counts for all."""
    return _sum_of_ranks(x)


@part("batch_norm", "layer")
class BatchNorm(_Norm):
    """Each channel brought to mean 0 and variance 1 over the batch, then scaled and shifted.

    S. Ioffe and C. Szegedy, "Batch Normalization", ICML 2015, algorithms 1 and 2. In a learning
    pass by the batch's own mean and (population) variance, as the operator BatchNormalization of
    the open standard ONNX does in training; in inference by running ones, and so where scale and
    shift are frozen, whose running statistics then stay as they are. The running statistics begin
    as plain averages over the batches and go on as moving ones; a batch smaller than the largest
    seen counts for as much less as it has fewer examples, so that a small last batch does not
    distort them.

    Parameters
    ----------
    momentum : float
        What remains of the running statistics after a full batch, from 0 up to but not including 1.
    epsilon : float
    over_ranks : bool
        Whether, of several ranks, mean and variance are those of the whole batch; by default each
        takes those of its part.

    Attributes
    ----------
    scale, shift : Tensor, shape (channels,)
    mean, variance : ndarray, shape (channels,)
        Running statistics, saved with the weights.

    Raises
    ------
    ShapeError
        If a learning pass gives a channel one value only: it has no variance.

    Examples
    --------
    >>> layer = BatchNorm().initialise(np.ones((1, 2)))
    >>> with learning():
    ...     layer(np.array([[1.0, 10.0], [3.0, 30.0]], np.float32)).array.round(3)
    array([[-1., -1.],
           [ 1.,  1.]], dtype=float32)
    >>> layer.mean
    array([ 2., 20.], dtype=float32)
    """

    mean: np.ndarray
    variance: np.ndarray
    seen: np.ndarray

    def __init__(
        self, *, momentum: float = 0.9, epsilon: float = EPSILON, over_ranks: bool = False
    ) -> None:
        super().__init__(epsilon=epsilon)
        self.over_ranks = over_ranks
        if not 0 <= momentum < 1:
            raise LayerError(
                f"BatchNorm: momentum must be from 0 up to but not including 1, got {momentum!r}."
            )
        self.momentum = momentum

    def declare(self, shape: tuple[int, ...]) -> None:
        super().declare(shape)
        self.statistic("mean", shape[-1:], 0.0)
        self.statistic("variance", shape[-1:], 1.0)
        self.statistic("seen", (2,), 0.0)  # updates so far, examples of the largest batch

    def compute(self, x: Any, *following: Any) -> Any:
        self.check_channels(x)
        activation = following[0][0] if following else "none"
        if not PASS.learning or PASS.dry is not None or self.is_frozen:
            inverse = 1 / np.sqrt(self.variance + self.variance.dtype.type(self.epsilon))
            return DEFINITIONS[activation](
                (x - self.mean) * (inverse * self.scale) + self.shift, 0.0
            )
        if self.over_ranks and communicator().size > 1:
            return self._of_all_ranks(x, activation)
        if x.size == x.shape[-1]:
            raise ShapeError(
                f"{self._label}: one value a channel has no variance, input of shape "
                f"{tuple(x.shape)}. Use batches of at least two "
                "examples in training: drop_partial=True leaves a last one of one away."
            )
        mean, variance = _batch_moments(held(x))
        self._remember(mean, variance, x.shape[0])
        return batch_norm(
            x,
            self.scale,
            self.shift,
            epsilon=self.epsilon,
            moments=(mean, variance),
            activation=activation,
        )

    def _of_all_ranks(self, x: Any, activation: str) -> Any:
        axes = tuple(range(len(x.shape) - 1))
        sizes = np.array([x.size / x.shape[-1], x.shape[0]])
        communicator().all_reduce(sizes)
        places = x.dtype.type(sizes[0])
        mean = summed_over_ranks(np.sum(x, axis=axes)) / places
        centred = x - mean
        variance = summed_over_ranks(np.sum(centred**2, axis=axes)) / places
        self._remember(np.asarray(held(mean)), np.asarray(held(variance)), int(sizes[1]))
        normalised = centred / np.sqrt(variance + x.dtype.type(self.epsilon))
        return DEFINITIONS[activation](normalised * self.scale + self.shift, 0.0)

    def loaded(self, names: set[str]) -> None:
        """Loaded statistics are those of many batches, not to be thrown away with the next."""
        if names & {"mean", "variance"} and "seen" not in names:
            self.seen[:] = MANY, 0

    def _remember(self, mean: np.ndarray, variance: np.ndarray, n: int) -> None:
        updates, largest = self.seen
        largest = max(largest, n)
        weight = max(1 - self.momentum, 1 / (updates + 1)) * (n / largest)
        self.mean += weight * (mean - self.mean)
        self.variance += weight * (variance - self.variance)
        self.seen[:] = updates + 1, largest


@part("layer_norm", "layer")
class LayerNorm(_Norm):
    """Each example's features brought to mean 0 and variance 1 over the last axis, then scaled and
    shifted.

    J. L. Ba, J. R. Kiros and G. E. Hinton, "Layer Normalization", 2016, equation 4; the operator
    LayerNormalization of the open standard ONNX over the last axis.

    Examples
    --------
    >>> LayerNorm().initialise(np.ones((1, 2)))(np.array([[1.0, 3.0]], np.float32)).array.round(
    ...     3
    ... )
    array([[-1.,  1.]], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        self.check_channels(x)
        return layer_norm(x, self.scale, self.shift, epsilon=self.epsilon)


@part("group_norm", "layer")
class GroupNorm(_Norm):
    """Groups of channels of each example brought to mean 0 and variance 1, over space too, then
    scaled and shifted.

    Y. Wu and K. He, "Group Normalization", ECCV 2018, equations 1 and 7.

    Parameters
    ----------
    groups : int
    epsilon : float

    Examples
    --------
    >>> GroupNorm(2).initialise(np.ones((1, 4)))(
    ...     np.array([[1.0, 3.0, 10.0, 30.0]], np.float32)
    ... ).array.round(3)
    array([[-1.,  1., -1.,  1.]], dtype=float32)
    """

    def __init__(self, groups: int, *, epsilon: float = EPSILON) -> None:
        super().__init__(epsilon=epsilon)
        if groups < 1:
            raise LayerError(f"GroupNorm: groups must be at least 1, got {groups}.")
        self.groups = groups

    def declare(self, shape: tuple[int, ...]) -> None:
        if shape[-1] % self.groups:
            raise LayerError(
                f"{self._label}: {self.groups} groups do not divide {shape[-1]} channels evenly."
            )
        super().declare(shape)

    def compute(self, x: Any) -> Any:
        self.check_channels(x)
        return group_norm(x, self.scale, self.shift, groups=self.groups, epsilon=self.epsilon)


@part("rms_norm", "layer")
class RMSNorm(_Norm):
    """Each example's features divided by their root mean square, then scaled.

    B. Zhang and R. Sennrich, "Root Mean Square Layer Normalization", NeurIPS 2019, equation 4.

    Examples
    --------
    >>> RMSNorm().initialise(np.ones((1, 2)))(np.array([[3.0, 3.0]], np.float32)).array.round(3)
    array([[1., 1.]], dtype=float32)
    """

    def declare(self, shape: tuple[int, ...]) -> None:
        if len(shape) < 2:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels), got {shape}."
            )
        self.parameter("scale", shape[-1:], ones)

    def compute(self, x: Any) -> Any:
        self.check_channels(x)
        return (
            x / np.sqrt(np.mean(np.square(x), axis=-1, keepdims=True) + self.epsilon) * self.scale
        )
