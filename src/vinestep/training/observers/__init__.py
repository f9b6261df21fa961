"""Observers: what listens to a run. The loop prints nothing and writes nothing; they do."""

from __future__ import annotations

from collections.abc import Sequence

from ...errors import names_of
from .base import Observer
from .checkpoints import Checkpoints
from .curves import Curves
from .in_cell import InCell
from .patience import Patience
from .progress import Progress
from .samples import LayerOutputs, Samples
from .spaced import Distributions, Machine, Norms, Scheduled, Steps

__all__ = [
    "Checkpoints",
    "Curves",
    "Distributions",
    "InCell",
    "LayerOutputs",
    "Machine",
    "Norms",
    "Observer",
    "Patience",
    "Progress",
    "Samples",
    "Scheduled",
    "Steps",
]


def with_recorders(observers: Sequence[Observer], recorded: bool, *, curves: bool = True) -> list[Observer]:
    """The observers in their order; a recorded run always has its curves written and its state saved."""
    result = list(observers)
    if recorded:
        for kind in (Curves, Checkpoints) if curves else (Checkpoints,):
            if not any(isinstance(observer, kind) for observer in result):
                result.append(kind())
    return sorted(result, key=lambda observer: observer.order)


__getattr__ = names_of(__name__, __all__)
