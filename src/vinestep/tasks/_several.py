"""Several tasks at once, by name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ..autodiff.tensor import held
from ..errors import DataError, SettingError, ShapeError
from ..parts._registry import part
from ._base import Back, Task

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Several", "named_arrays"]


@part("several", "task")
class Several(Task):
    """Several targets by name: the network puts out one array for each, as a dict, or as a tuple in
    the order of the names.

    The loss is the weighted sum of theirs. Each is a mean over all examples, in which a missing
    target adds nothing: every reading weighs the same, however many a batch has.

    Parameters
    ----------
    tasks : mapping of name to Task
    weights : mapping of name to float, optional
        What the loss of each counts; 1 where nothing is said.

    Examples
    --------
    >>> task = vs.tasks.Several({"state": vs.tasks.Classes(), "sugar": vs.tasks.Numbers()})
    >>> outputs = {"state": np.zeros((1, 2)), "sugar": np.zeros((1, 1))}
    >>> task(outputs, {"state": np.array([1]), "sugar": np.array([[2.0]])}).round(4)
    np.float64(4.6931)
    """

    def __init__(
        self, tasks: Mapping[str, Task], weights: Mapping[str, float] | None = None
    ) -> None:
        super().__init__(gaps=any(getattr(task, "gaps", False) for task in dict(tasks).values()))
        self.tasks, self.weights = dict(tasks), dict(weights or {})
        if not self.tasks:
            raise SettingError("Several: there are no tasks.")
        for name, task in self.tasks.items():
            if not isinstance(name, str) or not name or not isinstance(task, Task):
                raise SettingError(
                    f"Several: {name!r} is a {type(task).__name__}. Give tasks by name, such as "
                    '{"state": vinestep.tasks.Classes()}.'
                )
            if isinstance(task, Several):
                raise SettingError(
                    f"Several: {name!r} is of several targets itself. Name them all."
                )
        for name, weight in self.weights.items():
            if name not in self.tasks:
                raise SettingError(
                    f"Several: there is a weight of {name!r}, and no such task. There are "
                    f"{', '.join(self.tasks)}."
                )
            if not 0 <= weight < np.inf:
                raise SettingError(f"Several: the weight of {name!r} is {weight!r}.")

    def __repr__(self) -> str:
        return f"Several({', '.join(f'{name}: {task!r}' for name, task in self.tasks.items())})"

    def by_name(self, values: Any, what: str) -> dict[str, Any]:
        """Outputs or targets by name.

        Raises
        ------
        DataError
            If one is missing, or there are others.
        """
        return named_arrays(values, list(self.tasks), what)

    def by_target(self, outputs: Any, targets: Any = None) -> list[tuple[str, Task, Any, Any]]:
        found = self.by_name(outputs, "output")
        wanted = {} if targets is None else self.by_name(targets, "target")
        return [(name, task, found[name], wanted.get(name)) for name, task in self.tasks.items()]

    def __call__(self, outputs: Any, targets: Any, *, weights: Any = None) -> Any:
        found, wanted = self.by_name(outputs, "output"), self.by_name(targets, "target")
        weigh = _of_examples(weights, wanted)
        whole = float(weigh.sum())
        if not whole:
            raise DataError("The loss has nothing to average: all weights are 0.")
        total: Any = 0.0
        for name, task in self.tasks.items():
            try:
                places = task.place_weights(wanted[name], None if weights is None else weigh)
                added = task.total(found[name], wanted[name], places)
            except ShapeError as error:
                raise ShapeError(f"{name}: {error}") from error
            except DataError as error:
                raise DataError(f"{name}: {error}") from error
            each = places.size // max(len(places), 1)
            total = total + added * (self.weights.get(name, 1.0) / (whole * each))
        return total

    def place_weights(self, targets: Any, weights: Any) -> np.ndarray:
        return _of_examples(weights, self.by_name(targets, "target"))

    def counted(self, targets: Any) -> np.ndarray | None:
        return None

    def answers(self, outputs: Any, classes: Any = (), back: Back | None = None) -> pd.DataFrame:
        """The answers of each task side by side, their columns after its name."""
        import pandas as pd

        found = self.by_name(outputs, "output")
        known = classes if isinstance(classes, Mapping) else {}
        parts = [
            task.answers(np.asarray(found[name]), known.get(name, ())).add_prefix(f"{name} ")
            for name, task in self.tasks.items()
        ]
        return pd.concat(parts, axis=1)


def named_arrays(values: Any, names: Sequence[str], what: str) -> dict[str, Any]:
    """Arrays by name, in the order of the names; a tuple is taken in this order."""
    if isinstance(values, tuple | list) and len(values) == len(names):
        return dict(zip(names, values, strict=True))
    if not isinstance(values, Mapping):
        got = f"{len(values)}" if isinstance(values, tuple | list) else type(held(values)).__name__
        raise DataError(
            f"Several: {len(names)} {what}s are expected, {', '.join(names)}, by name; got {got}."
        )
    missing = [name for name in names if name not in values]
    if missing:
        raise DataError(
            f"Several: there is no {what} {missing[0]!r}. There are {', '.join(map(str, values))}."
        )
    return {name: values[name] for name in names}


def _of_examples(weights: Any, targets: Mapping[str, Any]) -> np.ndarray:
    """What each example weighs, shape (n,)."""
    lengths = {name: np.shape(held(target))[:1] for name, target in targets.items()}
    n = next(iter(lengths.values()))
    if any(length != n for length in lengths.values()) or not n:
        raise ShapeError(
            "Several: the targets are of different numbers of examples: "
            + ", ".join(f"{name} {length}" for name, length in lengths.items())
        )
    if weights is None:
        return np.ones(n)
    given = np.asarray(held(weights), np.float64)
    if given.shape != n or (given < 0).any():
        raise DataError(
            f"Several: weights are one for each example, not negative; got shape {given.shape} for "
            f"{n[0]} examples."
        )
    return given
