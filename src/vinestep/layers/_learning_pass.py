"""The pass a network is in: learning or inference, and the dry pass that creates parameters."""

from __future__ import annotations

import math
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from ..kernels.machinery.random_words import GOLDEN, MIX1, MIX2

__all__ = [
    "DRAWN_BITS",
    "PASS",
    "DryPass",
    "Stream",
    "attention_seen",
    "dropout_on",
    "learning",
    "normal_of_uniform",
    "observed",
    "random_normal",
    "random_of_examples",
    "random_stream",
    "random_uniform",
    "stream_start",
    "uniform_of",
]


Watcher = Callable[[Any, str, tuple[Any, ...], Any], None]
"""Told of every layer's call: layer or callable, path, inputs, output. Inner layers are told of
before outer ones.
"""


@dataclass(slots=True)
class DryPass:
    """What a dry pass needs to create parameters."""

    seed: int
    dtype: np.dtype[Any]
    room: float = math.inf
    """How many bytes of parameters may be created yet."""


class Pass(threading.local):
    """What kind of pass this thread is in. Inference unless said otherwise."""

    learning: bool = False
    dropping: bool = False
    """Whether dropout is on in inference."""
    seed: int = 0
    step: int = 0
    merged: bool = False
    """Whether layers may be computed together, because nobody looks at what lies between them."""
    dry: DryPass | None = None
    observer: Watcher | None = None
    attention: dict[str, Any] | None = None
    """Where the weights of attention are kept by path, if somebody asked."""
    rows: Any = None
    """Which rows of a whole batch are here, as `start`, `size`, `whole`; None if it is whole. For
    them the same numbers are drawn as for the whole.
    """
    drawn: dict[int, int]
    """How often each layer has drawn in this pass."""

    def __init__(self) -> None:
        self.drawn = {}


PASS = Pass()


@contextmanager
def learning(seed: int = 0, step: int = 0) -> Iterator[None]:
    """Make passes learning passes: dropout drops, batch statistics are updated.

    Parameters
    ----------
    seed, step : int
        Together with a layer's path they determine what is drawn at random, so a resumed run draws
        the same.

    Examples
    --------
    >>> drop = Dropout(0.5)
    >>> network = Stack(drop).initialise(np.ones((1, 8)))
    >>> with learning(seed=1, step=0):
    ...     bool((network(np.ones((1, 8))) == 0).any())
    True
    >>> bool((network(np.ones((1, 8))) == 0).any())
    False
    """
    before = PASS.learning, PASS.seed, PASS.step, PASS.drawn
    PASS.learning, PASS.seed, PASS.step, PASS.drawn = True, seed, step, {}
    try:
        yield
    finally:
        PASS.learning, PASS.seed, PASS.step, PASS.drawn = before


@contextmanager
def dropout_on(seed: int, step: int) -> Iterator[None]:
    """Leave dropout and noise on in inference; statistics are used as they are.

    Examples
    --------
    >>> network = Stack(Dropout(0.5)).initialise(np.ones((1, 8)))
    >>> with dropout_on(seed=1, step=0):
    ...     bool((network(np.ones((1, 8))) == 0).any())
    True
    """
    before = PASS.dropping, PASS.seed, PASS.step, PASS.drawn
    PASS.dropping, PASS.seed, PASS.step, PASS.drawn = True, seed, step, {}
    try:
        yield
    finally:
        PASS.dropping, PASS.seed, PASS.step, PASS.drawn = before


@contextmanager
def attention_seen() -> Iterator[dict[str, Any]]:
    """Keep the weights of every attention, by its path."""
    before = PASS.attention
    found: dict[str, Any] = {}
    PASS.attention = found
    try:
        yield found
    finally:
        PASS.attention = before


@contextmanager
def observed(observer: Watcher, dry: DryPass | None = None) -> Iterator[None]:
    """Have every layer's call reported, and in a dry pass let layers create their parameters."""
    before = PASS.observer, PASS.dry
    PASS.observer, PASS.dry = observer, dry
    try:
        yield
    finally:
        PASS.observer, PASS.dry = before


AGAIN = 0xD1B54A32D192ED03
WORD = 2**64 - 1
DRAWN_BITS = 24  # of a word, the highest


