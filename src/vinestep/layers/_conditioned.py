"""Layers that are told something besides their input: a time, a class, a text."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np

from .._activations import silu
from ..autodiff.tensor import held
from ..errors import LayerError
from ..parts._registry import part
from ._attention import Attention
from ._base import Layer
from ._convolution import Convolution
from ._dense import Dense
from ._dropout import Dropout
from ._normalisation import GroupNorm, LayerNorm

__all__ = ["ConditionedBlock", "ConditionedDense", "PixelAttention", "TimeEmbedding"]


@part("time_embedding", "layer")
class TimeEmbedding(Layer):
    """Sines and cosines of a number for each example: ``(batch,)`` to ``(batch, width)``.

    Parameters
    ----------
    width : int
        Even.
    form : {"sine", "fourier"}
        Frequencies from 1 to `highest` in equal ratios, after A. Vaswani et al., 2017, section
        3.5; or drawn from a normal distribution and trained, after M. Tancik et al., NeurIPS 2020.
    highest : float
        Largest frequency, or the deviation of those that are drawn.

    Examples
    --------
    >>> TimeEmbedding(4).initialise(np.zeros(1))(np.array([0.0])).astype(int)
    array([[0, 0, 1, 1]])
    """

    def __init__(
        self,
        width: int,
        *,
        form: Literal["sine", "fourier"] = "sine",
        highest: float = 100.0,
    ) -> None:
        if width < 2 or width % 2:
            raise LayerError(f"TimeEmbedding: width has to be even, got {width}.")
        if form not in ("sine", "fourier") or not highest > 0:
            raise LayerError(
                'TimeEmbedding: form is "sine" or "fourier", and highest above 0; got '
                f"{form!r} and {highest!r}."
            )
        self.width, self.form, self.highest = width, form, highest

    def declare(self, shape: tuple[int, ...]) -> None:
        if self.form == "fourier":
            self.parameter(
                "frequencies",
                (self.width // 2,),
                lambda rng, shape: rng.normal(0.0, self.highest, shape),
            )

    frequencies: Any

    def compute(self, times: Any) -> Any:
        half = self.width // 2
        if self.form == "fourier":
            frequencies = self.frequencies
        else:
            ratio = np.arange(half) / max(half - 1, 1)
            frequencies = (self.highest**ratio).astype(held(times).dtype)
        angles = times[:, None] * frequencies
        return np.concatenate([np.sin(angles), np.cos(angles)], axis=1)


@part("conditioned_block", "layer")
class ConditionedBlock(Layer):
    """Two convolutions with normalisation beside a shortcut; between them what the condition says
    is added to each channel.

    J. Ho, A. Jain and P. Abbeel, NeurIPS 2020, appendix B.

    Parameters
    ----------
    channels : int
    groups : int
        Of the normalisation, at most; they divide the channels.
    dropout : float

    Examples
    --------
    >>> block = ConditionedBlock(4).initialise((np.ones((1, 6, 6, 2)), np.ones((1, 3))))
    >>> block(np.ones((2, 6, 6, 2)), np.ones((2, 3))).shape
    (2, 6, 6, 4)
    """

    def __init__(self, channels: int, *, groups: int = 8, dropout: float = 0.0) -> None:
        self.channels, self.groups, self.dropout = channels, groups, dropout
        self.first_norm: Any = None
        self.first = Convolution(channels, 3)
        self.shift = Dense(channels)
        self.second_norm = GroupNorm(math.gcd(channels, groups))
        self.drop = Dropout(dropout)
        self.second = Convolution(channels, 3)
        self.shortcut: Any = None

    def declare(self, shape: tuple[int, ...]) -> None:
        self.first_norm = GroupNorm(math.gcd(shape[-1], self.groups))
        self.shortcut = Convolution(self.channels, 1) if shape[-1] != self.channels else None
        self._set_paths(self.path)

    def compute(self, x: Any, condition: Any = None) -> Any:
        y = self.first(silu(self.first_norm(x)))
        if condition is not None:
            told = self.shift(silu(condition))
            y = y + np.reshape(told, (len(told), *(1,) * (len(y.shape) - 2), self.channels))
        y = self.second(self.drop(silu(self.second_norm(y))))
        return y + (x if self.shortcut is None else self.shortcut(x))


@part("pixel_attention", "layer")
class PixelAttention(Layer):
    """Each pixel, or time, looks at all others, beside a shortcut.

    Parameters
    ----------
    heads : int

    Examples
    --------
    >>> PixelAttention(2).initialise(np.ones((1, 4, 4, 8)))(np.ones((2, 4, 4, 8))).shape
    (2, 4, 4, 8)
    """

    def __init__(self, heads: int) -> None:
        self.heads = heads
        self.norm, self.attention = LayerNorm(), Attention(heads)

    def compute(self, x: Any) -> Any:
        rows = np.reshape(x, (x.shape[0], -1, x.shape[-1]))
        return x + np.reshape(self.attention(self.norm(rows)), x.shape)


@part("conditioned_dense", "layer")
class ConditionedDense(Layer):
    """Dense layers beside shortcuts, for tables and points, each told the condition.

    Parameters
    ----------
    outputs : int
    width : int
    depth : int
    dropout : float
    fourier_features : int
        Sines and cosines of each value, of so many frequencies from 1 to 32, stand beside it: fine
        structure is learned sooner (M. Tancik et al., NeurIPS 2020).

    Examples
    --------
    >>> network = ConditionedDense(2, width=8).initialise((np.ones((1, 2)), np.ones((1, 3))))
    >>> network(np.ones((5, 2)), np.ones((5, 3))).shape
    (5, 2)
    """

    def __init__(
        self,
        outputs: int,
        *,
        width: int = 128,
        depth: int = 3,
        dropout: float = 0.0,
        fourier_features: int = 0,
    ) -> None:
        if depth < 1 or fourier_features < 0:
            raise LayerError(
                f"ConditionedDense: depth is at least 1, fourier_features not "
                f"negative; got {depth}, {fourier_features}."
            )
        self.outputs, self.width, self.depth = outputs, width, depth
        self.dropout, self.fourier_features = dropout, fourier_features
        self.first = Dense(width)
        self.shifts = [Dense(width) for _ in range(depth)]
        self.inner = [Dense(width, silu) for _ in range(depth)]
        self.outer = [Dense(width) for _ in range(depth)]
        self.drop = Dropout(dropout)
        self.head = Dense(outputs)

    def compute(self, x: Any, condition: Any = None) -> Any:
        y = self.first(x if not self.fourier_features else self._with_fourier_features(x))
        for shift, inner, outer in zip(self.shifts, self.inner, self.outer, strict=True):
            told = y if condition is None else y + shift(condition)
            y = y + outer(self.drop(inner(silu(told))))
        return self.head(silu(y))

    def _with_fourier_features(self, x: Any) -> Any:
        frequencies = np.geomspace(1, 32, self.fourier_features).astype(held(x).dtype)
        angles = np.reshape(x[..., None] * frequencies, (*x.shape[:-1], -1))
        return np.concatenate([x, np.sin(angles), np.cos(angles)], axis=-1)
