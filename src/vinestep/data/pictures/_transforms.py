"""Pictures: transforms of arrays (n, height, width, channels), whole numbers from 0 to 255 or
floats.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from functools import lru_cache
from typing import Any, Literal

import numpy as np

from ...errors import DataError, SettingError
from ...parts._registry import part
from ..batches._batch import Batch, first_of, mapped
from ..batches._counter_rng import CounterRandom
from ..batches._transforms import Transform, ValueRange

__all__ = [
    "Blur",
    "Brightness",
    "CentreByMass",
    "Contrast",
    "Crop",
    "CutOut",
    "Fit",
    "Flip",
    "Grey",
    "Hue",
    "Mix",
    "Noise",
    "Normalise",
    "Perspective",
    "Range",
    "Resize",
    "Rotate",
    "Saturation",
    "Shift",
    "Zoom",
]

GREY = np.array([0.299, 0.587, 0.114], np.float32)  # luma, ITU-R BT.601


def _pair(size: Any, name: str) -> tuple[int, int]:
    pair = (size, size) if isinstance(size, int | np.integer) else tuple(size)
    if len(pair) != 2 or min(pair) < 1:
        raise SettingError(
            f"{name}: size is height and width, whole numbers of at least 1; got {size!r}."
        )
    return int(pair[0]), int(pair[1])


def _pictures(x: Any, what: Transform) -> np.ndarray:
    array = np.asarray(x)
    if array.ndim != 4:
        raise DataError(
            f"{what!r}: pictures are (n, height, width, channels), got shape {array.shape}."
        )
    return array


def _as_floats(x: np.ndarray) -> np.ndarray:
    return x if x.dtype.kind == "f" else x.astype(np.float32)


def _as_before(y: np.ndarray, x: np.ndarray) -> Any:
    """In the dtype of x: whole numbers are rounded, and kept within what the dtype holds."""
    if x.dtype.kind == "f":
        return y.astype(x.dtype, copy=False)
    limits = np.iinfo(x.dtype)
    return np.clip(np.rint(y), limits.min, limits.max).astype(x.dtype)


def _top(x: np.ndarray) -> float:
    """What white is: 255 for whole numbers, 1 for floats."""
    return 1.0 if x.dtype.kind == "f" else float(np.iinfo(x.dtype).max)


# size and range


@lru_cache(maxsize=64)
def _weights(old: int, new: int, method: str) -> Any:
    """What each old pixel gives to each new one along an axis, shape (new, old); rows add up to
    1.
    """
    places = np.arange(old)
    if method == "area":
        edges = np.arange(new + 1) * old / new
        low = np.maximum(edges[:-1, None], places)
        high = np.minimum(edges[1:, None], places + 1)
        result = np.maximum(high - low, 0)
    # R. Keys, 1981, with a = -0.5, widened where it shrinks so that nothing finer than a new pixel
    # is left
    else:
        wide = max(old / new, 1.0)
        distance = np.abs((np.arange(new)[:, None] + 0.5) * old / new - 0.5 - places) / wide
        near = (1.5 * distance - 2.5) * distance**2 + 1
        far = ((-0.5 * distance + 2.5) * distance - 4) * distance + 2
        result = np.where(distance <= 1, near, np.where(distance < 2, far, 0))
    result = result / result.sum(axis=1, keepdims=True)
    return result.astype(np.float32)


def _resized(x: np.ndarray, height: int, width: int, method: str) -> Any:
    if x.shape[1:3] == (height, width):
        return x
    y = np.einsum(
        "hi,niwc->nhwc", _weights(x.shape[1], height, method), _as_floats(x), optimize=True
    )
    y = np.einsum("wj,nhjc->nhwc", _weights(x.shape[2], width, method), y, optimize=True)
    return _as_before(y, x)


@part("resize")
class Resize(Transform):
    """Bring pictures to one size, whatever their proportions.

    Parameters
    ----------
    size : int or (height, width)
    method : {"area", "cubic"}
        Means over areas, or cubic convolution (R. Keys, 1981) with a wider kernel where a picture
        shrinks. Both leave no aliases.

    Examples
    --------
    >>> Resize(2)(np.arange(16.0).reshape(1, 4, 4, 1))[0, :, :, 0].tolist()
    [[2.5, 4.5], [10.5, 12.5]]
    """

    def __init__(self, size: Any, method: Literal["area", "cubic"] = "area") -> None:
        if method not in ("area", "cubic"):
            raise SettingError(f'Resize: method is "area" or "cubic", got {method!r}.')
        self.size, self.method = size, method
        _pair(size, "Resize")

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        return _resized(_pictures(x, self), *_pair(self.size, "Resize"), self.method)


@part("fit")
class Fit(Transform):
    """Bring pictures to one size in their own proportions, and fill what is left around them.

    Parameters
    ----------
    size : int or (height, width)
    fill : float
    method : {"area", "cubic"}

    Examples
    --------
    >>> Fit(4)(np.ones((1, 2, 4, 1))).shape
    (1, 4, 4, 1)
    """

    def __init__(
        self, size: Any, fill: float = 0, method: Literal["area", "cubic"] = "area"
    ) -> None:
        self.size, self.fill, self.method = size, fill, method
        _pair(size, "Fit")

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        height, width = _pair(self.size, "Fit")
        factor = min(height / x.shape[1], width / x.shape[2])
        own = max(1, round(x.shape[1] * factor)), max(1, round(x.shape[2] * factor))
        y = np.full((len(x), height, width, x.shape[3]), self.fill, x.dtype)
        top, left = (height - own[0]) // 2, (width - own[1]) // 2
        y[:, top : top + own[0], left : left + own[1]] = _resized(x, *own, self.method)
        return y


@part("centre_by_mass")
class CentreByMass(Transform):
    """Move what is bright to the middle: the centre of mass of the values, to the nearest pixel.

    Parameters
    ----------
    fill : float
        What moves in.

    Examples
    --------
    >>> picture = np.zeros((1, 3, 3, 1))
    >>> picture[0, 0, 0] = 1
    >>> CentreByMass()(picture)[0, :, :, 0].argmax()
    np.int64(4)
    """

    def __init__(self, fill: float = 0) -> None:
        self.fill = fill

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        mass = x.sum(axis=3, dtype=np.float64)
        total = np.maximum(mass.sum(axis=(1, 2)), np.finfo(np.float64).tiny)
        moves = []
        for axis in (1, 2):
            n = x.shape[axis]
            centre = (mass.sum(axis=3 - axis) * np.arange(n)).sum(axis=1) / total
            moves.append(
                np.where(mass.any(axis=(1, 2)), np.rint((n - 1) / 2 - centre), 0).astype(int)
            )
        return _moved(x, moves[0], moves[1], self.fill)


def _moved(x: np.ndarray, down: np.ndarray, right: np.ndarray, fill: float) -> np.ndarray:
    y = np.full(x.shape, fill, x.dtype)
    height, width = x.shape[1:3]
    for new, old, d, r in zip(y, x, down.tolist(), right.tolist(), strict=True):
        if abs(d) < height and abs(r) < width:
            new[max(d, 0) : height + min(d, 0), max(r, 0) : width + min(r, 0)] = old[
                max(-d, 0) : height - max(d, 0), max(-r, 0) : width - max(r, 0)
            ]
    return y


@part("grey")
class Grey(Transform):
    """One channel of brightness (ITU-R BT.601).

    Examples
    --------
    >>> Grey()(np.ones((1, 2, 2, 3), np.float32)).shape
    (1, 2, 2, 1)
    """

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        if x.shape[3] == 1:
            return x
        if x.shape[3] != 3:
            raise DataError(f"Grey: pictures of 1 or 3 channels are wanted, got {x.shape[3]}.")
        return _as_before((_as_floats(x) @ GREY)[..., None], x)


@part("range")
class Range(Transform):
    """Whole numbers from 0 to 255, or floats from 0 to 1, to floats of the range that a network is
    trained on.

    Parameters
    ----------
    low, high : float
        What black and white become.

    Examples
    --------
    >>> Range(-1, 1)(np.array([0, 255], np.uint8).reshape(1, 1, 2, 1)).ravel().tolist()
    [-1.0, 1.0]
    """

    def __init__(self, low: float = 0.0, high: float = 1.0) -> None:
        if not high > low:
            raise SettingError(f"Range: high must be above low, got {low} and {high}.")
        self.low, self.high = low, high

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        y = _as_floats(x)
        if x.dtype.kind == "f" and x.size and (x.min() < -1e-3 or x.max() > 1 + 1e-3):
            raise DataError(
                f"Range: floats from 0 to 1 are wanted, got {float(x.min()):.4g} to "
                f"{float(x.max()):.4g}. They seem to be scaled already, "
                "or to be whole numbers from 0 to 255 as floats: convert those with "
                "astype(np.uint8)."
            )
        return y * np.float32((self.high - self.low) / _top(x)) + np.float32(self.low)

    def output_range(self, before: ValueRange) -> ValueRange:
        return self.low, self.high

    def inverse(self, x: np.ndarray) -> np.ndarray:
        shares = (x - x.dtype.type(self.low)) / x.dtype.type(self.high - self.low)
        return np.asarray(np.clip(shares, 0, 1))


@part("normalise")
class Normalise(Transform):
    """Take a mean away from each channel and divide by a deviation.

    Parameters
    ----------
    mean, deviation : sequence of float, shape (channels,)

    Examples
    --------
    >>> Normalise(0.5, 0.25)(np.full((1, 1, 1, 1), 0.75)).item()
    1.0
    """

    def __init__(self, mean: Any, deviation: Any) -> None:
        self.mean, self.deviation = (
            [float(m) for m in np.atleast_1d(mean)],
            [float(d) for d in np.atleast_1d(deviation)],
        )
        if not min(self.deviation) > 0:
            raise SettingError(f"Normalise: deviations have to be above 0, got {self.deviation}.")

    @classmethod
    def learned(cls, pictures: Any) -> Normalise:
        """With the mean and deviation of these pictures: those of the training part."""
        array = np.asarray(pictures, np.float64)
        axes = tuple(range(array.ndim - 1))
        return cls(array.mean(axis=axes), np.maximum(array.std(axis=axes), 1e-8))

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _as_floats(_pictures(x, self))
        return (x - np.array(self.mean, x.dtype)) / np.array(self.deviation, x.dtype)

    def inverse(self, x: np.ndarray) -> np.ndarray:
        return np.asarray(x * np.array(self.deviation, x.dtype) + np.array(self.mean, x.dtype))

    def output_range(self, before: ValueRange) -> ValueRange:
        low, high = before or (0.0, 255.0 if max(self.mean) > 2 else 1.0)
        mean, deviation = np.array(self.mean), np.array(self.deviation)
        return (low - mean) / deviation, (high - mean) / deviation


# at random


class _Random(Transform):
    random = True


class _Placed(_Random):
    """Moves what is seen; targets that are pictures move with it."""

    def on_batch(self, batch: Batch, draws: CounterRandom) -> Batch:
        batch = batch.with_values(inputs=mapped(lambda x: self(x, _anew(draws)), batch.inputs))
        seen, targets = np.asarray(first_of(batch.inputs)), batch.targets
        if targets is None or np.ndim(targets) < 3:
            return batch
        given = np.asarray(targets)
        if given.ndim > 4 or len(given) != len(seen):
            return batch
        pictures = given if given.ndim == 4 else given[..., None]
        moved = self._of_targets(pictures, _anew(draws))
        return batch.with_values(targets=moved if given.ndim == 4 else moved[..., 0])

    def _of_targets(self, x: np.ndarray, draws: CounterRandom) -> Any:
        return self(x, draws)


class _Sampled(_Placed):
    """Seen through a map of places; whole numbers are labels, which are not mixed."""

    fill: float

    def _matrices(self, x: np.ndarray, draws: CounterRandom) -> np.ndarray:
        raise NotImplementedError

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        return _sampled(x, self._matrices(x, self.drawn(draws)), self.fill)

    def _of_targets(self, x: np.ndarray, draws: CounterRandom) -> Any:
        nearest = x.dtype.kind in "iub"
        fill = 0 if nearest else self.fill
        return _sampled(x, self._matrices(x, draws), fill, nearest=nearest)


def _anew(draws: CounterRandom) -> CounterRandom:
    """The same numbers once more."""
    return draws.some(slice(None))


class _Toned(_Random):
    """Changes values between black and white, wherever these are."""

    _range: ValueRange = None

    def with_input_range(self, found: ValueRange) -> Transform:
        if found is None:
            return self
        known = copy.copy(self)
        known._range = found
        return known

    def _between(self, x: np.ndarray, change: Callable[[np.ndarray], Any]) -> Any:
        """What a change of floats from 0 for black to 1 for white makes of pictures."""
        values = _as_floats(x)
        known = self._range if x.dtype.kind == "f" else (0, _top(x))
        if known is None and x.size and (x.min() < -1e-3 or x.max() > 1 + 1e-3):
            raise DataError(
                f"{self!r}: floats from 0 to 1 are wanted, got {float(x.min()):.4g} to "
                f"{float(x.max()):.4g}. Batches of a source that was prepared by Range or "
                "Normalise tell it what black and white are; else put it before they are scaled."
            )
        low, high = (np.asarray(v, values.dtype) for v in known or (0, 1))
        y = change((values - low) / (high - low))
        return _as_before(np.clip(y, 0, 1) * (high - low) + low, x)


@part("flip")
class Flip(_Placed):
    """Mirror half of the pictures.

    Parameters
    ----------
    horizontally, vertically : bool

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Flip()))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, horizontally: bool = True, vertically: bool = False) -> None:
        self.horizontally, self.vertically = horizontally, vertically

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        chosen = self.drawn(draws).uniform(0, 1, 2) < 0.5
        y = x.copy()
        for i in np.flatnonzero(chosen[:, 0]) if self.horizontally else ():
            y[i] = y[i, :, ::-1].copy()
        for i in np.flatnonzero(chosen[:, 1]) if self.vertically else ():
            y[i] = y[i, ::-1].copy()
        return y


