"""What every task says of outputs and targets."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import scipy

from .._masking import zero_nonfinite
from ..autodiff.tensor import held
from ..errors import DataError, ShapeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["PREDICTED", "Back", "Task", "in_rows", "log_mean_exp", "numbered_columns"]

PREDICTED = "predicted"
Back = Callable[[np.ndarray], np.ndarray]
"""From a target as it was learned to the unit that it has in the data."""


class Task:
    """What the outputs of a network mean.

    A task is the loss of a training, and says besides which targets count, how metrics see the
    outputs and which answers follow from them. One of your own derives from this and gives
    `losses`; give it a kind, ``@vinestep.parts.part("mine", "task")``, to keep it in files.

    Parameters
    ----------
    gaps : bool
        Whether targets may be missing, NaN or, of classes, -1. Such places count neither in the
        loss nor in metrics; otherwise they are refused.

    Examples
    --------
    >>> class Sine(Task):
    ...     def losses(self, outputs, targets):
    ...         return 1 - np.cos(outputs - targets)
    >>> Sine()(np.zeros((2, 1)), np.array([[0.0], [np.pi]])).round(6)
    np.float64(1.0)
    """

    part_family: ClassVar[str] = "task"
    usual_metrics: ClassVar[tuple[str, ...]] = ()
    """Kinds of the metrics of a training that says nothing of them."""
    reduction: ClassVar[str] = "mean"
    needs_targets: ClassVar[bool] = True
    """Whether examples without targets cannot be learned."""

    def __init__(self, *, gaps: bool = False) -> None:
        self.gaps = bool(gaps)

    def __repr__(self) -> str:
        return f"{type(self).__name__}({'gaps=True' if self.gaps else ''})"

    @property
    def plain(self) -> Callable[..., Any] | None:
        """A loss of the library that this one equals, where no target is missing."""
        return None

    # the loss

    def losses(self, outputs: Any, targets: Any) -> Any:
        """The loss of every place of the targets, which are complete."""
        raise NotImplementedError

    def __call__(self, outputs: Any, targets: Any, *, weights: Any = None) -> Any:
        """The mean loss, over what is known and by what it weighs.

        Raises
        ------
        ShapeError
            If outputs and targets do not belong together.
        DataError
            If nothing counts, or a target is none of this task.
        """
        if self.plain is not None and not self.gaps:
            return (
                self.plain(outputs, targets)
                if weights is None
                else self.plain(outputs, targets, weights=weights)
            )
        weigh = self.place_weights(targets, weights)
        whole = float(weigh.sum())
        if not whole:
            raise DataError("The loss has nothing to average: every target is missing.")
        return self.total(outputs, targets, weigh) * (1 / whole)

    def total(self, outputs: Any, targets: Any, weigh: np.ndarray) -> Any:
        """The sum of the losses, each by what its place weighs."""
        silent = weigh == 0
        if silent.any():
            fits = silent.shape == np.shape(outputs)[: silent.ndim]
            rows = silent if fits else silent.reshape(len(silent), -1).all(axis=1)
            outputs = zero_nonfinite(outputs, rows)
        each = self.losses(outputs, self.completed(targets))
        if np.shape(each) != weigh.shape:
            raise ShapeError(
                f"{type(self).__name__}: the losses have shape {np.shape(each)}, and the targets "
                f"{weigh.shape} places."
            )
        return np.sum(zero_nonfinite(each, weigh == 0) * weigh.astype(held(each).dtype))

    # what counts

    def places(self, targets: Any) -> tuple[int, ...]:
        """The shape of what is counted one by one."""
        return np.shape(held(targets))

    def known(self, targets: Any) -> np.ndarray:
        """Which places have a target."""
        array = np.asarray(held(targets))
        return ~np.isnan(array) if array.dtype.kind == "f" else np.ones(array.shape, bool)

    def counted(self, targets: Any) -> np.ndarray | None:
        """Which places count; None where all do."""
        if not self.gaps:
            return None
        known = self.known(targets)
        return None if known.all() else known

    def completed(self, targets: Any) -> np.ndarray:
        """Targets with something harmless where there is none."""
        array = np.asarray(held(targets))
        known = self.counted(array)
        if known is None:
            return array
        return np.where(known.reshape(known.shape + (1,) * (array.ndim - known.ndim)), array, 0)

    def place_weights(self, targets: Any, weights: Any) -> np.ndarray:
        """What each place weighs in the mean."""
        shape = self.places(targets)
        weigh = np.ones(shape)
        if weights is not None:
            given = np.asarray(held(weights), np.float64)
            if given.shape != shape[: given.ndim]:
                raise ShapeError(
                    f"weights have shape {given.shape}, the targets {shape} places. Give one for "
                    "each example."
                )
            if (given < 0).any():
                raise DataError("weights must not be negative.")
            weigh = weigh * given.reshape(given.shape + (1,) * (len(shape) - given.ndim))
        known = self.counted(targets)
        return weigh if known is None else weigh * known

    def example_weights(self, targets: Any, weights: Any) -> np.ndarray:
        """What each example weighs in the mean, shape (n,)."""
        weigh = self.place_weights(targets, weights)
        return np.asarray(weigh.reshape(len(weigh), -1).sum(axis=1))

    @staticmethod
    def without_targets(n: int) -> np.ndarray:
        """What stands for the targets of so many examples that need none: zeros."""
        return np.zeros(n, np.float32)

    # several targets

    def by_target(self, outputs: Any, targets: Any = None) -> list[tuple[str, Task, Any, Any]]:
        """Name, task, outputs and targets of each target; one alone has no name."""
        return [("", self, outputs, targets)]

    # how metrics see outputs

    def hard_targets(self, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
        """Targets as metrics take them: of probabilities, as of mixed examples, the likeliest."""
        return targets

    def as_classes(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        """Outputs with a value for each class, and labels, for metrics of classes."""
        return outputs, targets

    def as_values(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        """Outputs as estimates of the targets, of their shape, for metrics of numbers."""
        return outputs, targets

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        """The outputs, the same for every example, that guess targets best, shape (width,); None
        where that is not known.
        """
        return None

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        """Outputs of several networks, shape (m, n, ...), as those of one."""
        return np.asarray(outputs.mean(axis=0, dtype=np.float64))

    def uncertainty(self, outputs: np.ndarray) -> dict[str, np.ndarray]:
        """How far outputs of several networks or passes, shape (m, n, ...), are apart: columns
        beside the answers.
        """
        values = np.stack([self.as_values(one, one)[0] for one in outputs])
        spread = values.reshape(*values.shape[:2], -1).astype(np.float64).std(axis=0)
        k = spread.shape[1]
        return {"spread" if k == 1 else f"spread {i}": spread[:, i] for i in range(k)}

    # answers

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        """Outputs as a table, a row for each example.

        Parameters
        ----------
        outputs : ndarray, shape (n, ...)
        classes : sequence
            What class numbers stand for; empty where that is not known.
        back : callable, optional
            From the target as it was learned to the unit of the data.
        """
        return in_rows(outputs if back is None else back(outputs))

    def width(self, classes: int) -> int:
        """How many values a network puts out for one target."""
        return 1


def in_rows(outputs: np.ndarray) -> pd.DataFrame:
    """Numbers as columns."""
    import pandas as pd

    flat = outputs.reshape(len(outputs), -1)
    many = flat.shape[1] != 1
    names = [f"{PREDICTED} {i}" for i in range(flat.shape[1])] if many else [PREDICTED]
    return pd.DataFrame(flat, columns=names)


def numbered_columns(columns: Mapping[str, np.ndarray]) -> pd.DataFrame:
    """Arrays of shape (n, k) as columns, numbered where k is more than 1; those of one number stand
    together.
    """
    import pandas as pd

    k = next(iter(columns.values())).shape[1]
    return pd.DataFrame(
        {
            name if k == 1 else f"{name} {i}": values[:, i]
            for i in range(k)
            for name, values in columns.items()
        }
    )


def log_mean_exp(logarithms: np.ndarray) -> np.ndarray:
    """The logarithm of the mean over the first axis of what has these logarithms."""
    return np.asarray(scipy.special.logsumexp(logarithms, axis=0) - np.log(len(logarithms)))
