"""Rules of linear algebra, for single and stacked matrices.

`cholesky`, `eigh` and `eigvalsh` are functions of symmetric matrices: NumPy reads one triangle, the
derivative given is the symmetric one. Derivatives of eigenvectors and singular vectors do not exist
where values coincide; what comes out there is infinite or NaN, as the mathematics has it.

Notation follows M. B. Giles, "Collected Matrix Derivative Results for Forward and Reverse Mode
Algorithmic Differentiation", Advances in Automatic Differentiation, 35-44, 2008, section 2.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import DifferentiationError
from ..registry import Rule, implements
from ..tensor import Tensor, apply, held
from .elementwise import as_floats

__all__: list[str] = []


def _t(x: Any) -> Any:
    return np.swapaxes(x, -1, -2)


def _square(name: str, a: Any) -> None:
    if np.ndim(a) < 2 or a.shape[-1] != a.shape[-2]:
        raise DifferentiationError(
            f"np.linalg.{name} needs square matrices, got shape {np.shape(a)}."
        )


_inv = Rule(
    "inv", np.linalg.inv, (lambda g, y, a: -np.matmul(_t(y), np.matmul(g, _t(y))),), keeps="y"
)


@implements(np.linalg.inv)
def inv(a: Any) -> Any:
    _square("inv", a)
    return apply(_inv, (a,), {})


def _solve_matrix(g: Any, y: Any, a: Any, b: Any) -> Any:
    return -np.matmul(np.linalg.solve(_t(a), g), _t(y))


_solve = Rule(
    "solve",
    np.linalg.solve,
    (_solve_matrix, lambda g, y, a, b: np.linalg.solve(_t(a), g)),
    keeps="xy",
    broadcasts=True,
)


@implements(np.linalg.solve)
def solve(a: Any, b: Any) -> Any:
    a, b = as_floats(a), as_floats(b)
    _square("solve", a)
    if np.ndim(b) == 1:
        return apply(_solve, (a, np.expand_dims(b, -1)), {})[..., 0]
    return apply(_solve, (a, b), {})


def _det_adjoint(g: Any, y: Any, a: Any) -> Any:
    if np.all(np.abs(held(y)) > np.finfo(a.dtype).tiny) and _is_regular(held(a)):
        return (g * y)[..., None, None] * _t(np.linalg.inv(a))
    return g[..., None, None] * _cofactors(a)


def _is_regular(a: np.ndarray) -> bool:
    """Whether an inverse can be trusted."""
    if not np.isfinite(a).all():
        return True
    values = np.linalg.svd(a, compute_uv=False)
    return bool(np.all(values[..., -1:] > values[..., :1] * a.shape[-1] * np.finfo(a.dtype).eps))


def _cofactors(a: Any) -> Any:
    """Determinants of what is left without a row and a column, which singular matrices have too."""
    n = a.shape[-1]
    rows = []
    for i in range(n):
        left = [k for k in range(n) if k != i]
        row = [
            np.linalg.det(a[..., left, :][..., [k for k in range(n) if k != j]]) * (-1.0) ** (i + j)
            for j in range(n)
        ]
        rows.append(np.stack(row, axis=-1))
    return np.stack(rows, axis=-2)


_det = Rule("det", np.linalg.det, (_det_adjoint,), keeps="xy")


@implements(np.linalg.det)
def det(a: Any) -> Any:
    _square("det", a)
    return apply(_det, (a,), {})


_logabsdet = Rule(
    "slogdet",
    lambda a: np.linalg.slogdet(a)[1],
    (lambda g, y, a: g[..., None, None] * _t(np.linalg.inv(a)),),
    keeps="x",
)


@implements(np.linalg.slogdet)
def slogdet(a: Any) -> Any:
    _square("slogdet", a)
    kind = type(np.linalg.slogdet(np.eye(1)))
    return kind(np.linalg.slogdet(held(a))[0], apply(_logabsdet, (a,), {}))


def _lower_half(x: Any) -> Any:
    """Lower triangle with the diagonal halved."""
    n = x.shape[-1]
    return x * (np.tri(n, dtype=x.dtype) - np.eye(n, dtype=x.dtype) / 2)


def _cholesky_adjoint(g: Any, y: Any, a: Any) -> Any:
    middle = _lower_half(np.matmul(_t(y), g))
    s = np.linalg.solve(_t(y), _t(np.linalg.solve(_t(y), _t(middle))))
    return (s + _t(s)) / 2


_cholesky = Rule("cholesky", np.linalg.cholesky, (_cholesky_adjoint,), keeps="y")


@implements(np.linalg.cholesky)
def cholesky(a: Any, /, *, upper: bool = False) -> Any:
    _square("cholesky", a)
    lower = apply(_cholesky, (a,), {})
    return _t(lower) if upper else lower


def _again(function: Any, a: Any, known: Any, **options: Any) -> Any:
    """A decomposition once more, as a function of `a`, where it has to be differentiated again."""
    return function(a, **options) if isinstance(a, Tensor) else known


def _inverse_gaps(values: Any) -> Any:
    """``1 / (w[j] - w[i])`` off the diagonal, 0 on it."""
    gap = values[..., None, :] - values[..., :, None]
    same = np.eye(values.shape[-1], dtype=bool)
    return np.where(same, 0.0, 1.0 / np.where(same, 1.0, gap))


def _symmetric(x: Any) -> Any:
    return (x + _t(x)) / 2


def _eigenvalues_adjoint(g: Any, y: Any, a: Any, known: Any, uplo: str) -> Any:
    _, v = _again(np.linalg.eigh, a, known, UPLO=uplo)
    return np.matmul(v * g[..., None, :], _t(v))


def _eigenvectors_adjoint(g: Any, y: Any, a: Any, known: Any, uplo: str) -> Any:
    w, v = _again(np.linalg.eigh, a, known, UPLO=uplo)
    return _symmetric(np.matmul(v, np.matmul(_inverse_gaps(w) * np.matmul(_t(v), g), _t(v))))


_eigenvalues = Rule(
    "eigenvalues", lambda a, known, uplo: known[0], (_eigenvalues_adjoint,), keeps="x"
)
_eigenvectors = Rule(
    "eigenvectors", lambda a, known, uplo: known[1], (_eigenvectors_adjoint,), keeps="x"
)


@implements(np.linalg.eigh)
def eigh(a: Any, UPLO: Any = "L") -> Any:
    _square("eigh", a)
    known = np.linalg.eigh(held(a), UPLO=UPLO)
    options = {"known": known, "uplo": UPLO}
    return type(known)(apply(_eigenvalues, (a,), options), apply(_eigenvectors, (a,), options))


@implements(np.linalg.eigvalsh)
def eigvalsh(a: Any, UPLO: Any = "L") -> Any:
    return np.linalg.eigh(a, UPLO=UPLO)[0]


def _svd_again(a: Any, known: Any) -> Any:
    return _again(np.linalg.svd, a, known, full_matrices=False)


def _singular_values_adjoint(g: Any, y: Any, a: Any, known: Any) -> Any:
    u, _, vh = _svd_again(a, known)
    return np.matmul(u * g[..., None, :], vh)


def _squared_gaps(s: Any) -> Any:
    return _inverse_gaps(np.square(s))


def _left_vectors_adjoint(g: Any, y: Any, a: Any, known: Any) -> Any:
    u, s, vh = _svd_again(a, known)
    core = _squared_gaps(s) * np.matmul(_t(u), g)
    result = np.matmul(u, np.matmul((core + _t(core)) * s[..., None, :], vh))
    if a.shape[-2] > a.shape[-1]:
        outside = g - np.matmul(u, np.matmul(_t(u), g))
        result = result + np.matmul(outside / s[..., None, :], vh)
    return result


def _right_vectors_adjoint(g: Any, y: Any, a: Any, known: Any) -> Any:
    u, s, vh = _svd_again(a, known)
    core = _squared_gaps(s) * np.matmul(vh, _t(g))
    result = np.matmul(u * s[..., None, :], np.matmul(core + _t(core), vh))
    if a.shape[-1] > a.shape[-2]:
        outside = g - np.matmul(np.matmul(g, _t(vh)), vh)
        result = result + np.matmul(u / s[..., None, :], outside)
    return result


_left_vectors = Rule(
    "left singular vectors", lambda a, known: known[0], (_left_vectors_adjoint,), keeps="x"
)
_singular_values = Rule(
    "singular values", lambda a, known: known[1], (_singular_values_adjoint,), keeps="x"
)
_right_vectors = Rule(
    "right singular vectors", lambda a, known: known[2], (_right_vectors_adjoint,), keeps="x"
)


@implements(np.linalg.svd)
def svd(
    a: Any, full_matrices: bool = True, compute_uv: bool = True, hermitian: bool = False
) -> Any:
    if hermitian:
        raise DifferentiationError(
            "np.linalg.svd(hermitian=True) has no derivative rule. Use np.linalg.eigh."
        )
    if compute_uv and full_matrices and a.shape[-1] != a.shape[-2]:
        raise DifferentiationError(
            "The additional vectors of np.linalg.svd(full_matrices=True) are not determined by "
            "the matrix, so they have no "
            "derivative. Use full_matrices=False."
        )
    known = np.linalg.svd(held(a), full_matrices=False)
    options = {"known": known}
    values = apply(_singular_values, (a,), options)
    if not compute_uv:
        return values
    return type(known)(
        apply(_left_vectors, (a,), options), values, apply(_right_vectors, (a,), options)
    )


@implements(np.linalg.svdvals)
def svdvals(x: Any, /) -> Any:
    return np.linalg.svd(x, compute_uv=False)


def _pinv_adjoint(g: Any, y: Any, a: Any, rcond: Any) -> Any:
    """G. H. Golub and V. Pereyra, SIAM J. Numer. Anal. 10(2), 413-432, 1973, equation 4.12,
    transposed.
    """
    outside_left = np.eye(a.shape[-2], dtype=g.dtype) - np.matmul(a, y)
    outside_right = np.eye(a.shape[-1], dtype=g.dtype) - np.matmul(y, a)
    gt = _t(g)
    return (
        -np.matmul(_t(y), np.matmul(g, _t(y)))
        + np.matmul(np.matmul(outside_left, gt), np.matmul(y, _t(y)))
        + np.matmul(np.matmul(_t(y), y), np.matmul(gt, outside_right))
    )


_pinv = Rule("pinv", lambda a, rcond: np.linalg.pinv(a, rcond=rcond), (_pinv_adjoint,), keeps="xy")


@implements(np.linalg.pinv)
def pinv(a: Any, rcond: Any = None, hermitian: bool = False, *, rtol: Any = None) -> Any:
    """For matrices whose rank does not change nearby."""
    tolerance = rcond if rcond is not None else rtol
    return apply(
        _pinv,
        (a,),
        {"rcond": 1e-15 if tolerance is None or tolerance is np._NoValue else tolerance},
    )  # type: ignore[attr-defined]


@implements(np.linalg.matrix_power)
def matrix_power(a: Any, n: int) -> Any:
    _square("matrix_power", a)
    if n < 0:
        a, n = np.linalg.inv(a), -n
    result: Any = None
    while n:
        if n & 1:
            result = a if result is None else np.matmul(result, a)
        n >>= 1
        if n:
            a = np.matmul(a, a)
    return (
        np.broadcast_to(np.eye(a.shape[-1], dtype=a.dtype), a.shape) + 0.0 * a
        if result is None
        else result
    )


@implements(np.linalg.cond)
def cond(x: Any, p: Any = None) -> Any:
    if p in (None, 2, -2):
        values = np.linalg.svd(x, compute_uv=False)
        return values[..., 0] / values[..., -1] if p != -2 else values[..., -1] / values[..., 0]
    return np.linalg.norm(x, p, axis=(-2, -1)) * np.linalg.norm(np.linalg.inv(x), p, axis=(-2, -1))


def _lower_mirrored(x: Any) -> Any:
    """The lower triangle, and its mirror image above the diagonal."""
    return np.tril(x) + _t(np.tril(x, -1))


def _qr_again(a: Any, known: Any) -> Any:
    return _again(np.linalg.qr, a, known)


def _orthogonal_adjoint(g: Any, y: Any, a: Any, known: Any) -> Any:
    """S. F. Walter and L. Lehmann, Optim. Methods Softw. 28(6), 2013, algorithm 2, written with
    solves.
    """
    q, r = _qr_again(a, known)
    inner = g + np.matmul(q, _lower_mirrored(-np.matmul(_t(g), q)))
    return _t(np.linalg.solve(r, _t(inner)))


def _triangular_adjoint(g: Any, y: Any, a: Any, known: Any) -> Any:
    q, r = _qr_again(a, known)
    return _t(np.linalg.solve(r, _t(np.matmul(q, _lower_mirrored(np.matmul(r, _t(np.triu(g))))))))


_orthogonal = Rule(
    "orthogonal factor", lambda a, known: known[0], (_orthogonal_adjoint,), keeps="x"
)
_triangular = Rule(
    "triangular factor", lambda a, known: known[1], (_triangular_adjoint,), keeps="x"
)


@implements(np.linalg.qr)
def qr(a: Any, mode: str = "reduced") -> Any:
    """For matrices with at least as many rows as columns, and independent columns."""
    rows, columns = a.shape[-2:]
    if (
        mode not in ("reduced", "r", "complete")
        or rows < columns
        or (mode == "complete" and rows != columns)
    ):
        raise DifferentiationError(
            f"np.linalg.qr with mode={mode!r} of a matrix of shape {a.shape} has no derivative "
            'rule. It has one with mode "reduced" or '
            '"r", for at least as many rows as columns.'
        )
    known = np.linalg.qr(held(a))
    options = {"known": known}
    triangular = apply(_triangular, (a,), options)
    return triangular if mode == "r" else type(known)(apply(_orthogonal, (a,), options), triangular)


@implements(np.linalg.lstsq)
def lstsq(a: Any, b: Any, rcond: Any = None) -> Any:
    """For matrices of full rank."""
    x, residuals, rank, values = np.linalg.lstsq(held(a), held(b), rcond=rcond)
    if rank < min(np.shape(a)):
        raise DifferentiationError(
            f"np.linalg.lstsq: the matrix of shape {np.shape(a)} has rank {rank}, and only of "
            "full rank is the solution differentiable."
        )
    if np.shape(a)[0] >= np.shape(a)[1]:
        q, r = np.linalg.qr(a)
        x = np.linalg.solve(r, np.matmul(_t(q), b))
    else:
        x = np.matmul(np.linalg.pinv(a), b)
    residuals = (
        np.sum(np.square(b - np.matmul(a, x)), axis=0, keepdims=np.ndim(b) == 1)
        if residuals.size
        else residuals
    )
    return (
        x,
        residuals,
        rank,
        np.linalg.svd(a, compute_uv=False) if isinstance(a, Tensor) else values,
    )
