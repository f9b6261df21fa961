"""What single answers depend on, input by input."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from .._model import Model
from ..autodiff.derivatives import gradient_of
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import DataError, SettingError
from ..layers._base import Layer
from ..layers._learning_pass import attention_seen

__all__ = ["attention_weights", "input_gradients", "integrated_gradients", "occlusion"]

Explained = Callable[[Any], Any]
AXES_OF_PICTURES = 4


def _network(model: Model | Layer) -> Layer:
    if isinstance(model, Model):
        return model.network
    if not isinstance(model, Layer):
        raise SettingError(f"A model or network is wanted, got {type(model).__name__}.")
    return model


def _array(network: Layer, inputs: Any) -> np.ndarray:
    array = np.asarray(held(inputs))
    if array.dtype.kind not in "fiub" or array.ndim < 2 or not len(array):
        raise DataError(
            f"The inputs have shape {array.shape} and dtype {array.dtype}. Give a batch of numbers "
            "as the network takes them: of a table model.codec.inputs(rows)[1]."
        )
    return array.astype(network.dtype)


def _explained(
    model: Model | Layer, inputs: np.ndarray, output: int | None, target: str
) -> Explained:
    """A function from inputs to the number that is explained of each example: the output of this
    place, or the highest of those that the network puts out now.
    """
    network = _network(model)

    def of_target(found: Any) -> Any:
        if isinstance(found, dict):
            if target not in found:
                raise SettingError(f"Say of which target, target=: there are {', '.join(found)}.")
            return found[target]
        return found[0] if isinstance(found, tuple) else found

    with untracked():
        now = np.asarray(held(of_target(network(inputs))))
    flat = now.reshape(len(now), -1)
    if output is not None and not -flat.shape[1] <= output < flat.shape[1]:
        raise SettingError(f"There are {flat.shape[1]} outputs, and no number {output}.")
    places = flat.argmax(axis=1) if output is None else np.full(len(flat), output)
    rows = np.arange(len(flat))

    def explained(x: Any) -> Any:
        found = of_target(network(x))
        return np.reshape(found, (len(rows), -1))[rows, places]

    return explained


def input_gradients(
    model: Model | Layer, inputs: Any, *, output: int | None = None, target: str = ""
) -> np.ndarray:
    """The slope of an output by every input.

    K. Simonyan, A. Vedaldi and A. Zisserman, ICLR workshop 2014, section 3.

    Parameters
    ----------
    model : Model or Layer
    inputs : array_like, shape (n, ...)
        As the network takes them.
    output : int, optional
        Which output; by default the highest of each example.
    target : str
        Of several targets which.

    Returns
    -------
    slopes : ndarray, of the shape of the inputs

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 3)))
    >>> vs.attribution.input_gradients(network, np.ones((1, 3))).tolist()
    [[1.0, 1.0, 1.0]]
    """
    x = _array(_network(model), inputs)
    explained = _explained(model, x, output, target)
    return np.asarray(held(gradient_of(lambda z: np.sum(explained(z)))(x)))


def integrated_gradients(
    model: Model | Layer,
    inputs: Any,
    *,
    baseline: Any = 0.0,
    steps: int = 64,
    output: int | None = None,
    target: str = "",
) -> np.ndarray:
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
    shares : ndarray, of the shape of the inputs

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 2)))
    >>> vs.attribution.integrated_gradients(network, np.array([[2.0, 3.0]])).tolist()
    [[2.0, 3.0]]
    """
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 1:
        raise SettingError(f"integrated_gradients: steps is at least 1, got {steps!r}.")
    x = _array(_network(model), inputs)
    start = np.broadcast_to(np.asarray(baseline, x.dtype), x.shape)
    explained = _explained(model, x, output, target)
    slope = gradient_of(lambda z: np.sum(explained(z)))
    total = np.zeros(x.shape, np.float64)
    for i in range(steps):
        total += held(slope(start + (x - start) * x.dtype.type((i + 0.5) / steps)))
    return np.asarray((x - start) * (total / steps), x.dtype)


def occlusion(
    model: Model | Layer,
    inputs: Any,
    *,
    window: int = 1,
    value: Any = 0.0,
    output: int | None = None,
    target: str = "",
) -> np.ndarray:
    """By how much an output falls when a part of the inputs is hidden: a square of pictures, one
    column of a table, one time of a sequence.

    M. D. Zeiler and R. Fergus, ECCV 2014, section 4.2.

    Parameters
    ----------
    model, inputs, output, target
        As for `input_gradients`.
    window : int
        Side of the square, columns or times that are hidden together.
    value : float or array_like
        What stands in their place, broadcast to an example.

    Returns
    -------
    falls : ndarray, shape (n, ...)
        Of pictures ``(n, height, width)``; otherwise of each column, or time.

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 2)))
    >>> vs.attribution.occlusion(network, np.array([[2.0, 3.0]])).tolist()
    [[2.0, 3.0]]
    """
    if isinstance(window, bool) or not isinstance(window, int) or window < 1:
        raise SettingError(f"occlusion: window is at least 1, got {window!r}.")
    x = _array(_network(model), inputs)
    explained = _explained(model, x, output, target)
    hidden = np.broadcast_to(np.asarray(value, x.dtype), x.shape)
    shape = x.shape[1:3] if x.ndim == AXES_OF_PICTURES else x.shape[1:2]
    sums, counts = np.zeros((len(x), *shape)), np.zeros(shape)
    with untracked():
        before = np.asarray(held(explained(x)), np.float64)
        for place in np.ndindex(*(max(n - window + 1, 1) for n in shape)):
            part = tuple(slice(at, at + window) for at in place)
            changed = x.copy()
            changed[(slice(None), *part)] = hidden[(slice(None), *part)]
            fall = before - np.asarray(held(explained(changed)), np.float64)
            sums[(slice(None), *part)] += fall.reshape(-1, *(1,) * len(shape))
            counts[part] += 1
    return np.asarray(sums / counts, x.dtype)


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