@part("shift")
class Shift(_Placed):
    """Move by up to so many pixels.

    Parameters
    ----------
    pixels : int
    fill : float
        What moves in.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Shift(2)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, pixels: int, fill: float = 0) -> None:
        self.pixels, self.fill = pixels, fill

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        moves = self.drawn(draws).integers(-self.pixels, self.pixels + 1, 2)
        return _moved(_pictures(x, self), moves[:, 0], moves[:, 1], self.fill)


@part("crop", "transform")
class Crop(_Placed):
    """A part of the picture, at a random place.

    Parameters
    ----------
    size : int or (height, width)

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Crop(6)))).inputs.shape
    (2, 6, 6, 3)
    """

    def __init__(self, size: Any) -> None:
        self.size = size
        _pair(size, "Crop")

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        height, width = _pair(self.size, "Crop")
        if x.shape[1] < height or x.shape[2] < width:
            raise DataError(
                f"Crop: a part of {height} by {width} was asked for, of pictures of {x.shape[1]} "
                f"by {x.shape[2]}."
            )
        unit = self.drawn(draws).uniform(0, 1, 2)
        tops, lefts = (
            (unit[:, k] * (x.shape[k + 1] - size + 1)).astype(int)
            for k, size in enumerate((height, width))
        )
        y = np.empty((len(x), height, width, x.shape[3]), x.dtype)
        for new, old, top, left in zip(y, x, tops.tolist(), lefts.tolist(), strict=True):
            new[...] = old[top : top + height, left : left + width]
        return y


def _sampled(x: np.ndarray, matrices: np.ndarray, fill: float, *, nearest: bool = False) -> Any:
    """Pictures seen through projective maps (n, 3, 3) of places around the middle, interpolated
    linearly, or taken from the nearest place.
    """
    n, height, width, channels = x.shape
    rows, columns = np.mgrid[:height, :width].astype(np.float32)
    places = np.stack(
        [
            rows.ravel() - (height - 1) / 2,
            columns.ravel() - (width - 1) / 2,
            np.ones(rows.size, np.float32),
        ]
    )
    found = matrices.astype(np.float32) @ places
    r = found[:, 0] / found[:, 2] + (height - 1) / 2
    c = found[:, 1] / found[:, 2] + (width - 1) / 2
    wide = np.full((n, height + 2, width + 2, channels), fill, np.float32)
    wide[:, 1:-1, 1:-1] = x
    r, c = np.clip(r + 1, 0, height + 1 - 1e-3), np.clip(c + 1, 0, width + 1 - 1e-3)
    top, left = r.astype(np.int32), c.astype(np.int32)
    down, right = (r - top)[..., None], (c - left)[..., None]
    if nearest:
        down, right = np.rint(down), np.rint(right)
    flat = wide.reshape(n, -1, channels)
    at = top * (width + 2) + left
    example = np.arange(n)[:, None]
    upper = flat[example, at] * (1 - right) + flat[example, at + 1] * right
    lower = flat[example, at + width + 2] * (1 - right) + flat[example, at + width + 3] * right
    return _as_before((upper * (1 - down) + lower * down).reshape(x.shape), x)


@part("rotate")
class Rotate(_Sampled):
    """Turn around the middle by up to so many degrees either way.

    Parameters
    ----------
    degrees : float
    fill : float

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Rotate(15)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, degrees: float, fill: float = 0) -> None:
        self.degrees, self.fill = degrees, fill

    def _matrices(self, x: np.ndarray, draws: CounterRandom) -> np.ndarray:
        angle = np.deg2rad(draws.uniform(-self.degrees, self.degrees))
        matrices = np.tile(np.eye(3), (len(x), 1, 1))
        matrices[:, 0, 0] = matrices[:, 1, 1] = np.cos(angle)
        matrices[:, 0, 1], matrices[:, 1, 0] = -np.sin(angle), np.sin(angle)
        return matrices


