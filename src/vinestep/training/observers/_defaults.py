"""Observers that a recorded run has, whether they are given or not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ...errors import SettingError
from ..run._run import Observer
from ._checkpoints import Checkpoints
from ._curves import Curves

__all__ = ["checked_observers", "with_default_observers"]


class EachEpoch(Observer):
    """A plain function of the user's own, called after each epoch with the run and its row."""

    def __init__(self, function: Callable[[Any, dict[str, float]], Any]) -> None:
        self.function = function

    def after_epoch(self, run: Any, row: dict[str, float]) -> None:
        self.function(run, row)


def checked_observers(observers: Any) -> list[Observer]:
    """
    Raises
    ------
    SettingError
        If one is no observer, nor a function ``f(run, row)`` that is called after each epoch.
    """
    if isinstance(observers, Observer) or not isinstance(observers, Iterable):
        raise SettingError(
            f"observers is a sequence, got {type(observers).__name__}. Write observers=[...]."
        )
    result = []
    for observer in observers:
        if isinstance(observer, Observer):
            result.append(observer)
        elif isinstance(observer, type):
            raise SettingError(
                f"observers: {observer.__name__} is a class. Give one that is made: "
                f"{observer.__name__}(...)."
            )
        elif callable(observer):
            result.append(EachEpoch(observer))
        else:
            raise SettingError(
                f"observers: a {type(observer).__name__} is none. Derive its class from "
                "vinestep.observers.Observer, or give a function f(run, row) that is called after "
                "each epoch."
            )
    return result


def with_default_observers(
    observers: Sequence[Observer], recorded: bool, *, validation: bool = False
) -> list[Observer]:
    """The observers in their order. A recorded run always saves its states: with a validation part
    the best ones too, and its curves.
    """
    result = checked_observers(observers)
    if recorded:
        if not any(isinstance(observer, Curves) for observer in result):
            result.append(Curves())
        if not any(isinstance(observer, Checkpoints) for observer in result):
            result.append(Checkpoints("best" if validation else "newest"))
    return sorted(result, key=lambda observer: observer.order)
