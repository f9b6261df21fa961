"""What an optimiser is.

A member of the family declares the names of its state arrays in `state_names`, keeps its
constructor's arguments as attributes, and writes its formula in ``apply_update(theta, g, rate,
decay, start, stop)`` over flat arrays. The base checks, counts, keeps the state, and calls the
formula once for each stretch of the arena with a rate and a decay of its own.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any, ClassVar, Literal, TypedDict

import numpy as np

from .._ownership import Owned
from .._public_names import did_you_mean
from ..autodiff.gradients import Layout
from ..autodiff.signatures import FLOAT32, FLOAT64
from ..errors import (
    DTypeError,
    NotFiniteError,
    SettingError,
    ShapeError,
)
from ..kernels import Unsound, give_up, usable

__all__ = ["Common", "Optimiser", "below_one", "not_negative", "positive"]

DecayOf = Literal["all", "weights"]


class Common(TypedDict, total=False):
    """What every optimiser takes."""

    weight_decay: float
    rate_factors: Mapping[str, float] | None
    decay_factors: Mapping[str, float] | None
    decay_of: DecayOf


def _last_matching(factors: Mapping[str, float], path: str) -> float:
    result = 1.0
    for pattern, value in factors.items():
        if fnmatchcase(path, pattern):
            result = value
    return result


def positive(value: float, name: str) -> float:
    """The value, if it is a positive number."""
    if not (isinstance(value, int | float | np.floating) and math.isfinite(value) and value > 0):
        raise SettingError(f"{name} must be a positive number, got {value!r}.")
    return float(value)


def below_one(value: float, name: str) -> float:
    """The value, if it lies from 0 up to but not including 1."""
    if not (isinstance(value, int | float | np.floating) and 0 <= value < 1):
        raise SettingError(f"{name} must be from 0 up to but not including 1, got {value!r}.")
    return float(value)


def not_negative(value: float, name: str) -> float:
    """The value, if it is a number of at least 0."""
    if not (isinstance(value, int | float | np.floating) and math.isfinite(value) and value >= 0):
        raise SettingError(f"{name} must not be negative, got {value!r}.")
    return float(value)


def _stretch_of(layout: Layout, span: tuple[int, int] | None) -> Layout:
    return layout if span is None else Layout([("stretch", (span[1] - span[0],))])


def _within(
    stretches: Iterable[tuple[int, int, float, float]], span: tuple[int, int] | None
) -> Iterator[tuple[int, int, float, float]]:
    """What of the stretches lies in a span, counted from its start."""
    if span is None:
        yield from stretches
        return
    for start, stop, *own in stretches:
        inside, end = max(start, span[0]), min(stop, span[1])
        if inside < end:
            yield (inside - span[0], end - span[0], *own)  # type: ignore[misc]


class Optimiser(Owned):
    """Base of all optimisers.

    Parameters
    ----------
    rate : float
        Learning rate; a schedule scales it.
    weight_decay : float
        How strongly parameters are drawn to zero; what exactly is said by each member.
    rate_factors : mapping of pattern to factor, optional
        Other rates for some parameters, by patterns over their paths: ``{"features/*": 0.1}``. The
        last pattern that matches counts.
    decay_factors : mapping of pattern to factor, optional
        Likewise of the weight decay: ``{"embedding/*": 0.0}``.
    decay_of : {"all", "weights"}
        Which parameters decay: "weights" leaves out biases, and scales and shifts of
        normalisations, which have one axis at most.

    Examples
    --------
    >>> class SignDescent(Optimiser):
    ...     def apply_update(self, theta, g, rate, decay, start, stop):
    ...         theta[start:stop] -= rate * np.sign(g[start:stop])
    >>> theta = np.array([1.0, 2.0])
    >>> SignDescent(0.5).update(theta, np.array([3.0, -4.0]))
    >>> theta
    array([0.5, 2.5])
    """

    part_family: ClassVar[str] = "optimiser"
    state_names: ClassVar[tuple[str, ...]] = ()

    keeps_finite: bool = False
    """Whether a step leaves everything finite that was, as long as gradients and rate are far from
    overflow.
    """
    by_parameter: ClassVar[bool] = False
    """Whether the formula has to be called for each parameter by itself."""

    def __init__(  # keyword arguments as in `Common`
        self,
        rate: float,
        *,
        weight_decay: float = 0.0,
        rate_factors: Mapping[str, float] | None = None,
        decay_factors: Mapping[str, float] | None = None,
        decay_of: DecayOf = "all",
    ) -> None:
        if decay_of not in ("all", "weights"):
            raise SettingError(
                f'{type(self).__name__}: decay_of is "all" or "weights", got {decay_of!r}.'
            )
        self.rate = positive(rate, f"{type(self).__name__}: rate")
        self.weight_decay = not_negative(weight_decay, f"{type(self).__name__}: weight_decay")
        self.rate_factors = {
            pattern: not_negative(f, f"rate_factors[{pattern!r}]")
            for pattern, f in (rate_factors or {}).items()
        }
        self.decay_factors = {
            pattern: not_negative(f, f"decay_factors[{pattern!r}]")
            for pattern, f in (decay_factors or {}).items()
        }
        self.decay_of: DecayOf = decay_of
        self.count = 0
        """How many updates were made."""
        self.state: dict[str, np.ndarray] = {}
        """Flat arrays over the arena, named for the paper's symbols."""
        self.layout: Layout | None = None
        self.span: tuple[int, int] | None = None
        """Start and stop of what the state is kept of; None if of all."""
        self.dtype: np.dtype[Any] | None = None
        self.runs_kernels = False
        """Whether the arrays at hand are such as compiled loops take; otherwise members compute by
        NumPy.
        """
        self._usual = False
        self._size = 0
        self._stretches: list[tuple[int, int, float, float]] = []
        self.keeps_finite = type(self).__module__.startswith("vinestep.")

    def settings(self) -> dict[str, Any]:
        """How it was made, by name."""
        from ..parts._describe import describe

        return {
            name: value
            for name, value in describe(self, opaque=True).items()
            if name not in ("kind", "name")
        }

    @staticmethod
    def not_settings() -> set[str]:
        """Attributes that are its state."""
        return {
            *("count", "state", "state_names", "layout", "span"),
            *("dtype", "runs_kernels", "keeps_finite"),
        }

    def begin(
        self,
        layout: Layout,
        dtype: np.dtype[Any],
        span: tuple[int, int] | None = None,
        paths: Sequence[str] | None = None,
    ) -> None:
        """Make the state arrays for an arena. What is known of parameters that stay is kept, by
        path.

        Parameters
        ----------
        layout : Layout
        dtype : dtype
        span : (start, stop), optional
            A stretch of the arena: state is kept of it alone, nothing known is taken over, and
            `update` gets that stretch.
        paths : sequence of str, optional
            What the patterns of factors may match; by default the paths of the layout.
        """
        before, former = self.layout, self.state
        if before is layout and self.span == span:
            return
        state = self.new_state(_stretch_of(layout, span), np.dtype(dtype))
        if before is not None and span is None and state.keys() == former.keys():
            for slot, place in layout.common(before):
                for name, array in state.items():
                    if array.shape == (layout.size,):
                        layout.view(array, slot)[...] = before.view(former[name], place)
        self.state, self.layout, self.dtype = state, layout, np.dtype(dtype)
        self.span = span
        self._size = layout.size if span is None else span[1] - span[0]
        self._usual = self.dtype in (FLOAT32, FLOAT64)
        self._stretches = list(_within(self._with_rates(layout, paths or layout.paths), span))

    def new_state(self, layout: Layout, dtype: np.dtype[Any]) -> dict[str, np.ndarray]:
        """State arrays as they are before the first update."""
        return {name: np.zeros(layout.size, dtype) for name in self.state_names}

    def forget(self) -> None:
        """Begin anew with the state, as after a warm restart; settings stay."""
        if self.layout is not None:
            assert self.dtype is not None
            fresh = self.new_state(_stretch_of(self.layout, self.span), self.dtype)
            for name, array in fresh.items():
                self.state[name][...] = array
        self.count = 0

    def _with_rates(
        self, layout: Layout, paths: Sequence[str]
    ) -> list[tuple[int, int, float, float]]:
        """Start, stop, rate factor and decay of each stretch of the arena."""
        for name, factors in (
            ("rate_factors", self.rate_factors),
            ("decay_factors", self.decay_factors),
        ):
            for pattern in factors:
                if not any(fnmatchcase(path, pattern) for path in paths):
                    raise SettingError(
                        f"{name}: no parameter matches {pattern!r}. {did_you_mean(pattern, paths)}"
                    )
        stretches: list[tuple[int, int, float, float]] = []
        for slot in layout:
            own = self.factors_of(slot.path, slot.shape)
            if (
                stretches
                and stretches[-1][2:] == own
                and stretches[-1][1] == slot.start
                and not self.by_parameter
            ):
                stretches[-1] = (stretches[-1][0], slot.stop, *own)
            else:
                stretches.append((slot.start, slot.stop, *own))
        return stretches

    def factors_of(self, path: str, shape: tuple[int, ...]) -> tuple[float, float]:
        """Rate factor and weight decay of a parameter."""
        rate = _last_matching(self.rate_factors, path)
        decays = self.decay_of == "all" or len(shape) > 1
        return rate, self.weight_decay * _last_matching(self.decay_factors, path) if decays else 0.0

    def update(self, theta: np.ndarray, g: np.ndarray, rate: float | None = None) -> None:
        """One step, in place.

        Parameters
        ----------
        theta, g : ndarray, shape (layout.size,)
            The arena and its gradients.
        rate : float, optional
            The rate of this step, by default the optimiser's own.

        Raises
        ------
        ShapeError
            If the arrays are not of the size the optimiser began with.
        """
        if self.layout is None:
            self.begin(Layout([("theta", theta.shape)]), theta.dtype)
        if theta.shape != g.shape or theta.size != self._size:
            raise ShapeError(
                f"{type(self).__name__}: expected {self._size} parameters and gradients, "
                f"got {theta.shape} and {g.shape}."
            )
        if g.dtype is not theta.dtype and (g.dtype != theta.dtype or theta.dtype.kind != "f"):
            raise DTypeError(
                f"{type(self).__name__}: parameters are {theta.dtype}, gradients {g.dtype}. They "
                "have to be floats of one kind."
            )
        rate = self.rate if rate is None else rate
        if not math.isfinite(rate):
            raise NotFiniteError(
                f"{type(self).__name__}: the rate of update {self.count + 1} is {rate}. Look at "
                "the schedule."
            )
        self.count += 1
        self.runs_kernels = (
            usable()
            and self._usual
            and self.dtype == theta.dtype
            and theta.flags.carray
            and g.flags.carray
        )
        for start, stop, factor, decay in self._stretches:
            try:
                self.apply_update(theta, g, rate * factor, decay, start, stop)
            except Unsound as error:  # nothing has been changed yet
                give_up(error)
                self.runs_kernels = False
                self.apply_update(theta, g, rate * factor, decay, start, stop)

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        raise NotImplementedError(f"{type(self).__name__}.apply_update is not written.")

    def __repr__(self) -> str:
        given = [f"{name}={value}" for name, value in self.settings().items() if value != {}]
        return f"{type(self).__name__}({', '.join(given)})"