@part("zoom")
class Zoom(_Sampled):
    """Enlarge by a factor between two, below 1 it shrinks.

    Parameters
    ----------
    low, high : float
    fill : float

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Zoom(0.9, 1.1)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, low: float = 0.8, high: float = 1.25, fill: float = 0) -> None:
        if not 0 < low <= high:
            raise SettingError(
                f"Zoom: factors have to be above 0 and in rising order, got {low} and {high}."
            )
        self.low, self.high, self.fill = low, high, fill

    def _matrices(self, x: np.ndarray, draws: CounterRandom) -> np.ndarray:
        factor = np.exp(draws.uniform(np.log(self.low), np.log(self.high)))
        matrices = np.tile(np.eye(3), (len(x), 1, 1))
        matrices[:, 0, 0] = matrices[:, 1, 1] = 1 / factor
        return matrices


@part("perspective")
class Perspective(_Sampled):
    """Seen from somewhat aside.

    Parameters
    ----------
    strength : float
        By how much sizes differ from one side to the other, at most.
    fill : float

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Perspective(0.1)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, strength: float = 0.2, fill: float = 0) -> None:
        if not 0 <= strength < 1:
            raise SettingError(f"Perspective: strength must be from 0 to below 1, got {strength}.")
        self.strength, self.fill = strength, fill

    def _matrices(self, x: np.ndarray, draws: CounterRandom) -> np.ndarray:
        tilt = draws.uniform(-self.strength, self.strength, 2) / 2
        matrices = np.tile(np.eye(3), (len(x), 1, 1))
        matrices[:, 2, 0] = tilt[:, 0] / max((x.shape[1] - 1) / 2, 1)
        matrices[:, 2, 1] = tilt[:, 1] / max((x.shape[2] - 1) / 2, 1)
        return matrices


