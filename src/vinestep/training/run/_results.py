"""What is known of a step, of how far a run is, and of how it ended."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from html import escape
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

import numpy as np

from ..._notebook_html import html_curve, html_table
from ..._public_names import did_you_mean
from ...errors import RunError
from ._status import Status

if TYPE_CHECKING:
    import pandas as pd

    from ...storage.run_store import RunStore

__all__ = ["Outcome", "Position", "direction"]

EMPTY: Mapping[str, Any] = MappingProxyType({})


@dataclass(slots=True)
class Position:
    """How far a run has come, and the sums of the epoch under way.

    Examples
    --------
    >>> position = Position(step=3)
    >>> position.add(0.5, 8, {}, weight=8.0)
    >>> position.loss, position.seen
    (0.5, 8)
    """

    epoch: int = 0
    """Epochs completed."""
    batch: int = 0
    """Batches of the current epoch done."""
    step: int = 0
    """Updates done."""
    loss_sum: float = 0.0
    weight: float = 0.0
    """What the losses in the sum weigh; NaN in states of 0.1.0, which counted examples."""
    examples: int = 0
    counts: dict[str, list[float]] = field(default_factory=dict)
    seen: int = 0
    """Examples since the run began."""
    seconds: float = 0.0
    """Of training since the run began, without interruptions."""
    summed: bool = False
    """Whether the loss of a batch is a sum over its examples, rather than their mean."""

    @property
    def loss(self) -> float:
        """Of the epoch so far: the mean over its examples, or their sum if that is what the loss
        is.
        """
        return self.loss_sum if self.summed else self.loss_sum / (self.weight or 1.0)

    def add(
        self,
        loss: float,
        n: int,
        counts: Mapping[str, np.ndarray],
        *,
        weight: float,
        summed: bool = False,
        merges: Mapping[str, Callable[[Any, Any], Any]] = EMPTY,
    ) -> None:
        self.summed = summed
        if math.isnan(self.weight):
            an_example = weight / n
            self.loss_sum *= 1 if summed else an_example
            self.weight = self.examples * an_example
        self.loss_sum += loss if summed else loss * weight
        self.weight += weight
        self.examples += n
        self.seen += n
        for name, count in counts.items():
            known, merge = self.counts.get(name), merges.get(name, np.add)
            if known is not None and merge is np.add and np.shape(known) != np.shape(count):
                raise RunError(
                    f"The counts of {name} have shape {np.shape(count)}, those of the epoch so "
                    f"far {np.shape(known)}."
                )
            self.counts[name] = (
                count if known is None else merge(np.asarray(known), count)
            ).tolist()

    def next_epoch(self) -> None:
        self.epoch += 1
        self.batch = 0
        self.loss_sum, self.weight, self.examples, self.counts = 0.0, 0.0, 0, {}

    def as_dict(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(slots=True)
class Outcome:
    """How a run ended.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(4), epochs=3)
    >>> outcome.reason, list(outcome.curves)
    ('All 3 epochs done, 6 steps.', ['epoch', 'step', 'rate', 'loss'])
    >>> outcome.best("loss")["epoch"]
    3
    """

    rows: list[dict[str, float]]
    status: Status
    reason: str
    """Why it ended, and if it can be continued, how."""
    folder: Path | None
    seconds: float
    better: dict[str, str] = field(
        default_factory=lambda: {"loss": "lower", "validation_loss": "lower"}
    )
    """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""
    store: RunStore | None = None
    looks: list[dict[str, float]] = field(default_factory=list)
    """Scores of validation within epochs, where that was asked for in steps."""
    best_row: dict[str, float] = field(default_factory=dict)
    """Scores of the state with the best validation score, which `Training.model` gives. Empty of a
    run without validation, whose last state it gives."""

    def __repr__(self) -> str:
        last = _in_words(self.rows[-1]) if self.rows else "no epoch done"
        best = f"Best, which comes out: {_in_words(self.best_row)}  " if self.best_row else ""
        place = f"  in {self.folder}" if self.folder is not None else ""
        return f"<Outcome {self.status.value}: {self.reason} {best}Last: {last}{place}>"

    def _repr_html_(self) -> str:
        last = self.rows[-1] if self.rows else {}
        names = [name for name in ("loss", "validation_loss") if name in last]
        against = "epoch" if "epoch" in last else "step"
        table = html_table(
            "The last rows", list(last), [list(row.values()) for row in self.rows[-5:]]
        )
        place = (
            f"<div>Recorded in {escape(str(self.folder))}</div>" if self.folder is not None else ""
        )
        return (
            f"<div><b>{self.status.value}</b>: "
            f"{escape(self.reason)}</div>{html_curve(self.rows, names, against)}{table}{place}"
        )

    @property
    def curves(self) -> pd.DataFrame:
        """One row per epoch: epoch, step, rate, loss and metrics, and those of the validation
        part.
        """
        import pandas as pd

        return pd.DataFrame(self.rows)

    def best(self, quantity: str = "validation_loss") -> dict[str, float]:
        """The row of the epoch that was best in a quantity."""
        rows = [row for row in self.rows if quantity in row]
        if not rows:
            raise RunError(
                f"The curves have no column {quantity!r}; they have "
                f"{', '.join(self.rows[0]) if self.rows else 'none'}."
            )
        sign = 1 if direction(self.better, quantity) == "lower" else -1
        judged = [row for row in rows if not math.isnan(row[quantity])]
        if not judged:
            raise RunError(f"{quantity} was NaN in every epoch, so none is best.")
        return min(judged, key=lambda row: sign * row[quantity])


def _in_words(row: Mapping[str, float]) -> str:
    return "  ".join(f"{name} {value:.4g}" for name, value in row.items())


def direction(better: Mapping[str, str], quantity: str) -> str:
    """Whether "higher" or "lower" is better.

    Raises
    ------
    RunError
        If nobody said so.
    """
    if quantity not in better:
        raise RunError(
            f"Whether more or less of {quantity!r} is better is not known. "
            f"{did_you_mean(quantity, better)}"
        )
    return better[quantity]
