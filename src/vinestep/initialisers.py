"""How parameters begin. An initialiser is called as ``initialiser(rng, shape)`` and draws in
float64.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from ._public_names import own_names
from .parts._registry import maker, part

__all__ = [
    "Initialiser",
    "constant",
    "glorot_normal",
    "glorot_truncated",
    "glorot_uniform",
    "he_normal",
    "he_truncated",
    "he_uniform",
    "identity",
    "lecun_normal",
    "lecun_truncated",
    "lecun_uniform",
    "ones",
    "orthogonal",
    "unit_normal",
    "zeros",
]

CUT = 2.0  # standard deviations at which the truncated normal is cut
# standard deviation of a standard normal cut at two, made up for by dividing
CUT_SPREAD = 0.8796256610342398

if TYPE_CHECKING:
    Initialiser: TypeAlias = Callable[[np.random.Generator, tuple[int, ...]], np.ndarray]
else:
    Initialiser = Callable[
        ..., np.ndarray
    ]  # numpy.random takes longer to import than the rest of NumPy, and is not needed yet


def fans(shape: tuple[int, ...]) -> tuple[int, int]:
    """How many values a unit reads and how many units read a value; the last two axes are in and
    out.
    """
    if len(shape) < 2:
        return (shape[0], shape[0]) if shape else (1, 1)
    window = int(np.prod(shape[:-2], dtype=np.int64))
    return window * shape[-2], window * shape[-1]


@part("glorot_uniform", "initialiser")
def glorot_uniform(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Uniform within ``sqrt(6 / (n_in + n_out))``.

    X. Glorot and Y. Bengio, "Understanding the Difficulty of Training Deep Feedforward Neural
    Networks", AISTATS 2010, equation 16.

    Examples
    --------
    >>> bool(np.all(np.abs(glorot_uniform(np.random.default_rng(0), (50, 100))) <= 0.2))
    True
    """
    n_in, n_out = fans(shape)
    bound = np.sqrt(6.0 / (n_in + n_out))
    return rng.uniform(-bound, bound, shape)


@part("glorot_normal", "initialiser")
def glorot_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``2 / (n_in + n_out)``; Glorot and Bengio 2010, equation 12.

    Examples
    --------
    >>> glorot_normal(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    n_in, n_out = fans(shape)
    return rng.normal(0.0, np.sqrt(2.0 / (n_in + n_out)), shape)


@part("he_uniform", "initialiser")
def he_uniform(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Uniform of variance ``2 / n_in``; see `he_normal`.

    Examples
    --------
    >>> he_uniform(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    bound = np.sqrt(6.0 / fans(shape)[0])
    return rng.uniform(-bound, bound, shape)


@part("he_normal", "initialiser")
def he_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``2 / n_in``, for units with a ReLU.

    K. He, X. Zhang, S. Ren and J. Sun, "Delving Deep into Rectifiers", ICCV 2015, equation 10.

    Examples
    --------
    >>> he_normal(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    return rng.normal(0.0, np.sqrt(2.0 / fans(shape)[0]), shape)


def _truncated(rng: np.random.Generator, shape: tuple[int, ...], spread: float) -> np.ndarray:
    """Normal numbers within two standard deviations, of the spread asked for: those outside are
    drawn again.
    """
    values = rng.standard_normal(shape)
    outside = np.abs(values) > CUT
    while outside.any():
        values[outside] = rng.standard_normal(int(outside.sum()))
        outside = np.abs(values) > CUT
    return values * (spread / CUT_SPREAD)


@part("glorot_truncated", "initialiser")
def glorot_truncated(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """`glorot_normal` without its tails.

    Examples
    --------
    >>> glorot_truncated(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    n_in, n_out = fans(shape)
    return _truncated(rng, shape, np.sqrt(2.0 / (n_in + n_out)))


@part("he_truncated", "initialiser")
def he_truncated(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """`he_normal` without its tails.

    Examples
    --------
    >>> he_truncated(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    return _truncated(rng, shape, np.sqrt(2.0 / fans(shape)[0]))


@part("lecun_normal", "initialiser")
def lecun_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``1 / n_in``.

    Y. LeCun, L. Bottou, G. B. Orr and K.-R. Mueller, "Efficient BackProp", 1998, equation 16.

    Examples
    --------
    >>> lecun_normal(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    return rng.normal(0.0, np.sqrt(1.0 / fans(shape)[0]), shape)


@part("lecun_uniform", "initialiser")
def lecun_uniform(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Uniform of variance ``1 / n_in``; see `lecun_normal`.

    Examples
    --------
    >>> lecun_uniform(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    bound = np.sqrt(3.0 / fans(shape)[0])
    return rng.uniform(-bound, bound, shape)


@part("lecun_truncated", "initialiser")
def lecun_truncated(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """`lecun_normal` without its tails.

    Examples
    --------
    >>> lecun_truncated(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    return _truncated(rng, shape, np.sqrt(1.0 / fans(shape)[0]))


@part("orthogonal", "initialiser")
def orthogonal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """A random matrix with orthonormal rows or columns, whichever are fewer; further axes count as
    rows.

    A. M. Saxe, J. L. McClelland and S. Ganguli, ICLR 2014, section 3; uniform among such matrices
    by the signs of F. Mezzadri, Notices AMS 54, 592-604, 2007, section 5.

    Examples
    --------
    >>> q = orthogonal(np.random.default_rng(0), (4, 3))
    >>> bool(np.allclose(q.T @ q, np.eye(3)))
    True
    """
    rows, columns = int(np.prod(shape[:-1], dtype=np.int64)), shape[-1]
    q, r = np.linalg.qr(rng.standard_normal((max(rows, columns), min(rows, columns))))
    q = q * np.where(np.diag(r) < 0, -1.0, 1.0)
    return (q if rows >= columns else q.T).reshape(shape)


@part("identity", "initialiser")
def identity(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """The identity matrix, for the weights by which a recurrent layer remembers; side by side if
    the shape is wider.

    Q. V. Le, N. Jaitly and G. E. Hinton, "A Simple Way to Initialize Recurrent Networks of
    Rectified Linear Units", 2015.

    Examples
    --------
    >>> identity(np.random.default_rng(0), (2, 4))
    array([[1., 0., 1., 0.],
           [0., 1., 0., 1.]])
    """
    rows, columns = shape
    return np.eye(rows)[:, np.arange(columns) % rows]


@part("unit_normal", "initialiser")
def unit_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``1 / n`` over rows of n values, so that each row has a length of about 1;
    for tables of vectors.

    Examples
    --------
    >>> round(float(np.linalg.norm(unit_normal(np.random.default_rng(0), (1, 10_000)))), 1)
    1.0
    """
    return rng.normal(0.0, shape[-1] ** -0.5, shape)


@maker("constant", "initialiser")
def constant(value: float) -> Initialiser:
    """The same value everywhere.

    Examples
    --------
    >>> vs.initialisers.constant(0.5)(np.random.default_rng(0), (2,))
    array([0.5, 0.5])
    """

    def fill(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        return np.full(shape, float(value))

    return fill


@part("zeros", "initialiser")
def zeros(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """All 0, as biases begin.

    Examples
    --------
    >>> vs.initialisers.zeros(np.random.default_rng(0), (2,))
    array([0., 0.])
    """
    return np.zeros(shape)


@part("ones", "initialiser")
def ones(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """All 1, as scales begin.

    Examples
    --------
    >>> vs.initialisers.ones(np.random.default_rng(0), (2,))
    array([1., 1.])
    """
    return np.ones(shape)


__getattr__, __dir__ = own_names(__name__, __all__)
