"""Embeddings of tokens, and of their places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature
from ..autodiff.tensor import held
from ..autodiff.tracking import STATE
from ..errors import DataError, LayerError, ShapeError
from ..initialisers import Initialiser, unit_normal
from ..kernels.machinery.pool import in_parts, over_rows, spans
from ..parts._registry import part
from ._base import Layer

__all__ = ["Embedding", "Positions", "check_tokens", "places_of", "rotated"]


def _definition(weight: Any, ids: Any) -> Any:
    return weight[ids]


def _forward(weight: Any, ids: Any) -> tuple[Any, Any]:
    flat, rows = ids.reshape(-1), np.empty((ids.size, weight.shape[1]), weight.dtype)
    over_rows(lambda own, numbers: kernels.embedding.take_rows(weight, numbers, own), [rows, flat])
    return rows.reshape(*ids.shape, weight.shape[1]), None


def _adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    weight, ids = inputs
    g_weight = places[0] if places[0] is not None else np.empty(weight.shape, weight.dtype)
    flat, rows = ids.reshape(-1), np.ascontiguousarray(g).reshape(ids.size, weight.shape[1])

    def compute(start: int, stop: int) -> None:
        g_weight[start:stop].fill(0)
        kernels.embedding.add_rows(g_weight, flat, rows, start, stop)

    in_parts(compute, spans(len(weight), each=weight.shape[1]))
    return [g_weight, None]


def _check_tokens(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    check_tokens(arrays[1], sizes["count"])


def check_tokens(ids: np.ndarray, count: int) -> None:
    """
    Raises
    ------
    DataError
        If a token is out of range: which, and where.
    """
    if ids.size and (ids.min() < 0 or ids.max() >= count):
        place = tuple(int(i) for i in np.argwhere((ids < 0) | (ids >= count))[0])
        here = STATE.now.place or "embedding"
        raise DataError(
            f"{here} (Embedding): token {ids[place]} at {place} is out of range: there are tokens "
            f"0 to {count - 1}."
        )


lookup = Fused(
    "embedding",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(also=_check_tokens, weight="count width", ids="whole *n"),
)


@part("embedding", "layer")
class Embedding(Layer):
    """A vector for each token: whole numbers of any shape to ``(*shape, width)``.

    Parameters
    ----------
    count : int
        How many tokens there are.
    width : int
    padding : int, optional
        Token whose vector is zero and stays so.
    initialiser : initialiser, optional
        Normal of variance ``1 / width`` by default.

    Attributes
    ----------
    weight : Tensor, shape (count, width)

    Raises
    ------
    DataError
        If a token is out of range: which, and where.

    Examples
    --------
    >>> layer = Embedding(3, 2, initialiser=vs.initialisers.ones, padding=0).initialise(
    ...     np.array([[0, 1]])
    ... )
    >>> layer(np.array([[0, 2]])).array
    array([[[0., 0.],
            [1., 1.]]], dtype=float32)
    """

    takes_tokens = True
    weight: Any

    def __init__(
        self,
        count: int,
        width: int,
        *,
        padding: int | None = None,
        initialiser: Initialiser = unit_normal,
    ) -> None:
        if count < 1 or width < 1:
            raise LayerError(
                f"Embedding: count and width must be at least 1, got {count} and {width}."
            )
        if padding is not None and not 0 <= padding < count:
            raise LayerError(
                f"Embedding: padding must be a token from 0 to {count - 1}, got {padding}."
            )
        self.count, self.width, self.padding, self.initialiser = count, width, padding, initialiser

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter("weight", (self.count, self.width), self.initialiser)

    def compute(self, ids: Any) -> Any:
        ids = np.asarray(held(ids))
        if ids.dtype.kind not in "iu":
            raise DataError(
                f"{self._label}: tokens have to be whole numbers, got {ids.dtype}. Use "
                "ids.astype(int)."
            )
        vectors = self.vectors(ids)
        return (
            vectors
            if self.padding is None
            else vectors * (ids != self.padding)[..., None].astype(vectors.dtype)
        )

    def vectors(self, ids: np.ndarray) -> Any:
        """Of tokens, padding not yet left out."""
        return lookup(self.weight, ids)

    def logits(self, x: Any) -> Any:
        """Products with the vectors of all tokens: output weights that are those of the embedding.

        See [1]_, section 3.

        Parameters
        ----------
        x : shape (..., width)

        Returns
        -------
        logits : shape (..., count)

        References
        ----------
        .. [1] O. Press and L. Wolf, "Using the Output Embedding to Improve Language Models", EACL
           2017, section 3.
        """
        return np.matmul(x, np.swapaxes(self.weight, 0, 1))


@part("positions", "layer")
class Positions(Layer):
    """Adds to each vector of a sequence one for its place: ``(batch, time, width)``.

    Parameters
    ----------
    form : {"sine", "learned"}
        Sines and cosines of geometrically rising wavelengths (A. Vaswani et al., "Attention Is All
        You Need", 2017, section 3.5), or a parameter for each place up to `longest`.
    longest : int
        Longest sequence of learned positions.

    Raises
    ------
    ShapeError
        If a sequence is longer than `longest`.

    Examples
    --------
    >>> Positions().initialise(np.zeros((1, 2, 4)))(np.zeros((1, 2, 4)))[0, 1].round(3)
    array([0.841, 0.01 , 0.54 , 1.   ], dtype=float32)
    """

    axes = "batch time width"
    table: Any

    def __init__(self, form: Literal["sine", "learned"] = "sine", *, longest: int = 512) -> None:
        if form not in ("sine", "learned"):
            raise LayerError(f'Positions: form must be "sine" or "learned", got {form!r}.')
        self.form, self.longest = form, longest

    def declare(self, shape: tuple[int, ...]) -> None:
        if len(shape) != 3:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, time, width), got {shape}."
            )
        if self.form == "learned":
            self.parameter("table", (self.longest, shape[-1]), unit_normal)

    def compute(self, x: Any, places: Any = 0) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, width)
        places : int, or array of int of shape (batch, time)
            Place of the first vector, or of each.
        """
        if np.ndim(places) == 0:
            stop = int(places) + x.shape[1]
            return (
                x
                + (
                    _waves(stop, x.shape[-1], x.dtype)
                    if self.form == "sine"
                    else self._learned(stop)[:stop]
                )[stop - x.shape[1] :]
            )
        stop = int(np.max(places, initial=0)) + 1
        if self.form == "sine":
            return x + _waves(stop, x.shape[-1], x.dtype)[places]
        return x + lookup(self._learned(stop), np.asarray(places))

    def _learned(self, stop: int) -> Any:
        if stop > self.longest:
            raise ShapeError(
                f"{self._label}: place {stop} is beyond the longest learned, {self.longest}. Make "
                "longest= larger."
            )
        return self.table


def places_of(mask: Any, time: int, start: int = 0) -> Any:
    """The places of the last so many vectors, shape (batch, time), each counted from the begin of
    its text; of the first, without a mask.

    Parameters
    ----------
    start : int
        How many came before them.
    mask : array, shape (batch, all time so far), optional
        False, or 0, for places that belong to no text; whole numbers say to which text of the row a
        place belongs.
    """
    if mask is None:
        return start
    held_mask = np.asarray(held(mask))
    if held_mask.dtype == bool:
        return np.asarray(np.maximum(np.cumsum(held_mask, axis=1) - 1, 0)[:, -time:])
    along = np.arange(held_mask.shape[1])
    begins = np.ones(held_mask.shape, bool)
    begins[:, 1:] = held_mask[:, 1:] != held_mask[:, :-1]
    return np.asarray(
        (along - np.maximum.accumulate(np.where(begins, along, 0), axis=1))[:, -time:]
    )


def _angles(stop: int, width: int, start: int = 0) -> np.ndarray:
    half = (width + 1) // 2
    return np.arange(start, stop)[:, None] / 10_000.0 ** (np.arange(half)[None, :] / max(half, 1))


def _waves(n: int, width: int, dtype: Any) -> np.ndarray:
    """Sines in the first half, cosines in the second."""
    angles = _angles(n, width)
    return np.concatenate([np.sin(angles), np.cos(angles)], axis=1)[:, :width].astype(dtype)


def rotated(x: Any, *, start: int = 0) -> Any:
    """Pairs of features transposed by angles that rise with the place, so that products depend on
    distances only.

    J. Su et al., "RoFormer: Enhanced Transformer with Rotary Position Embedding", 2021, equation
    34; a feature of the first half is paired with its counterpart in the second.

    Parameters
    ----------
    x : array or Tensor, shape (..., time, width)
        An even width.
    start : int
        Place of the first.
    """
    half = x.shape[-1] // 2
    if 2 * half != x.shape[-1]:
        raise ShapeError(f"rotated: the width has to be even, got {x.shape[-1]}.")
    angles = _angles(start + x.shape[-2], x.shape[-1], start)
    cosine, sine = np.cos(angles).astype(x.dtype), np.sin(angles).astype(x.dtype)
    first, second = x[..., :half], x[..., half:]
    return np.concatenate([first * cosine - second * sine, second * cosine + first * sine], axis=-1)
