"""Transforms: what is done to inputs, always (`prepared`) or at random (`augment=`)."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable
from typing import Any, ClassVar

import numpy as np

from ...errors import DataError, SettingError
from ...parts._registry import part
from ._batch import Batch, mapped
from ._counter_rng import CounterRandom

__all__ = [
    "ByFunction",
    "Chain",
    "Transform",
    "ValueRange",
    "as_transform",
    "prepared",
    "with_ranges",
]

ValueRange = tuple[Any, Any] | None
"""Lowest and highest value, numbers or one for each channel; None if they are not known."""


class Transform:
    """Something done to the inputs of examples.

    A transform of one's own writes ``__call__(x, draws)`` for an array of some examples, first axis
    the examples; what is random in it is taken from `draws`, so that it is the same however many
    readers there are.

    Attributes
    ----------
    random : bool
        Whether it makes something else of the same example in each epoch.

    Examples
    --------
    >>> class Halved(Transform):
    ...     def __call__(self, x, draws=None):
    ...         return x / 2
    >>> source = vs.data.Dataset(np.array([[2.0], [4.0]]), np.array([0, 1])).prepared(Halved())
    >>> source[1][0]
    array([2.])
    """

    part_family = "transform"
    random: ClassVar[bool] = False

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        raise NotImplementedError(f"{type(self).__name__}.__call__ is not written.")

    def on_batch(self, batch: Batch, draws: CounterRandom) -> Batch:
        """A batch of which the inputs are transformed; a transform that concerns targets too writes
        this.
        """
        return batch.with_values(inputs=mapped(lambda x: self(x, draws), batch.inputs))

    def inverse(self, x: np.ndarray) -> np.ndarray:
        """What a network made, as it was before this was done to the examples: the same, but for
        transforms that change values.
        """
        return x

    def output_range(self, before: ValueRange) -> ValueRange:
        """Lowest and highest value of what comes out, if they are known."""
        return before if type(self).__module__.startswith("vinestep.") else None

    def with_input_range(self, found: ValueRange) -> Transform:
        """The same, told the lowest and highest value that what it is given can have."""
        return self

    def then(self, following: Transform) -> Chain:
        """This one, and after it another."""
        return Chain(self, following)

    def __repr__(self) -> str:
        shown = ", ".join(
            f"{name}={value!r}" for name, value in vars(self).items() if not name.startswith("_")
        )
        return f"{type(self).__name__}({shown})"

    def drawn(self, draws: CounterRandom | None) -> CounterRandom:
        """The random numbers, which a random transform can not do without."""
        if draws is None:
            raise SettingError(
                f"{self!r} is random: use it as batches(..., augment=), or give it "
                "CounterRandom(seed, epoch, index)."
            )
        return draws


@part("chain", "transform")
class Chain(Transform):
    """Transforms one after another.

    Examples
    --------
    >>> from vinestep.data.pictures import Flip, Shift
    >>> Flip().then(Shift(2)).random
    True
    """

    def __init__(self, *transforms: Transform) -> None:
        self.transforms = tuple(transforms)

    @property
    def random(self) -> bool:  # type: ignore[override]
        return any(transform.random for transform in self.transforms)

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        for purpose, transform in enumerate(self.transforms):
            x = transform(x, None if draws is None else draws.for_purpose(purpose))
        return x

    def on_batch(self, batch: Batch, draws: CounterRandom) -> Batch:
        for purpose, transform in enumerate(self.transforms):
            batch = transform.on_batch(batch, draws.for_purpose(purpose))
        return batch

    def output_range(self, before: ValueRange) -> ValueRange:
        for transform in self.transforms:
            before = transform.output_range(before)
        return before

    def with_input_range(self, found: ValueRange) -> Transform:
        return Chain(*with_ranges(self.transforms, found))

    def then(self, following: Transform) -> Chain:
        return Chain(*self.transforms, following)


@part("by_function", "transform")
class ByFunction(Transform):
    """A plain function of the user's own as a transform.

    Parameters
    ----------
    function : callable
        ``function(x)`` of an array of some examples; or ``function(x, rng)`` of one example and a
        generator of NumPy, which is the same for the same example, epoch and seed.

    Examples
    --------
    >>> batches = vs.data.Dataset(np.ones((4, 2)), np.arange(4)).batches(
    ...     4, augment=lambda x, rng: x + rng.normal(0, 0.1, x.shape)
    ... )
    >>> next(batches.epoch(0)).inputs.shape
    (4, 2)
    """

    def __init__(self, function: Callable[..., Any]) -> None:
        if not callable(function):
            raise SettingError(f"A {type(function).__name__} is no transform, and no function.")
        self.function = function
        self._draws = _takes_two(function)

    @property
    def random(self) -> bool:  # type: ignore[override]
        return self._draws

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        if not self._draws:
            found = self.function(x)
        else:
            generators = self.drawn(draws).generators()
            found = np.stack([self.function(one, g) for one, g in zip(x, generators, strict=True)])
        if len(found) != len(x):
            raise DataError(
                f"The transform {getattr(self.function, '__name__', self.function)!r} made "
                f"{len(found)} examples of {len(x)}. Keep the first axis."
            )
        return found


def _takes_two(function: Callable[..., Any]) -> bool:
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError):
        return False
    needed = [p for p in parameters if p.default is p.empty and p.kind is p.POSITIONAL_OR_KEYWORD]
    return len(needed) > 1


def as_transform(given: Any) -> Transform:
    """A transform, or a function as one."""
    return given if isinstance(given, Transform) else ByFunction(given)


def with_ranges(transforms: Iterable[Transform], found: ValueRange) -> list[Transform]:
    """Transforms one after another, each told the range of what it is given."""
    result = []
    for transform in transforms:
        result.append(transform.with_input_range(found))
        found = transform.output_range(found)
    return result


def prepared(x: Any, transforms: Iterable[Transform]) -> Any:
    """An array of examples after transforms that have nothing random."""
    for transform in transforms:
        x = transform(x)
    return x