class _Tone(_Toned):
    """A factor a picture, drawn from between ``1 - strength`` and ``1 + strength``."""

    def __init__(self, strength: float = 0.2) -> None:
        if not 0 <= strength <= 1:
            raise SettingError(
                f"{type(self).__name__}: strength must be from 0 to 1, got {strength}."
            )
        self.strength = strength

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        factor = (
            self.drawn(draws)
            .uniform(1 - self.strength, 1 + self.strength)
            .astype(np.float32)[:, None, None, None]
        )
        return self._with_factor(x, factor)

    def _with_factor(self, x: np.ndarray, factor: np.ndarray) -> Any:
        return self._between(x, lambda unit: self._toned(unit, factor))

    def _toned(self, x: np.ndarray, factor: np.ndarray) -> Any:
        raise NotImplementedError


@part("brightness")
class Brightness(_Tone):
    """Brighter or darker; values stay between black and white.

    Parameters
    ----------
    strength : float
        The factor lies between ``1 - strength`` and ``1 + strength``.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Brightness(0.2)))).inputs.shape
    (2, 8, 8, 3)
    """

    def _with_factor(self, x: np.ndarray, factor: np.ndarray) -> Any:
        if x.dtype != np.uint8:
            return super()._with_factor(x, factor)
        y = np.multiply(x, factor, dtype=np.float32)
        np.minimum(y, 255, out=y)
        return np.rint(y, out=y).astype(np.uint8)

    def _toned(self, x: np.ndarray, factor: np.ndarray) -> Any:
        return x * factor


