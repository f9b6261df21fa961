"""Weights held in 8 or 4 bits: codes of a few values, and a scale for each block."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any, Literal

import numpy as np

from ..errors import LayerError

__all__ = ["BITS", "FORMS", "Coded", "code_values", "coded"]

BITS = (4, 8)
FORMS = ("symmetric", "normal")
TOGETHER = 256  # scales that are coded by one range
STEPS = 255
COARSE = 0.1  # of the usual scale: a larger step from one coded scale to the next loses too much

CodeForm = Literal["symmetric", "normal"]


@cache
def _values(bits: int, form: CodeForm) -> np.ndarray:
    if form == "symmetric":
        most = 2 ** (bits - 1) - 1
        return np.asarray(
            np.append(np.arange(-most, most + 1), most) / most
        )  # the last code repeats the one before it and is not used
    from scipy.special import ndtri

    half = 2 ** (bits - 1)
    # the outermost quantiles lie at infinity: as far from them as the mean of two ways of counting
    # them
    edge = 0.5 * ((1 - 1 / (4 * half)) + (1 - 1 / (4 * half - 2)))
    upper, lower = ndtri(np.linspace(0.5, edge, half + 1)), -ndtri(np.linspace(0.5, edge, half))
    result = np.unique(np.concatenate([lower, upper]))
    return np.asarray(result / np.abs(result).max())


def code_values(bits: int, form: CodeForm = "normal") -> np.ndarray:
    """What codes stand for, from -1 to 1, rising; 0 is among them.

    Parameters
    ----------
    bits : {4, 8}
    form : {"symmetric", "normal"}
        Evenly spaced, the same on both sides of 0; or quantiles of a normal distribution, so that
        weights that are distributed normally use all codes alike [1]_.

    References
    ----------
    .. [1] T. Dettmers, A. Pagnoni, A. Holtzman and L. Zettlemoyer, "QLoRA: Efficient Finetuning of
       Quantized LLMs", NeurIPS 2023, section 3, equation 4.

    Examples
    --------
    >>> code_values(4, "normal").round(2).tolist()[:9]
    [-1.0, -0.7, -0.53, -0.39, -0.28, -0.18, -0.09, 0.0, 0.08]
    """
    return _values(bits, form).copy()


@dataclass(frozen=True, eq=False)
class Coded:
    """A weight of shape (n_in, n_out) in codes. Those of one output lie together, in blocks along
    the inputs.
    """

    codes: np.ndarray
    """uint8, shape (n_out, bytes): of 4 bits two to a byte, the first in the upper half."""
    scales: np.ndarray
    """Of each block, shape (n_out, blocks): float32, or uint8 if they are coded in turn."""
    ranges: np.ndarray
    """float32, shape (groups, 2): of each 256 coded scales the lowest, and the step from one code
    to the next. Else (0, 2).
    """
    n_in: int
    bits: int
    form: CodeForm
    block: int

    @property
    def shape(self) -> tuple[int, int]:
        return self.n_in, len(self.codes)

    @property
    def n_bytes(self) -> int:
        """Memory that it takes."""
        return self.codes.nbytes + self.scales.nbytes + self.ranges.nbytes

    def plain_scales(self) -> np.ndarray:
        """Of each block, float32, shape (n_out, blocks)."""
        if not len(self.ranges):
            return self.scales
        size = self.scales.size
        numbers = np.zeros((len(self.ranges), TOGETHER), np.float32)
        numbers.reshape(-1)[:size] = self.scales.reshape(-1)
        numbers *= self.ranges[:, 1:]
        numbers += self.ranges[:, :1]
        return numbers.reshape(-1)[:size].reshape(self.scales.shape)

    @cached_property
    def table(self) -> np.ndarray:
        """What each byte stands for, float32, shape (256, codes a byte)."""
        values = _values(self.bits, self.form).astype(np.float32)
        numbers = np.arange(256)
        return (
            values[numbers][:, None].copy()
            if self.bits == 8
            else np.stack([values[numbers >> 4], values[numbers & 15]], axis=1)
        )

    def rows(self, outputs: Any, dtype: Any) -> np.ndarray:
        """Of some outputs their weights, shape (outputs, n_in)."""
        codes, scales = self.codes[outputs], self.plain_scales()[outputs].astype(dtype)
        values = self.table.astype(dtype)[codes].reshape(len(codes), -1)[:, : self.n_in]
        return np.asarray(values * np.repeat(scales, self.block, axis=1)[:, : self.n_in])

    def decoded(self, dtype: Any = np.float32) -> np.ndarray:
        """The whole weight, shape (n_in, n_out)."""
        return np.ascontiguousarray(self.rows(np.arange(len(self.codes)), dtype).T)


def coded(
    weight: np.ndarray,
    *,
    bits: int = 4,
    form: CodeForm = "normal",
    block: int = 64,
    double: bool = True,
) -> Coded:
    """A weight in codes: each value the nearest of the codes' values times the scale of its block,
    which is the largest in it.

    Parameters
    ----------
    weight : array, shape (n_in, n_out)
    bits, form
        See `code_values`.
    block : int
        Values along the inputs that share a scale; even.
    double : bool
        Whether scales are held in 8 bits, too, 256 together; where one is so large that the others
        would be rounded away, they are held in float32.

    Raises
    ------
    LayerError
        If a setting is none of these.

    Examples
    --------
    >>> found = coded(
    ...     np.array([[0.5], [-1.0], [0.1], [0.0]]), bits=8, form="symmetric", block=4
    ... )
    >>> found.decoded().ravel().round(2)
    array([ 0.5, -1. ,  0.1,  0. ], dtype=float32)
    """
    if bits not in BITS or form not in FORMS:
        raise LayerError(
            f'coded: bits must be 4 or 8 and codes "symmetric" or "normal", got {bits!r} and '
            f"{form!r}."
        )
    if isinstance(block, bool) or not isinstance(block, int) or block < 2 or block % 2:
        raise LayerError(f"coded: block must be an even whole number of at least 2, got {block!r}.")
    outputs = np.asarray(weight, np.float32).T
    n_out, n_in = outputs.shape
    n_blocks = -(-n_in // block)
    padded = np.zeros((n_out, n_blocks * block), np.float32)
    padded[:, :n_in] = outputs
    blocks = padded.reshape(n_out, n_blocks, block)
    scales, ranges = _scales(np.abs(blocks).max(axis=2), double)
    half = Coded(np.zeros((n_out, 0), np.uint8), scales, ranges, n_in, bits, form, block)
    plain = half.plain_scales()[:, :, None]
    relative = np.divide(blocks, plain, out=np.zeros_like(blocks), where=plain > 0).reshape(
        n_out, -1
    )[:, : n_in + n_in % 2]
    values = _values(bits, form)
    numbers = np.searchsorted((values[1:] + values[:-1]) / 2, relative.astype(np.float64)).astype(
        np.uint8
    )
    if form == "symmetric":
        numbers = np.minimum(numbers, len(values) - 2).astype(np.uint8)
    codes = numbers[:, :n_in] if bits == 8 else numbers[:, 0::2] << 4 | numbers[:, 1::2]
    return Coded(np.ascontiguousarray(codes), scales, ranges, n_in, bits, form, block)


def _scales(largest: np.ndarray, double: bool) -> tuple[np.ndarray, np.ndarray]:
    if not double:
        return largest.astype(np.float32), np.zeros((0, 2), np.float32)
    flat = largest.reshape(-1).astype(np.float64)
    groups = np.array_split(flat, np.arange(TOGETHER, flat.size, TOGETHER))
    ranges = np.array([[g.min(), (g.max() - g.min()) / STEPS] for g in groups], np.float32)
    lowest, step = np.repeat(ranges.astype(np.float64), TOGETHER, axis=0)[: flat.size].T
    usual = np.repeat([np.median(g) for g in groups], TOGETHER)[: flat.size]
    if np.any(step > COARSE * usual):  # one far larger than the others would leave them none
        return largest.astype(np.float32), np.zeros((0, 2), np.float32)
    numbers = np.divide(flat - lowest, step, out=np.zeros_like(flat), where=step > 0)
    return np.clip(np.rint(numbers), 0, STEPS).astype(np.uint8).reshape(largest.shape), ranges
