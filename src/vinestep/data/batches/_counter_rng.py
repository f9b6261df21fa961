"""Random numbers that are a function of seed, epoch and the example, so that they are the same
however many readers there are.
"""

from __future__ import annotations

import zlib
from typing import Any

import numpy as np

__all__ = ["CounterRandom"]

GOLDEN = np.uint64(0x9E3779B97F4A7C15)
UNIT = 2.0**-53


class CounterRandom:
    """Random numbers for some examples: each has its own, whatever batch it is in.

    The generator is SplitMix64 (Steele, Lea and Flood, 2014), begun anew for every example: seed,
    epoch, index and what the numbers are for are its state.

    Parameters
    ----------
    seed, epoch : int
    index : array_like of int, shape (n,)
        Which examples.
    purpose : int
        Numbers for different purposes are independent.

    Examples
    --------
    >>> all_of_them = CounterRandom(7, 0, [3, 4, 5]).uniform()
    >>> bool(all_of_them[1] == CounterRandom(7, 0, [4]).uniform()[0])
    True
    """

    def __init__(self, seed: int, epoch: int, index: Any, purpose: int = 0) -> None:
        self.seed, self.epoch, self.purpose = int(seed), int(epoch), int(purpose)
        self.index = np.atleast_1d(np.asarray(index)).astype(np.uint64)
        self._calls = 0

    def __len__(self) -> int:
        return len(self.index)

    def for_purpose(self, purpose: int) -> CounterRandom:
        """Of the same examples, independent of these."""
        return CounterRandom(
            self.seed, self.epoch, self.index, zlib.crc32(f"{self.purpose} {purpose}".encode())
        )

    def some(self, which: Any) -> CounterRandom:
        """For some of the examples."""
        return CounterRandom(self.seed, self.epoch, self.index[which], self.purpose)

    def words(self, each: int) -> Any:
        """Random words of 64 bits, shape (n, each)."""
        with np.errstate(over="ignore"):
            start = _mixed(np.uint64(self.seed % 2**64) + GOLDEN * np.uint64(self.epoch % 2**64))
            start = _mixed(start + GOLDEN * np.uint64(self.purpose + 1))
            streams = _mixed(start + GOLDEN * self.index)
            counters = np.arange(self._calls + 1, self._calls + each + 1, dtype=np.uint64)
            result = _mixed(streams[:, None] + GOLDEN * counters)
        self._calls += each
        return result

    def uniform(self, low: float = 0.0, high: float = 1.0, *size: int) -> Any:
        """Shape (n, *size), float64."""
        unit = (self.words(int(np.prod(size, dtype=int))) >> np.uint64(11)).astype(
            np.float64
        ) * UNIT
        return (low + (high - low) * unit).reshape(len(self.index), *size)

    def integers(self, low: int, high: int, *size: int) -> Any:
        """Whole numbers from low up to high, which is left out."""
        return np.minimum(np.floor(self.uniform(low, high, *size)), high - 1).astype(np.int64)

    def normal(self, *size: int) -> Any:
        """Standard normal, by the method of Box and Muller (1958)."""
        u, v = self.uniform(0, 1, 2, *size).swapaxes(0, 1)
        return np.sqrt(-2 * np.log1p(-u)) * np.cos(2 * np.pi * v)

    def generators(self) -> list[np.random.Generator]:
        """One of NumPy's for each example."""
        return [np.random.default_rng(int(word)) for word in self.words(1)[:, 0]]

    def beta(self, alpha: float) -> Any:
        """Beta(alpha, alpha), by its quantiles."""
        from scipy.special import betaincinv

        return betaincinv(alpha, alpha, self.uniform())


def _mixed(z: Any) -> Any:
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))
