"""How observers judge an epoch."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from ..._public_names import did_you_mean
from ...errors import RunError

if TYPE_CHECKING:
    from ._run import Run

__all__ = ["judged_quantity", "score_of"]


def score_of(run: Run, name: str, value: float) -> float:
    """The smaller the better; NaN is worse than anything."""
    if math.isnan(value):
        return math.inf
    return value if run.direction(name) == "lower" else -value


def judged_quantity(row: dict[str, float], quantity: str | None) -> tuple[str, float]:
    """The quantity to judge by; the validation loss if there is one, else the loss."""
    name = quantity or ("validation_loss" if "validation_loss" in row else "loss")
    if name not in row:
        raise RunError(f"The curves have no {name!r}. {did_you_mean(name, row)}")
    return name, row[name]
