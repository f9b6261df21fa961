"""Attention, and the blocks built of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from .. import kernels
from .._activations import gelu_tanh, softmax
from .._masking import zero_nonfinite
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, misfit
from ..autodiff.tensor import held
from ..errors import LayerError, ShapeError
from ..kernels.machinery.grain_sizes import RATE, TILE
from ..kernels.machinery.pool import in_parts, spans
from ..kernels.products import places
from ..parts._registry import part
from ._attention_cache import appended
from ._base import Layer
from ._dense import Dense
from ._dropout import Dropout
from ._embedding import rotated
from ._learning_pass import PASS
from ._normalisation import LayerNorm
from ._projections import projections

__all__ = ["Attention", "DecoderBlock", "TransformerBlock"]

HIDDEN = -1e9  # score of a place that may not be seen: far below any other, and finite


def _split(x: Any, heads: int) -> Any:
    """Heads apart: (batch, heads, time, width of a head)."""
    return np.swapaxes(np.reshape(x, (*x.shape[:2], heads, x.shape[2] // heads)), 1, 2)


def _merged(x: Any) -> Any:
    """Heads side by side again."""
    batch, heads, time, each = x.shape
    return np.reshape(np.swapaxes(x, 1, 2), (batch, time, heads * each))


def _definition(
    q: Any, k: Any, v: Any, *, heads: int, hidden: np.ndarray | None, factors: np.ndarray | None
) -> Any:
    weights = _weights(q, k, heads, hidden)
    mean = np.matmul(weights if factors is None else weights * factors, _split(v, heads))
    return _merged(mean)


def _weights(q: Any, k: Any, heads: int, hidden: np.ndarray | None) -> Any:
    """What each place counts in the mean: (batch, heads, time, places)."""
    q, k = (_split(x, heads) for x in (q, k))
    scores = np.matmul(q * q.shape[-1] ** -0.5, np.swapaxes(k, -1, -2))
    if hidden is not None:
        scores = np.where(hidden[:, None], HIDDEN, scores)
    return softmax(scores)


def _is_finite(x: Any) -> bool:
    flat = np.ravel(held(x))
    return bool(np.isfinite(np.dot(flat, flat)) or np.isfinite(flat).all())


def _visible_only(
    q: Any, k: Any, v: Any, *, heads: int, hidden: np.ndarray, factors: np.ndarray | None
) -> Any:
    """The same where keys or values are not finite: they reach the places that see them, and no
    other, whereas 0 times NaN is NaN.
    """
    sound = [np.isfinite(held(part)) for part in (k, v)]
    bad = ~(sound[0].all(axis=-1) & sound[1].all(axis=-1))
    k, v = (np.where(good, part, 0.0) for good, part in zip(sound, (k, v), strict=True))
    out = _definition(q, k, v, heads=heads, hidden=hidden, factors=factors)
    seen = np.any(~hidden & bad[:, None, :], axis=-1)
    return np.where(seen[..., None], np.nan, out)


def _is_hidden(mask: Any) -> np.ndarray | None:
    """Places that nobody looks at; of several texts in a row there are none."""
    given = np.asarray(held(mask))
    return None if given.dtype.kind in "iu" else ~given.astype(bool)


def _pairs(q: Any, k: Any, heads: int) -> list[tuple[int, int]]:
    """Sequences and heads, in parts."""
    return spans(
        q.shape[0] * heads, each=4 * q.shape[1] * k.shape[1] * (1 + q.shape[2] // (heads * RATE))
    )


def _lie(q: np.ndarray, k: np.ndarray, heads: int) -> list[np.ndarray]:
    """Where rows of a head begin, in queries and in weights, and where elements lie in rows of
    either.
    """
    (_, time, width), n_keys = q.shape, k.shape[1]
    by_width, along = places(time, width)
    by_places, across = places(time, n_keys)
    return [by_width, by_places, along[: width // heads], across]


def _forward(
    q: Any, k: Any, v: Any, *, heads: int, hidden: np.ndarray | None, factors: np.ndarray | None
) -> tuple[Any, Any]:
    q, k, v = (np.ascontiguousarray(x, q.dtype) for x in (q, k, v))
    batch, time, width = q.shape
    weights, out = np.empty((batch, heads, time, k.shape[1]), q.dtype), np.empty(q.shape, q.dtype)
    shown = np.zeros((0, 0, 0), bool) if hidden is None else np.ascontiguousarray(hidden)
    scaled = np.zeros((0, 0, 0, 0), q.dtype) if factors is None else np.ascontiguousarray(factors)
    lie = _lie(q, k, heads)
    numbers = [q.dtype.type(number) for number in ((width // heads) ** -0.5, HIDDEN)]

    def compute(start: int, stop: int) -> None:
        kernels.attention.attend(
            q, k, v, shown, scaled, weights, out, *lie, heads, *numbers, start, stop
        )

    in_parts(compute, _pairs(q, k, heads))
    return out, (q, k, v, shown, scaled, weights)


def _adjoint_into(found: Sequence[np.ndarray], g: Any, saved: Any, heads: int) -> None:
    q, k, v, shown, scaled, weights = saved
    g = np.ascontiguousarray(g, q.dtype)
    lie = _lie(q, k, heads)
    scale = q.dtype.type((q.shape[2] // heads) ** -0.5)

    def compute(start: int, stop: int) -> None:
        kernels.attention.attend_adjoint(
            g, q, k, v, shown, scaled, weights, *found, *lie, heads, scale, start, stop
        )

    in_parts(compute, _pairs(q, k, heads))


def _adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    result = [np.empty(x.shape, x.dtype) for x in saved[:3]]
    _adjoint_into(result, g, saved, options["heads"])
    return [cotangent if want else None for cotangent, want in zip(result, wanted, strict=True)]


def _stacked_adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    result = np.empty(inputs[0].shape, inputs[0].dtype)
    _adjoint_into(list(result), g, saved, options["heads"])
    return [result]


def _check_heads(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    batch, time, keys, heads = (
        sizes["batch"],
        sizes["time"],
        sizes.get("keys", sizes["time"]),
        options["heads"],
    )
    if heads < 1 or sizes["width"] % heads or not sizes["width"] or not keys:
        raise misfit(
            "attention",
            f"{heads} heads do not divide a width of {sizes['width']} evenly, or there are no "
            f"keys ({keys}).",
        )
    hidden, factors = options["hidden"], options["factors"]
    if hidden is not None and (
        hidden.dtype != bool
        or hidden.ndim != 3
        or any(
            n not in own
            for n, own in zip(hidden.shape, ((1, batch), (1, time), (keys,)), strict=True)
        )
    ):
        raise misfit(
            "attention",
            f"what is hidden has shape {hidden.shape} and dtype {hidden.dtype}, expected bool "
            f"{(batch, time, keys)}.",
        )
    if factors is not None and (
        factors.shape != (batch, heads, time, keys) or factors.dtype != arrays[0].dtype
    ):
        raise misfit(
            "attention",
            f"the factors have shape {factors.shape} and dtype {factors.dtype}, expected "
            f"{(batch, heads, time, keys)}.",
        )


def _is_large_enough(sizes: Mapping[str, Any], options: Mapping[str, Any]) -> bool:
    return bool(
        min(sizes["time"], sizes.get("keys", TILE), sizes["width"] // options["heads"]) >= TILE
    )


attend = Fused(
    "attention",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(
        also=_check_heads,
        suits=_is_large_enough,
        query="batch time width",
        key="batch keys width",
        value="batch keys width",
    ),
)
attend_stacked = Fused(
    "stacked attention",
    definition=lambda stack, **options: _definition(stack[0], stack[1], stack[2], **options),
    forward=lambda stack, **options: _forward(*stack, **options),
    adjoint=_stacked_adjoint,
    form=Signature(also=_check_heads, suits=_is_large_enough, stack="3 batch time width"),
)


@part("attention", "layer")
class Attention(Layer):
    """Each place looks at all places of a sequence and takes a weighted mean of them, in several
    heads.

    A. Vaswani et al., "Attention Is All You Need", 2017, equation 1 and section 3.2.2.

    Parameters
    ----------
    heads : int
        Has to divide the width.
    causal : bool
        A place sees itself and earlier ones only.
    rotary : bool
        Turn queries and keys by their places.
    dropout : float
        Of the weights of the mean.

    Raises
    ------
    LayerError
        If the heads do not divide the width.
    ShapeError
        If a mask hides all of a sequence.

    Examples
    --------
    >>> layer = Attention(2).initialise(np.ones((1, 5, 8)))
    >>> layer(np.ones((3, 5, 8))).shape
    (3, 5, 8)
    """

    axes = "batch time width"

    def __init__(
        self, heads: int, *, causal: bool = False, rotary: bool = False, dropout: float = 0.0
    ) -> None:
        if heads < 1:
            raise LayerError(f"Attention: heads must be at least 1, got {heads}.")
        self.heads, self.causal, self.rotary, self.dropout = heads, causal, rotary, dropout
        self.drop = Dropout(dropout)
        self.query: Any = None
        self.key: Any = None
        self.value: Any = None
        self.out: Any = None

    def declare(self, shape: tuple[int, ...]) -> None:
        width = shape[-1]
        if width % self.heads:
            raise LayerError(
                f"{self._label}: {self.heads} heads do not divide a width of {width} evenly."
            )
        if self.rotary and (width // self.heads) % 2:
            raise LayerError(
                f"{self._label}: rotary places need an even width a head, got "
                f"{width // self.heads}."
            )
        self.query, self.key, self.value, self.out = (Dense(width) for _ in range(4))
        self._set_paths(self.path)

    def compute(
        self,
        x: Any,
        source: Any = None,
        mask: Any = None,
        cache: dict[str, Any] | None = None,
        values: Any = None,
    ) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, width)
            What looks.
        source : shape (batch, other time, other width), optional
            What is looked at; `x` itself by default.
        mask : shape (batch, other time), optional
            False where there is nothing to be looked at. Whole numbers say to which of several
            texts in a row a place belongs: places see those of their own text only.
        cache : dict, optional
            Keys and values seen so far, for generating step by step: begin with an empty one, and
            hand in new places only. Those of a `source` are computed once.
        values : shape (batch, other time, any width), optional
            What the mean is taken of; what is looked at by default.
        """
        if source is None and values is not None:
            raise ShapeError(f"{self._label}: values belong to a source; give both.")
        if mask is not None:
            hidden = _is_hidden(mask)
            if source is None:
                x = zero_nonfinite(x, hidden)
            else:
                source = zero_nonfinite(source, hidden)
                values = values if values is None else zero_nonfinite(values, hidden)
        if self._is_plain(x, source, cache):
            self.query.check_input(x)
            weights = (
                weight
                for layer in (self.query, self.key, self.value)
                for weight in (layer.weight, layer.bias)
            )
            return self._attended(
                attend_stacked, [projections(x, *weights)], x, x.shape[1], mask, 0
            )
        seen = x if source is None else source
        if source is not None and mask is not None:
            mask = np.asarray(held(mask)).astype(bool)
        self._check_source(x, seen, "what is looked at")
        if values is not None:
            self._check_source(x, values, "what the mean is taken of")
            if values.shape[1] != seen.shape[1]:
                raise ShapeError(
                    f"{self._label}: {values.shape[1]} values for {seen.shape[1]} places that are "
                    "looked at."
                )
        if source is not None and cache:
            return self._attended(
                attend,
                [self.query(x), cache["key"], cache["value"]],
                x,
                cache["key"].shape[1],
                mask,
                0,
            )
        start = cache["key"].shape[1] if cache else 0
        query, key = self.query(x), self.key(seen)
        value = self.value(seen if values is None else values)
        if self.rotary:
            query, key = (
                _merged(rotated(_split(part, self.heads), start=start)) for part in (query, key)
            )
        if cache is not None:
            key, value = appended(cache, "key", key), appended(cache, "value", value)
        return self._attended(attend, [query, key, value], x, key.shape[1], mask, start)

    def _check_source(self, x: Any, source: Any, what: str) -> None:
        if np.ndim(source) != 3 or source.shape[0] != x.shape[0] or not source.shape[1]:
            raise ShapeError(
                f"{self._label}: {what} has shape {np.shape(source)}, expected ({x.shape[0]}, "
                "other time, width): as many sequences, at least one place."
            )

    def _attended(
        self,
        compute: Callable[..., Any],
        inputs: Sequence[Any],
        x: Any,
        n_keys: int,
        mask: Any,
        start: int,
    ) -> Any:
        shape = (x.shape[0], self.heads, x.shape[1], n_keys)
        hidden, factors = self._hidden(shape, mask, start), self.drop.factors(shape, x.dtype)
        options: dict[str, Any] = {"heads": self.heads, "hidden": hidden, "factors": factors}
        if PASS.attention is not None:
            parts = inputs if len(inputs) == 3 else [inputs[0][i] for i in range(3)]
            PASS.attention[self.path] = held(_weights(parts[0], parts[1], self.heads, hidden))
        if hidden is not None and not all(_is_finite(part) for part in inputs):
            parts = inputs if len(inputs) == 3 else [inputs[0][i] for i in range(3)]
            return self.out(_visible_only(*parts, **options))
        return self.out(compute(*inputs, **options))

    def _is_plain(self, x: Any, source: Any, cache: Any) -> bool:
        """Whether queries, keys and values may be computed as one operation."""
        if (
            not PASS.merged
            or PASS.observer is not None
            or source is not None
            or cache is not None
            or self.rotary
        ):
            return False
        layers = (self.query, self.key, self.value)
        if any(
            type(layer) is not Dense
            or layer.activation is not None
            or layer.weight.dtype != x.dtype
            for layer in layers
        ):
            return False
        return bool(min(x.shape[1], x.shape[2] // self.heads) >= TILE)

    def _hidden(self, shape: tuple[int, ...], mask: Any, start: int) -> np.ndarray | None:
        """Where nothing may be looked at: (batch or 1, time or 1, other time)."""
        hidden = None
        if self.causal and shape[-2] > 1:  # a single place is the last one, and sees all
            hidden = (
                np.arange(shape[-1])[None, None, :]
                > np.arange(start, start + shape[-2])[None, :, None]
            )
        if mask is not None:
            given = np.asarray(held(mask))
            if given.shape != (shape[0], shape[-1]):
                raise ShapeError(
                    f"{self._label}: the mask has shape {given.shape}, expected "
                    f"{(shape[0], shape[-1])}."
                )
            if given.dtype.kind in "iu":
                absent = given[:, None, :] != given[:, -shape[-2] :, None]
            else:
                present = given.astype(bool)
                empty = np.flatnonzero(~present.any(axis=1))
                if empty.size:
                    raise ShapeError(
                        f"{self._label}: the mask hides all of sequence {empty[0]}, so there is "
                        "nothing to look at."
                    )
                absent = ~present[:, None, :]
            hidden = absent if hidden is None else hidden | absent
        return hidden

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return 2 * shape[0] * shape[1] * shape[1] * shape[2]


@part("transformer_block", "layer")
class TransformerBlock(Layer):
    """Attention and two dense layers, each with a way around it and a normalisation.

    A. Vaswani et al. 2017, figure 1, left; normalised before each part as in R. Xiong et al., "On
    Layer Normalization in the Transformer Architecture", 2020, figure 1b, or after it as in the
    original.

    Parameters
    ----------
    heads : int
    expansion : int
        Width of the inner dense layer, as a multiple of the block's.
    causal, rotary : bool
        See `Attention`.
    dropout : float
    norm_first : bool
        Normalise before each part, or after it.
    activation : callable

    Examples
    --------
    >>> TransformerBlock(2).initialise(np.ones((1, 5, 8)))(np.ones((3, 5, 8))).shape
    (3, 5, 8)
    """

    axes = "batch time width"

    def __init__(
        self,
        heads: int,
        *,
        expansion: int = 4,
        causal: bool = False,
        rotary: bool = False,
        dropout: float = 0.0,
        norm_first: bool = True,
        activation: Callable[..., Any] = gelu_tanh,
    ) -> None:
        self.attention = Attention(heads, causal=causal, rotary=rotary, dropout=dropout)
        self.norms = [LayerNorm(), LayerNorm()]
        self.drops = [Dropout(dropout), Dropout(dropout)]
        self.heads, self.causal, self.rotary, self.dropout = heads, causal, rotary, dropout
        self.expansion, self.norm_first, self.activation = expansion, norm_first, activation
        self.inner: Any = None
        self.outer: Any = None

    def declare(self, shape: tuple[int, ...]) -> None:
        self.inner, self.outer = (
            Dense(self.expansion * shape[-1], self.activation),
            Dense(shape[-1]),
        )
        self._set_paths(self.path)

    def compute(
        self,
        x: Any,
        mask: Any = None,
        cache: dict[str, Any] | None = None,
        between: Callable[[Any], Any] | None = None,
    ) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, width)
        mask, cache : optional
            See `Attention.compute`.
        between : callable, optional
            What is done after the attention, before the dense layers.
        """
        if mask is not None:
            x = zero_nonfinite(x, _is_hidden(mask))
        x = self._around(0, x, lambda y: self.attention(y, None, mask, cache))
        if between is not None:
            x = between(x)
        return self._around(1, x, lambda y: self.outer(self.inner(y)))

    def _around(self, number: int, x: Any, part: Callable[[Any], Any]) -> Any:
        norm, drop = self.norms[number], self.drops[number]
        return x + drop(part(norm(x))) if self.norm_first else norm(x + drop(part(x)))


@part("decoder_block", "layer")
class DecoderBlock(Layer):
    """A causal transformer block that also looks at an encoder's result: Vaswani et al. 2017,
    figure 1, right.

    Called as ``block(x, source)``, with masks of either and caches for both. Parameters as for
    `TransformerBlock`.

    Examples
    --------
    >>> block = DecoderBlock(2).initialise((np.ones((1, 5, 8)), np.ones((1, 7, 8))))
    >>> block(np.ones((3, 5, 8)), np.ones((3, 7, 8))).shape
    (3, 5, 8)
    """

    axes = "batch time width"

    def __init__(
        self, heads: int, *, expansion: int = 4, dropout: float = 0.0, norm_first: bool = True
    ) -> None:
        self.own = TransformerBlock(
            heads, expansion=expansion, causal=True, dropout=dropout, norm_first=norm_first
        )
        self.across = Attention(heads, dropout=dropout)
        self.norm = LayerNorm()
        self.drop = Dropout(dropout)
        self.heads, self.expansion, self.dropout, self.norm_first = (
            heads,
            expansion,
            dropout,
            norm_first,
        )

    def compute(
        self,
        x: Any,
        source: Any,
        mask: Any = None,
        source_mask: Any = None,
        cache: dict[str, dict[str, Any]] | None = None,
    ) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, width)
        source : shape (batch, source time, width)
        mask, source_mask : optional
            See `Attention.compute`.
        cache : dict, optional
            Of what was written, ``"own"``, and of the source, ``"across"``: two empty dicts at
            first.
        """
        caches = cache if cache is not None else {"own": None, "across": None}

        def across(y: Any) -> Any:
            looked = self.across(
                self.norm(y) if self.norm_first else y, source, source_mask, caches["across"]
            )
            return y + self.drop(looked) if self.norm_first else self.norm(y + self.drop(looked))

        return self.own(x, mask, caches["own"], across)
