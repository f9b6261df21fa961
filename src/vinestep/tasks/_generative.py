"""The task of a network that makes examples."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..autodiff.tensor import held
from ..errors import ShapeError
from ..parts._registry import part
from ._base import Back, Task

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Generative"]


@part("generative", "task")
class Generative(Task):
    """A network that learns to make examples: what it puts out is the loss of each, or several
    terms whose sum is the loss.

    Examples need no targets; where they have some, as classes, networks that take them are told
    (see `vinestep.generation.Diffusion`). As an answer the loss of an example says how unlike those
    of the training it is.

    Examples
    --------
    >>> vs.tasks.Generative()(np.array([[1.0, 0.5], [0.0, 0.5]]), np.zeros(2))
    np.float64(1.0)
    """

    needs_targets: ClassVar[bool] = False

    def __init__(self) -> None:
        super().__init__()

    def losses(self, outputs: Any, targets: Any) -> Any:
        return np.sum(outputs, axis=1) if len(np.shape(outputs)) == 2 else outputs

    def places(self, targets: Any) -> tuple[int, ...]:
        return (len(held(targets)),)

    def total(self, outputs: Any, targets: Any, weigh: np.ndarray) -> Any:
        if np.shape(outputs)[:1] != weigh.shape or len(np.shape(outputs)) > 2:
            raise ShapeError(
                f"Generative: the network puts out {np.shape(outputs)} for {len(weigh)} examples. "
                "It has to be a loss for each, shape (n,), or several terms, (n, k): see "
                "vinestep.generation."
            )
        return super().total(outputs, targets, weigh)

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        import pandas as pd

        values = outputs.reshape(len(outputs), -1)
        columns = {"anomaly": values.sum(axis=1)}
        if values.shape[1] > 1:
            columns |= {f"anomaly {i}": values[:, i] for i in range(values.shape[1])}
        return pd.DataFrame(columns)