@part("contrast")
class Contrast(_Tone):
    """More or less far from the picture's mean; see `Brightness`.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Contrast(0.2)))).inputs.shape
    (2, 8, 8, 3)
    """

    def _toned(self, x: np.ndarray, factor: np.ndarray) -> Any:
        mean = x.mean(axis=(1, 2, 3), keepdims=True)
        return (x - mean) * factor + mean


@part("saturation")
class Saturation(_Tone):
    """More or less far from grey; see `Brightness`.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Saturation(0.2)))).inputs.shape
    (2, 8, 8, 3)
    """

    def _toned(self, x: np.ndarray, factor: np.ndarray) -> Any:
        grey = _colours(x, self) @ GREY
        return (x - grey[..., None]) * factor + grey[..., None]


def _colours(x: np.ndarray, what: Transform) -> np.ndarray:
    if x.shape[3] != 3:
        raise DataError(
            f"{what!r}: pictures of red, green and blue are wanted, got {x.shape[3]} channels."
        )
    return x


@part("hue")
class Hue(_Toned):
    """Colours turned around the grey axis.

    Parameters
    ----------
    degrees : float
        At most, either way.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Hue(10)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, degrees: float = 10.0) -> None:
        self.degrees = degrees

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _colours(_pictures(x, self), self)
        angle = np.deg2rad(self.drawn(draws).uniform(-self.degrees, self.degrees))
        cos, sin = np.cos(angle)[:, None, None], np.sin(angle)[:, None, None]
        across = np.array([[0, -1, 1], [1, 0, -1], [-1, 1, 0]]) / np.sqrt(3)
        turn = (cos * np.eye(3) + sin * across + (1 - cos) / 3).astype(
            np.float32
        )  # O. Rodrigues, 1840
        return self._between(x, lambda unit: np.einsum("nhwc,ndc->nhwd", unit, turn, optimize=True))


@part("blur")
class Blur(_Random):
    """Out of focus, by a Gaussian of a random width.

    Parameters
    ----------
    pixels : float
        Standard deviation, at most.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=Blur(1.0)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, pixels: float = 1.0) -> None:
        self.pixels = pixels

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        from scipy.ndimage import gaussian_filter

        x = _pictures(x, self)
        y = np.empty_like(x)
        for new, old, width in zip(y, x, self.drawn(draws).uniform(0, self.pixels), strict=True):
            new[...] = _as_before(
                gaussian_filter(_as_floats(old), (width, width, 0), mode="nearest"), x
            )
        return y


