"""Observers that a recorded run has, whether they are given or not."""

from __future__ import annotations

from collections.abc import Sequence

from ..run._run import Observer
from ._checkpoints import Checkpoints
from ._curves import Curves

__all__ = ["with_default_observers"]


def with_default_observers(
    observers: Sequence[Observer], recorded: bool, *, curves: bool = True
) -> list[Observer]:
    """The observers in their order; a recorded run always has its curves written and its state
    saved.
    """
    result = list(observers)
    if recorded:
        for kind in (Curves, Checkpoints) if curves else (Checkpoints,):
            if not any(isinstance(observer, kind) for observer in result):
                result.append(kind())
    return sorted(result, key=lambda observer: observer.order)
