"""The task of a loss, and of a source of examples."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import losses
from ._base import PREDICTED, Back, Task, in_rows
from ._classes import Binary, Classes, decided
from ._numbers import Numbers
from ._several import Several
from ._unaligned import Unaligned

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["task_for", "task_of"]

MATRIX = 2


class Unsaid(Task):
    """The task of a loss that says nothing of what outputs mean, or of no loss at all."""

    def __init__(self, *, logits: bool = False) -> None:
        super().__init__()
        self.logits = logits

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        if outputs.ndim != MATRIX or outputs.shape[1] < 2 or len(classes) != outputs.shape[1]:
            return in_rows(outputs if back is None else back(outputs))
        if self.logits:
            return Classes().answers(outputs, classes)
        import pandas as pd

        best = pd.Series([classes[i] for i in outputs.argmax(axis=1)], name=PREDICTED)
        numbers = pd.DataFrame(outputs, columns=[f"output {value}" for value in classes])
        return pd.concat([best, numbers], axis=1)


class LogProbabilities(Classes):
    """Of networks that end in log_softmax."""

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        known = classes if len(classes) == outputs.shape[-1] else range(outputs.shape[-1])
        return decided(np.exp(outputs.astype(np.float64)), known)


class Scores(Unsaid):
    """Scores of classes, of which the highest decides."""


CLASSES, BINARY, NUMBERS = Classes(), Binary(), Numbers()
LOG_PROBABILITIES, SCORES = LogProbabilities(), Scores()
UNSAID, OF_NO_LOSS = Unsaid(), Unsaid(logits=True)
OF_LOSSES = {
    losses.cross_entropy: CLASSES,
    losses.binary_cross_entropy: BINARY,
    losses.negative_log_likelihood: LOG_PROBABILITIES,
    losses.hinge: SCORES,
    losses.squared_error: NUMBERS,
    losses.absolute_error: NUMBERS,
    losses.huber: NUMBERS,
    losses.log_cosh: NUMBERS,
    losses.temporal_classification: Unaligned(),
}


def task_of(loss: Any) -> Task:
    """What the outputs of a network mean that was trained with a loss; a task means itself.

    Examples
    --------
    >>> from functools import partial
    >>> vs.tasks.task_of(partial(vs.losses.binary_cross_entropy, positive_weight=3.0))
    Binary()
    """
    if isinstance(loss, Task):
        return loss
    if loss is None:
        return OF_NO_LOSS
    function = losses.unwrapped(loss)[0]
    try:
        return OF_LOSSES.get(function, UNSAID)
    except TypeError:  # it has no hash
        return UNSAID


def task_for(source: Any) -> Task:
    """The usual task of the targets of a source: one class of many where they are classes,
    otherwise numbers; each by name where there are several.

    Parameters
    ----------
    source : Source
        Such as a `vinestep.data.Table`.

    Examples
    --------
    >>> table = vs.data.Table(vs.demo.barrels(50), target="state")
    >>> vs.tasks.task_for(table)
    Classes()
    """
    gaps = bool(getattr(source, "target_gaps", False))
    known = getattr(source, "class_values", ())
    if not isinstance(known, Mapping):
        return _usual(known, gaps)
    return Several({name: _usual(values, gaps) for name, values in known.items()})


def _usual(classes: Sequence[Any], gaps: bool) -> Task:
    return Classes(gaps=gaps) if classes else Numbers(gaps=gaps)