@part("noise", "transform")
class Noise(_Toned):
    """Gaussian noise.

    Parameters
    ----------
    deviation : float
        As a fraction of white.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=vs.data.pictures.Noise(0.1)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, deviation: float = 0.02) -> None:
        self.deviation = deviation

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        noise = self.drawn(draws).normal(*x.shape[1:]).astype(np.float32) * self.deviation
        return self._between(x, lambda unit: unit + noise)


@part("cut_out")
class CutOut(_Random):
    """A square of the picture is hidden (T. DeVries and G. W. Taylor, 2017).

    Parameters
    ----------
    size : int
    fill : float

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.zeros(4))
    >>> next(iter(data.batches(2, augment=CutOut(3)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, size: int, fill: float = 0) -> None:
        self.size, self.fill = size, fill

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _pictures(x, self)
        unit = self.drawn(draws).uniform(0, 1, 2)
        y = x.copy()
        for picture, (r, c) in zip(y, (unit * x.shape[1:3]).astype(int).tolist(), strict=True):
            half = self.size // 2
            picture[
                max(r - half, 0) : r - half + self.size, max(c - half, 0) : c - half + self.size
            ] = self.fill
        return y


@part("mix")
class Mix(_Random):
    """Two examples mixed, their targets too (mixup: H. Zhang and others, 2018).

    The other one is the neighbour in the batch. Class numbers become probabilities, which
    `cross_entropy` takes.

    Parameters
    ----------
    classes : int
        Number of classes; 0 for targets that are numbers.
    alpha : float
        The share is drawn from Beta(alpha, alpha).

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((4, 8, 8, 3), np.float32), np.arange(4) % 2)
    >>> next(iter(data.batches(2, augment=Mix(2)))).inputs.shape
    (2, 8, 8, 3)
    """

    def __init__(self, classes: int, alpha: float = 0.2) -> None:
        if not alpha > 0:
            raise SettingError(f"Mix: alpha must be above 0, got {alpha}.")
        self.classes, self.alpha = classes, alpha

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        return self._mixed(np.asarray(x), self.drawn(draws).beta(self.alpha))

    def _mixed(self, x: np.ndarray, share: np.ndarray) -> Any:
        share = share.astype(np.float32).reshape(-1, *[1] * (x.ndim - 1))
        return _as_before(
            _as_floats(x) * share + _as_floats(np.roll(x, 1, axis=0)) * (1 - share), x
        )

    def on_batch(self, batch: Batch, draws: CounterRandom) -> Batch:
        share = draws.beta(self.alpha)
        if isinstance(batch.inputs, tuple | dict) or isinstance(batch.targets, dict):
            raise DataError("Mix takes one array of inputs and one of targets.")
        targets = np.asarray(batch.targets)
        if self.classes:
            if targets.ndim == 1:
                if targets.min() < 0 or targets.max() >= self.classes:
                    raise DataError(
                        f"Mix: of {self.classes} classes the labels are 0 to {self.classes - 1}, "
                        f"and there are {targets.min()} to {targets.max()}. Leave out examples "
                        "without a label before they are mixed."
                    )
                targets = np.eye(self.classes, dtype=np.float32)[targets]
        elif targets.dtype.kind in "iu":
            raise DataError(
                "Mix: the targets are class numbers; say how many classes there are: "
                "Mix(classes=6)."
            )
        return batch.with_values(
            inputs=self._mixed(np.asarray(batch.inputs), share), targets=self._mixed(targets, share)
        )
