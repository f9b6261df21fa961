"""How parameters begin. An initialiser is called as ``initialiser(rng, shape)`` and draws in float64."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

import numpy as np

__all__ = ["Initialiser", "constant", "glorot_normal", "glorot_uniform", "he_normal", "he_uniform", "ones", "zeros"]

Initialiser: TypeAlias = "Callable[[np.random.Generator, tuple[int, ...]], np.ndarray]"


def fans(shape: tuple[int, ...]) -> tuple[int, int]:
    """How many values a unit reads and how many units read a value; the last two axes are in and out."""
    if len(shape) < 2:
        return (shape[0], shape[0]) if shape else (1, 1)
    window = int(np.prod(shape[:-2], dtype=np.int64))
    return window * shape[-2], window * shape[-1]


def glorot_uniform(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Uniform within ``sqrt(6 / (n_in + n_out))``.

    X. Glorot and Y. Bengio, "Understanding the Difficulty of Training Deep Feedforward Neural Networks", AISTATS 2010,
    equation 16.

    Examples
    --------
    >>> bool(np.all(np.abs(glorot_uniform(np.random.default_rng(0), (50, 100))) <= 0.2))
    True
    """
    n_in, n_out = fans(shape)
    bound = np.sqrt(6.0 / (n_in + n_out))
    return rng.uniform(-bound, bound, shape)


def glorot_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``2 / (n_in + n_out)``; Glorot and Bengio 2010, equation 12.

    Examples
    --------
    >>> glorot_normal(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    n_in, n_out = fans(shape)
    return rng.normal(0.0, np.sqrt(2.0 / (n_in + n_out)), shape)


def he_uniform(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Uniform of variance ``2 / n_in``; see `he_normal`.

    Examples
    --------
    >>> he_uniform(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    bound = np.sqrt(6.0 / fans(shape)[0])
    return rng.uniform(-bound, bound, shape)


def he_normal(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Normal of variance ``2 / n_in``, for units with a rectifier.

    K. He, X. Zhang, S. Ren and J. Sun, "Delving Deep into Rectifiers", ICCV 2015, equation 10.

    Examples
    --------
    >>> he_normal(np.random.default_rng(0), (3, 5)).shape
    (3, 5)
    """
    return rng.normal(0.0, np.sqrt(2.0 / fans(shape)[0]), shape)


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


def zeros(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """All 0, as biases begin.

    Examples
    --------
    >>> vs.initialisers.zeros(np.random.default_rng(0), (2,))
    array([0., 0.])
    """
    return np.zeros(shape)


def ones(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """All 1, as scales begin.

    Examples
    --------
    >>> vs.initialisers.ones(np.random.default_rng(0), (2,))
    array([1., 1.])
    """
    return np.ones(shape)
