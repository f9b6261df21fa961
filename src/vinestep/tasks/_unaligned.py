"""The task of reading: sequences of labels that are not aligned with the outputs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from .. import losses
from .._alignment import MISSING, best_labels
from ..autodiff.tensor import held
from ..errors import SettingError
from ..parts._registry import part
from ._base import PREDICTED, Back, Task

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Unaligned"]


@part("unaligned", "task")
class Unaligned(Task):
    """A sequence of labels of each example, of which it is not known at what times they stand, such
    as the letters of a line of writing: outputs ``(n, time, n_classes + 1)``, the last for no
    label, targets ``(n, length)``, filled up with -1.

    See `losses.temporal_classification`.

    Parameters
    ----------
    beams : int
        How many beginnings are followed when a sequence is looked for; 1 takes the likeliest path.
    gaps : bool
        Whether a row of -1 alone is an example without a target, and not an empty sequence.

    Examples
    --------
    >>> logits = np.log([[[0.8, 0.1, 0.1], [0.1, 0.1, 0.8], [0.1, 0.8, 0.1]]])
    >>> vs.tasks.Unaligned().decoded(logits)
    [[0, 1]]
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("token_error_rate",)

    def __init__(self, beams: int = 1, *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)
        if isinstance(beams, bool) or not isinstance(beams, int) or beams < 1:
            raise SettingError(f"Unaligned: beams is at least 1, got {beams!r}.")
        self.beams = beams

    def losses(self, outputs: Any, targets: Any) -> Any:
        return losses.temporal_classification(outputs, targets, reduction="none")

    def places(self, targets: Any) -> tuple[int, ...]:
        return (len(held(targets)),)

    def known(self, targets: Any) -> np.ndarray:
        return np.asarray((np.asarray(held(targets)) != MISSING).any(axis=1))

    def completed(self, targets: Any) -> np.ndarray:
        return np.asarray(held(targets))

    def decoded(self, outputs: np.ndarray) -> list[list[int]]:
        """The labels of each example."""
        return best_labels(np.asarray(held(outputs)), self.beams)

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        import pandas as pd

        known = list(map(str, classes)) if len(classes) == outputs.shape[-1] - 1 else []
        between = "" if known and all(len(text) == 1 for text in known) else " "
        texts = [
            between.join(known[i] if known else str(i) for i in labels)
            for labels in self.decoded(outputs)
        ]
        return pd.DataFrame({PREDICTED: texts})

    def width(self, classes: int) -> int:
        return classes + 1
