"""Parts of a run that have a state, and their states taken apart into arrays and JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol, runtime_checkable

import numpy as np

from ..._arguments import checked_seed

__all__ = ["HasState", "RandomStream", "divides_state", "joined_state", "split_state"]


@runtime_checkable
class HasState(Protocol):
    """Something that changes during a run and has to be known to continue it.

    Examples
    --------
    >>> isinstance(vs.RandomStream(0), vs.training.HasState)
    True
    """

    def state(self) -> dict[str, Any]:
        """Arrays and finite JSON, in dicts."""

    def restore(self, state: Mapping[str, Any]) -> None:
        """Take back what `state` gave."""


def divides_state(parts: Mapping[str, object]) -> bool:
    """Whether what a state of these parts holds lies on several ranks."""
    return any(getattr(part, "divides_state", False) for part in parts.values())


class RandomStream:
    """A generator of random numbers whose position is saved with the run.

    Examples
    --------
    >>> noise = vs.RandomStream(seed=5)
    >>> kept = noise.state()
    >>> first = noise.rng.normal(size=3)
    >>> noise.restore(kept)
    >>> np.array_equal(noise.rng.normal(size=3), first)
    True
    """

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng(checked_seed(seed, "RandomStream"))

    def state(self) -> dict[str, Any]:
        """The position, as JSON can hold it."""
        return {"generator": self.rng.bit_generator.state}

    def restore(self, state: Mapping[str, Any]) -> None:
        """Go back to where `state` was asked for.

        Raises
        ------
        ValueError
            If it is of another kind of generator.
        """
        self.rng.bit_generator.state = state["generator"]


def split_state(
    state: Mapping[str, Any], path: str = ""
) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    """The arrays of a state by path, and the rest of it.

    Examples
    --------
    >>> split_state({"weights": {"0/bias": np.zeros(1)}, "step": 3})
    ({'weights/0/bias': array([0.])}, {'weights': {}, 'step': 3})
    """
    arrays: dict[str, np.ndarray] = {}
    rest: dict[str, Any] = {}
    for key, value in state.items():
        where = f"{path}{key}"
        if isinstance(value, np.ndarray):
            arrays[where] = value
        elif isinstance(value, Mapping):
            inner, rest[key] = split_state(value, f"{where}/")
            arrays |= inner
        else:
            rest[key] = value
    return arrays, rest


def joined_state(
    arrays: Mapping[str, np.ndarray], rest: Mapping[str, Any], path: str = ""
) -> dict[str, Any]:
    """What `split_state` was given; an array belongs to the longest path of dicts that there is."""
    whole: dict[str, Any] = {}
    inner_paths = []
    for key, value in rest.items():
        if isinstance(value, Mapping):
            inner_paths.append(f"{path}{key}/")
            whole[key] = joined_state(arrays, value, f"{path}{key}/")
        else:
            whole[key] = value
    for name, array in arrays.items():
        if name.startswith(path) and not any(name.startswith(inner) for inner in inner_paths):
            whole[name[len(path) :]] = array
    return whole
