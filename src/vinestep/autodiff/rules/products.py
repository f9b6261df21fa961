"""Rules of the products: matmul in all its broadcasts, einsum in all its subscripts, and what is
built of them.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from ...errors import DifferentiationError
from ...kernels import products
from ..broadcasting import unbroadcast
from ..registry import Rule, implements
from ..tensor import Tensor, apply

__all__ = ["matmul"]

LETTERS = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"


def _swap(x: Any) -> Any:
    return np.swapaxes(x, -1, -2)


def _product(a: Any, b: Any, out: np.ndarray | None = None) -> Any:
    """``np.matmul(a, b)`` of Tensors, recorded, or of arrays."""
    if isinstance(a, Tensor) or isinstance(b, Tensor):
        return np.matmul(a, b)
    return products.matmul(a, b, out)


def _matmul_left(g: Any, y: Any, a: Any, b: Any) -> Any:
    if b.ndim == 1:
        return unbroadcast(np.expand_dims(g, -1) * b, a.shape)
    if a.ndim == 1:
        return unbroadcast(np.matmul(b, np.expand_dims(g, -1))[..., 0], a.shape)
    return unbroadcast(_product(g, _swap(b)), a.shape)


def _as_rows(x: Any) -> Any:
    """As a matrix of the last axis, which may be empty, so that -1 would not say how many rows."""
    return np.reshape(x, (math.prod(x.shape[:-1]), x.shape[-1]))


def _matmul_right(g: Any, y: Any, a: Any, b: Any, place: np.ndarray | None = None) -> Any:
    if a.ndim == 1:
        if b.ndim == 1:
            return g * a
        return unbroadcast(np.expand_dims(a, -1) * np.expand_dims(g, -2), b.shape)
    if b.ndim == 1:
        return unbroadcast(np.matmul(np.expand_dims(g, -2), a)[..., 0, :], b.shape)
    if b.ndim == 2:
        # one product over all leading axes, rather than a stack of products that is then summed
        return _product(_as_rows(a).T, _as_rows(g), place)
    return unbroadcast(_product(_swap(a), g), b.shape)


class _Matmul(Rule):
    """The cotangent of a weight, which is as large as the weight, is written where it is wanted."""

    __slots__ = ()

    writes_into_places = True

    def pull_into(
        self,
        g: Any,
        y: Any,
        inputs: Sequence[Any],
        options: dict[str, Any],
        wanted: Sequence[bool],
        places: Sequence[np.ndarray | None],
    ) -> list[Any]:
        a, b = inputs
        fits = (
            places[1] is not None
            and places[1].dtype == a.dtype == g.dtype
            and a.ndim > 1
            and b.ndim == 2
        )
        return [
            _matmul_left(g, y, a, b) if wanted[0] else None,
            _matmul_right(g, y, a, b, places[1] if fits else None) if wanted[1] else None,
        ]


_matmul = _Matmul("matmul", products.matmul, (_matmul_left, _matmul_right), keeps="x")


@implements(np.matmul, np.linalg.matmul)
def matmul(a: Any, b: Any, /) -> Any:
    return apply(_matmul, (_array(a), _array(b)), {})


def _array(x: Any) -> Any:
    return x if isinstance(x, Tensor) else np.asarray(x)


@implements(np.dot)
def dot(a: Any, b: Any, out: None = None) -> Any:
    if np.ndim(a) == 0 or np.ndim(b) == 0:
        return np.multiply(a, b)
    if np.ndim(b) <= 2:
        return np.matmul(a, b)
    return np.tensordot(a, b, axes=([np.ndim(a) - 1], [np.ndim(b) - 2]))


@implements(np.vdot)
def vdot(a: Any, b: Any, /) -> Any:
    return np.matmul(np.ravel(a), np.ravel(b))


@implements(np.vecdot, np.linalg.vecdot)
def vecdot(x1: Any, x2: Any, /, *, axis: int = -1) -> Any:
    return np.sum(np.multiply(x1, x2), axis=axis)


@implements(np.matvec)
def matvec(x1: Any, x2: Any, /) -> Any:
    return np.matmul(x1, np.expand_dims(x2, -1))[..., 0]


@implements(np.vecmat)
def vecmat(x1: Any, x2: Any, /) -> Any:
    return np.matmul(np.expand_dims(x1, -2), x2)[..., 0, :]


@implements(np.inner)
def inner(a: Any, b: Any, /) -> Any:
    if np.ndim(a) == 0 or np.ndim(b) == 0:
        return np.multiply(a, b)
    return np.tensordot(a, b, axes=([np.ndim(a) - 1], [np.ndim(b) - 1]))


@implements(np.outer, np.linalg.outer)
def outer(a: Any, b: Any, out: None = None) -> Any:
    return np.multiply(np.reshape(a, (-1, 1)), np.reshape(b, (1, -1)))


@implements(np.tensordot, np.linalg.tensordot)
def tensordot(a: Any, b: Any, axes: Any = 2) -> Any:
    a, b = _array(a), _array(b)
    if isinstance(axes, int | np.integer):
        left, right = tuple(range(a.ndim - int(axes), a.ndim)), tuple(range(int(axes)))
    else:
        left, right = (
            tuple(i % x.ndim for i in ((part,) if isinstance(part, int | np.integer) else part))
            for part, x in zip(axes, (a, b), strict=True)
        )
    free_a = [i for i in range(a.ndim) if i not in left]
    free_b = [i for i in range(b.ndim) if i not in right]
    n = int(np.prod([a.shape[i] for i in left], dtype=np.int64))
    rows = np.reshape(
        np.transpose(a, (*free_a, *left)),
        (int(np.prod([a.shape[i] for i in free_a], dtype=np.int64)), n),
    )
    columns = np.reshape(
        np.transpose(b, (*right, *free_b)),
        (n, int(np.prod([b.shape[i] for i in free_b], dtype=np.int64))),
    )
    return np.reshape(
        np.matmul(rows, columns), [a.shape[i] for i in free_a] + [b.shape[i] for i in free_b]
    )


@implements(np.linalg.multi_dot)
def multi_dot(arrays: Sequence[Any], *, out: None = None) -> Any:
    result = arrays[0]
    for array in arrays[1:]:
        result = np.matmul(result, array)
    return result


@implements(np.kron)
def kron(a: Any, b: Any) -> Any:
    ndim = max(np.ndim(a), np.ndim(b))
    a = np.reshape(a, (1,) * (ndim - np.ndim(a)) + np.shape(a))
    b = np.reshape(b, (1,) * (ndim - np.ndim(b)) + np.shape(b))
    spread_a = np.expand_dims(a, tuple(range(1, 2 * ndim, 2)))
    spread_b = np.expand_dims(b, tuple(range(0, 2 * ndim, 2)))
    return np.reshape(spread_a * spread_b, [m * n for m, n in zip(a.shape, b.shape, strict=True)])


@implements(np.cross, np.linalg.cross)
def cross(
    a: Any, b: Any, axisa: int = -1, axisb: int = -1, axisc: int = -1, axis: Any = None
) -> Any:
    if axis is not None:
        axisa = axisb = axisc = axis
    a, b = np.moveaxis(a, axisa, -1), np.moveaxis(b, axisb, -1)
    if a.shape[-1] != 3 or b.shape[-1] != 3:
        raise DifferentiationError(
            f"np.cross needs vectors of 3 components, got {a.shape[-1]} and {b.shape[-1]}. Add a "
            "zero component."
        )
    cyclic = [1, 2, 0]
    result = (a * b[..., cyclic] - a[..., cyclic] * b)[..., cyclic]
    return np.moveaxis(result, -1, axisc)


@implements(np.convolve)
def convolve(a: Any, v: Any, mode: str = "full") -> Any:
    """As a product with the windows of the padded longer line."""
    if np.size(v) > np.size(a):
        a, v = v, a
    n, m = np.size(a), np.size(v)
    windows = np.arange(n + m - 1)[:, None] + np.arange(m)[None, :]
    full = np.matmul(np.pad(a, (m - 1, m - 1))[windows], np.flip(v))
    start, length = {
        "full": (0, n + m - 1),
        "same": ((m - 1) // 2, n),
        "valid": (m - 1, n - m + 1),
    }[mode]
    return full[start : start + length]


# einsum


def _parsed(operands: tuple[Any, ...]) -> tuple[list[str], str, list[Any]]:
    """Subscripts a letter an axis, ellipses spelled out, output made explicit."""
    if not isinstance(operands[0], str):
        operands = _with_subscripts(operands)
    text, arrays = operands[0].replace(" ", ""), [_array(x) for x in operands[1:]]
    left, arrow, right = text.partition("->")
    terms = left.split(",")
    if len(terms) != len(arrays):
        raise DifferentiationError(
            f"np.einsum: {operands[0]!r} names {len(terms)} operands, {len(arrays)} were given."
        )
    spare = [c for c in LETTERS if c not in text]
    longest = max(
        (
            x.ndim - len(t.replace("...", ""))
            for t, x in zip(terms, arrays, strict=True)
            if "..." in t
        ),
        default=0,
    )
    dots = "".join(spare[:longest])
    terms = [
        t.replace("...", dots[longest - (x.ndim - len(t.replace("...", ""))) :])
        for t, x in zip(terms, arrays, strict=True)
    ]
    if arrow:
        output = right.replace("...", dots)
    else:
        letters = "".join(terms)
        output = dots + "".join(
            sorted(c for c in set(letters) if letters.count(c) == 1 and c not in dots)
        )
    return terms, output, arrays


def _with_subscripts(operands: tuple[Any, ...]) -> tuple[Any, ...]:
    """The form with lists of axis numbers, as the one with letters."""
    arrays, lists = list(operands[0::2]), list(operands[1::2])
    output = arrays.pop() if len(operands) % 2 else None

    def text(axes: Any) -> str:
        return "".join("..." if axis is Ellipsis else LETTERS[axis] for axis in axes)

    return (",".join(map(text, lists)) + ("" if output is None else f"->{text(output)}"), *arrays)


def _without_repeats(term: str, x: Any) -> tuple[str, Any]:
    """``ii`` read as the diagonal, so that every letter of an operand stands once."""
    for letter in dict.fromkeys(term):
        while term.count(letter) > 1:
            first = term.index(letter)
            second = term.index(letter, first + 1)
            x = np.diagonal(x, axis1=first, axis2=second)
            term = "".join(c for i, c in enumerate(term) if i not in (first, second)) + letter
    return term, x


class _Einsum(Rule):
    __slots__ = ()

    def pull(
        self, g: Any, y: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        return [
            self._cotangent(g, inputs, options["terms"], options["output"], i) if want else None
            for i, want in enumerate(wanted)
        ]

    @staticmethod
    def _cotangent(
        g: Any, inputs: Sequence[Any], terms: list[str], output: str, position: int
    ) -> Any:
        """The output and the other operands contracted to this operand's letters."""
        term, x = terms[position], inputs[position]
        others = [
            (t, v) for i, (t, v) in enumerate(zip(terms, inputs, strict=True)) if i != position
        ]
        available = set(output).union(*(t for t, _ in others))
        kept = "".join(c for c in term if c in available)
        subscripts = ",".join([output, *(t for t, _ in others)]) + "->" + kept
        partial = np.einsum(subscripts, g, *(v for _, v in others), optimize=len(others) > 0)
        lengths = dict(zip(kept, partial.shape, strict=True))
        partial = np.reshape(partial, [lengths.get(c, 1) for c in term])
        full = tuple(
            max(lengths.get(c, 1), n) if n else 0 for c, n in zip(term, x.shape, strict=True)
        )
        return unbroadcast(np.broadcast_to(partial, full), x.shape)


_einsum = _Einsum(
    "einsum",
    lambda *arrays, terms, output, optimize: np.einsum(
        ",".join(terms) + "->" + output, *arrays, optimize=optimize
    ),
    (),
    keeps="x",
)


@implements(np.einsum)
def einsum(*operands: Any, optimize: Any = False, out: None = None, **options: Any) -> Any:
    if options:
        raise DifferentiationError(
            f"np.einsum with {', '.join(options)}= has no derivative rule; leave it out."
        )
    terms, output, arrays = _parsed(operands)
    plain = [_without_repeats(term, x) for term, x in zip(terms, arrays, strict=True)]
    return apply(
        _einsum,
        tuple(x for _, x in plain),
        {"terms": [t for t, _ in plain], "output": output, "optimize": optimize},
    )
