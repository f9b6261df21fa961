"""What single answers depend on, input by input."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import product
from typing import Any

import numpy as np

from .._model import Model
from ..autodiff.derivatives import gradient_of
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import DataError, SettingError
from ..layers._base import Layer
from ..layers._learning_pass import attention_seen
from ..layers._named_inputs import input_names_of, inputs_in_order

__all__ = ["attention_weights", "input_gradients", "integrated_gradients", "occlusion"]

Explained = Callable[..., Any]
AXES_OF_PICTURES = 4


def _network(model: Model | Layer) -> Layer:
    if isinstance(model, Model):
        return model.network
    if not isinstance(model, Layer):
        raise SettingError(f"A model or network is wanted, got {type(model).__name__}.")
    return model


def placed(network: Layer, given: Any) -> tuple[Any, ...]:
    """Inputs in the order in which a network takes them."""
    found = inputs_in_order(network, given)
    return found if isinstance(found, tuple) else (found,)


class Inputs:
    """Inputs that may be several, by name or place, in the order in which a network takes them.

    Parameters
    ----------
    network : Layer
    given : array_like, tuple, or mapping of name to array_like
    """

    def __init__(self, network: Layer, given: Any) -> None:
        self.given = given
        self.arrays = tuple(_array(network, x) for x in placed(network, given))
        names = input_names_of(network)[: len(self.arrays)]
        self.names = names if isinstance(given, Mapping) else None

    def like(self, value: Any) -> tuple[np.ndarray, ...]:
        """Something said for all inputs, or for each as they were given, in their shapes."""
        if isinstance(value, Mapping) and self.names is not None:
            each = [value.get(name, 0.0) for name in self.names]
        elif isinstance(value, tuple) and len(value) == len(self.arrays):
            each = list(value)
        else:
            each = [value] * len(self.arrays)
        return tuple(
            np.broadcast_to(np.asarray(one, x.dtype), x.shape)
            for one, x in zip(each, self.arrays, strict=True)
        )

    def told(self, values: Sequence[np.ndarray]) -> Any:
        """A result for each input in the form in which they were given."""
        if self.names is not None:
            return dict(zip(self.names, values, strict=True))
        return tuple(values) if isinstance(self.given, tuple) else values[0]


def _array(network: Layer, inputs: Any) -> np.ndarray:
    array = np.asarray(held(inputs))
    if array.dtype.kind not in "fiub" or array.ndim < 2 or not len(array):
        raise DataError(
            f"The inputs have shape {array.shape} and dtype {array.dtype}. Give a batch of numbers "
            "as the network takes them: of a table model.codec.inputs(rows)[1]."
        )
    return array.astype(network.dtype)


def _explained(
    network: Layer, inputs: Sequence[np.ndarray], output: int | None, target: str
) -> Explained:
    """A function from inputs, by place, to the number that is explained of each example: the output
    of this place, or the highest of those that the network puts out now.
    """

    def of_target(found: Any) -> Any:
        if isinstance(found, dict):
            if target not in found:
                raise SettingError(f"Say of which target, target=: there are {', '.join(found)}.")
            return found[target]
        return found[0] if isinstance(found, tuple) else found

    with untracked():
        now = np.asarray(held(of_target(network(*inputs))))
    flat = now.reshape(len(now), -1)
    if output is not None and not -flat.shape[1] <= output < flat.shape[1]:
        raise SettingError(f"There are {flat.shape[1]} outputs, and no number {output}.")
    places = flat.argmax(axis=1) if output is None else np.full(len(flat), output)
    rows = np.arange(len(flat))

    def explained(*x: Any) -> Any:
        found = of_target(network(*x))
        return np.reshape(found, (len(rows), -1))[rows, places]

    return explained


def _slopes(explained: Explained, x: Sequence[Any]) -> list[np.ndarray]:
    """Of the sum over examples, by each input."""

    def by(k: int) -> Any:
        return gradient_of(lambda z: np.sum(explained(*x[:k], z, *x[k + 1 :])))(x[k])

    return [np.asarray(held(by(k))) for k in range(len(x))]


def input_gradients(
    model: Model | Layer, inputs: Any, *, output: int | None = None, target: str = ""
) -> Any:
    """The slope of an output by every input.

    K. Simonyan, A. Vedaldi and A. Zisserman, ICLR workshop 2014, section 3.

    Parameters
    ----------
    model : Model or Layer
    inputs : array_like, shape (n, ...), or several, by name or as a tuple
        As the network takes them.
    output : int, optional
        Which output; by default the highest of each example.
    target : str
        Of several targets which.

    Returns
    -------
    slopes : ndarray, of the shape of the inputs; of several in the form in which they were given

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 3)))
    >>> vs.attribution.input_gradients(network, np.ones((1, 3))).tolist()
    [[1.0, 1.0, 1.0]]
    """
    network = _network(model)
    given = Inputs(network, inputs)
    explained = _explained(network, given.arrays, output, target)
    return given.told(_slopes(explained, given.arrays))


def integrated_gradients(
    model: Model | Layer,
    inputs: Any,
    *,
    baseline: Any = 0.0,
    steps: int = 64,
    output: int | None = None,
    target: str = "",
) -> Any:
    """How much each input adds to an output, from a baseline on: they add up to the difference.

    M. Sundararajan, A. Taly and Q. Yan, "Axiomatic Attribution for Deep Networks", ICML 2017,
    equation 3, by midpoints.

    Parameters
    ----------
    model, inputs, output, target
        As for `input_gradients`.
    baseline : float or array_like
        Inputs that say nothing, broadcast to an example.
    steps : int
        Points on the way; more bring the sum nearer.

    Returns
    -------
    shares : ndarray, of the shape of the inputs; of several in the form in which they were given

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 2)))
    >>> vs.attribution.integrated_gradients(network, np.array([[2.0, 3.0]])).tolist()
    [[2.0, 3.0]]
    """
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 1:
        raise SettingError(f"integrated_gradients: steps is at least 1, got {steps!r}.")
    network = _network(model)
    given = Inputs(network, inputs)
    x, start = given.arrays, given.like(baseline)
    explained = _explained(network, x, output, target)
    totals = [np.zeros(one.shape, np.float64) for one in x]
    for i in range(steps):
        share = network.dtype.type((i + 0.5) / steps)
        between = [a + (b - a) * share for a, b in zip(start, x, strict=True)]
        for total, slope in zip(totals, _slopes(explained, between), strict=True):
            total += slope
    return given.told(
        [
            np.asarray((b - a) * (total / steps), b.dtype)
            for a, b, total in zip(start, x, totals, strict=True)
        ]
    )


def occlusion(
    model: Model | Layer,
    inputs: Any,
    *,
    window: int = 1,
    stride: int = 1,
    value: Any = 0.0,
    output: int | None = None,
    target: str = "",
) -> Any:
    """By how much an output falls when a part of the inputs is hidden: a square of pictures, one
    column of a table, one time of a sequence.

    M. D. Zeiler and R. Fergus, ECCV 2014, section 4.2.

    Parameters
    ----------
    model, inputs, output, target
        As for `input_gradients`.
    window : int
        Side of the square, columns or times that are hidden together.
    stride : int
        From one window to the next, at most a window; more is quicker and coarser.
    value : float or array_like
        What stands in their place, broadcast to an example.

    Returns
    -------
    falls : ndarray, shape (n, ...)
        Of pictures ``(n, height, width)``; otherwise of each column, or time. Of several inputs in
        the form in which they were given.

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 2)))
    >>> vs.attribution.occlusion(network, np.array([[2.0, 3.0]])).tolist()
    [[2.0, 3.0]]
    """
    if isinstance(window, bool) or not isinstance(window, int) or window < 1:
        raise SettingError(f"occlusion: window is at least 1, got {window!r}.")
    if isinstance(stride, bool) or not isinstance(stride, int) or not 1 <= stride <= window:
        raise SettingError(
            f"occlusion: stride lies from 1 to the window, {window}; got {stride!r}."
        )
    network = _network(model)
    given = Inputs(network, inputs)
    explained = _explained(network, given.arrays, output, target)
    hidden = given.like(value)
    with untracked():
        return given.told(
            [
                _falls(explained, given.arrays, k, hidden[k], window, stride)
                for k in range(len(given.arrays))
            ]
        )


def _falls(
    explained: Explained,
    inputs: Sequence[np.ndarray],
    k: int,
    hidden: np.ndarray,
    window: int,
    stride: int,
) -> np.ndarray:
    """By how much the output falls when parts of one input are hidden."""
    x = inputs[k]
    shape = x.shape[1:3] if x.ndim == AXES_OF_PICTURES else x.shape[1:2]
    sums, counts = np.zeros((len(x), *shape)), np.zeros(shape)
    before = np.asarray(held(explained(*inputs)), np.float64)
    for place in product(*(_places(n, window, stride) for n in shape)):
        part = tuple(slice(at, at + window) for at in place)
        changed = x.copy()
        changed[(slice(None), *part)] = hidden[(slice(None), *part)]
        now = np.asarray(held(explained(*inputs[:k], changed, *inputs[k + 1 :])), np.float64)
        sums[(slice(None), *part)] += (before - now).reshape(-1, *(1,) * len(shape))
        counts[part] += 1
    return np.asarray(sums / counts, x.dtype)


def _places(n: int, window: int, stride: int) -> list[int]:
    """Where windows begin, so that every place is in one."""
    last = max(n - window, 0)
    return [*range(0, last, stride), last]


def attention_weights(model: Model | Layer, *inputs: Any, mask: Any = None) -> dict[str, Any]:
    """How much each place looks at each other one, by the path of every attention.

    Parameters
    ----------
    model : Model or Layer
    *inputs : arrays
        As the network takes them.
    mask : array, optional

    Returns
    -------
    weights : dict of path to ndarray, shape (n, heads, time, places)
        Rows add up to 1.

    Examples
    --------
    >>> network = vs.Attention(2).initialise(np.ones((1, 3, 4)))
    >>> {
    ...     path: w.shape
    ...     for path, w in vs.attribution.attention_weights(network, np.ones((5, 3, 4))).items()
    ... }
    {'': (5, 2, 3, 3)}
    """
    options = {} if mask is None else {"mask": mask}
    with untracked(), attention_seen() as seen:
        _network(model)(*inputs, **options)
    if not seen:
        raise SettingError("attention_weights: no attention takes part in this network.")
    return {path: np.asarray(weights) for path, weights in seen.items()}