class Stream(NamedTuple):
    """Random numbers that are a function of their places, counted from 1."""

    start: int
    """What the numbers are mixed from, beside their places; 64 bits."""
    first: int
    """Place of the first number that is needed here."""
    stride: int
    """How many places further the same number of the next block is."""

    @property
    def place(self) -> tuple[int, int]:
        """As compiled loops take it."""
        return self.start, self.first


def _mix(z: Any) -> Any:
    """Finaliser of SplitMix64: G. L. Steele, D. Lea and C. H. Flood, OOPSLA 2014, figure 17."""
    with np.errstate(over="ignore"):
        for shift, factor in ((30, MIX1), (27, MIX2)):
            z = (z ^ (z >> np.uint64(shift))) * np.uint64(factor)
    return z ^ (z >> np.uint64(31))


def _mix_one(z: int) -> int:
    """`_mix` of one number."""
    for shift, factor in ((30, MIX1), (27, MIX2)):
        z = (z ^ (z >> shift)) * factor & WORD
    return z ^ (z >> 31)


def stream_start(key: int, times: int, seed: int, step: int) -> int:
    """Of the numbers that a key draws after it has drawn so many times in a pass."""
    key += times * AGAIN
    start = _mix_one(seed + key & WORD)
    return start ^ _mix_one(_mix_one(step + 3 * key & WORD) + GOLDEN & WORD)


def random_stream(shape: tuple[int, ...], key: int) -> Stream:
    """The numbers of a key that are drawn next in this pass, of an array of this shape."""
    times = PASS.drawn.get(key, 0)
    PASS.drawn[key] = times + 1
    start = stream_start(key, times, PASS.seed, PASS.step)
    rows, size = PASS.rows, math.prod(shape)
    if rows is None or not rows.size or (shape[0] if shape else 1) % rows.size:
        return Stream(start, 1, size)
    each = size // rows.size
    return Stream(start, each * rows.start + 1, each * rows.whole)


def uniform_of(stream: Stream, shape: tuple[int, ...], *, blocks: int = 1) -> Any:
    """Numbers of a stream in [0, 1); float32. Several blocks of the shape come one upon another."""
    firsts = stream.first + stream.stride * np.arange(blocks)
    places = (firsts[:, None] + np.arange(math.prod(shape))).astype(np.uint64)
    with np.errstate(over="ignore"):
        words = _mix(np.uint64(stream.start) + np.uint64(GOLDEN) * places)
    found = (words >> np.uint64(64 - DRAWN_BITS)).astype(np.float32) * np.float32(2.0**-DRAWN_BITS)
    return found.reshape(shape if blocks == 1 else (blocks, *shape))


def random_uniform(shape: tuple[int, ...], key: int, *, blocks: int = 1) -> Any:
    """Numbers in [0, 1) that are a function of key, step, seed, position, and how often the key was
    drawn by in this pass; float32. Several blocks of the shape come one upon another.
    """
    return uniform_of(random_stream(shape, key), shape, blocks=blocks)


def random_normal(shape: tuple[int, ...], key: int) -> Any:
    """Normal numbers drawn as `random_uniform` draws; float32."""
    return normal_of_uniform(*random_uniform(shape, key, blocks=2))


def random_of_examples(x: Any, count: int, key: int) -> Any:
    """Numbers in [0, 1), shape (n, count), that are a function of each example's values and the key
    alone, whichever batch it comes in; float32.
    """
    values = np.ascontiguousarray(x).reshape(len(x), -1)
    words = values.view(np.uint8).reshape(len(x), -1).astype(np.uint64)
    golden = np.uint64(GOLDEN)
    places = _mix(np.arange(1, words.shape[1] + 1, dtype=np.uint64) * golden)
    with np.errstate(over="ignore"):
        start = _mix((words * (places | np.uint64(1))).sum(axis=1) + np.uint64(key))
        found = _mix(start[:, None] + golden * np.arange(1, count + 1, dtype=np.uint64))
    return (found >> np.uint64(40)).astype(np.float32) * np.float32(2.0**-24)


def normal_of_uniform(first: Any, second: Any) -> Any:
    """Normal numbers, each of two that are even in [0, 1).

    G. E. P. Box and M. E. Muller, Annals of Mathematical Statistics 29, 610-611, 1958.
    """
    return np.sqrt(-2 * np.log1p(-first)) * np.cos(2 * np.float32(np.pi) * second)
