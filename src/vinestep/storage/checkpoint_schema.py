"""What a checkpoint of a run says besides its arrays, checked before any of it is believed."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError

from ..errors import CheckpointError
from .run_store import SavedState

__all__ = ["checked_meta", "step_of"]

Count = Annotated[int, Field(ge=0, le=2**53)]
Name = Annotated[str, Field(min_length=1, max_length=500)]


Counts = list[FiniteFloat | None] | list[list[FiniteFloat | None]]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class _Position(_Part):
    epoch: Count
    batch: Count
    step: Count
    loss_sum: FiniteFloat
    weight: Annotated[FiniteFloat, Field(ge=0)] | None = None
    examples: Count
    counts: dict[str, Counts]
    seen: Count = 0
    seconds: Annotated[FiniteFloat, Field(ge=0)] = 0.0
    summed: bool


class _Meta(_Part):
    format: int = 1
    position: _Position
    curves: list[dict[str, int | FiniteFloat | None]]
    looks: list[dict[str, FiniteFloat | None]] = []
    epochs: Count
    name: Name
    plan: dict[str, Any]
    settings: dict[str, Any]
    observers: dict[str, dict[str, Any]]
    stop_reason: str
    parts: dict[str, dict[str, Any]]
    model: dict[str, Any] | None = None


Nothing = Annotated[dict[str, Any], Field(max_length=0)]
"""In whose place arrays are."""


class _Descent(BaseModel):
    """Of each network that descends."""

    model_config = ConfigDict(extra="forbid", strict=True)
    weights: Nothing
    statistics: Nothing
    optimiser: Nothing
    seed: int
    step: Count
    updates: Count
    trainable: list[str]
    schedule: dict[str, Any] = {}
    average: Nothing = {}
    half: Nothing = {}
    feedback: Nothing = {}
    scaling: dict[str, Any] = {}
    averaged: Count = 0


COLUMNS = ("epoch", "step", "rate", "loss")
LARGEST = 1e100  # of figures: beyond it nothing can be drawn


def _can_be_drawn(value: Any) -> bool:
    return value is None or abs(value) <= (2**53 if type(value) is int else LARGEST)


def _check_curves(state: SavedState) -> None:
    rows = state.meta["curves"]
    for row in rows:
        if row.keys() != rows[0].keys() or not row.keys() >= set(COLUMNS):
            raise CheckpointError(
                f"{state.name}: refused: a row of its curves has other columns than a run writes: "
                f"{', '.join(row)[:80]}."
            )
        if (
            row["loss"] is None
            or type(row["epoch"]) is not int
            or type(row["step"]) is not int
            or not all(map(_can_be_drawn, row.values()))
        ):
            raise CheckpointError(
                f"{state.name}: refused: a row of its curves holds what no run counts: "
                f"{str(row)[:80]}."
            )


def checked_meta(state: SavedState) -> None:
    """
    Raises
    ------
    CheckpointError
        If something is missing, strange, or of the wrong kind: what.
    """
    try:
        _Meta.model_validate(state.meta)
        for known in state.meta["parts"].values():
            if "updates" in known or "trainable" in known:
                _Descent.model_validate(known)
        _check_curves(state)
    except ValidationError as error:
        fault = error.errors()[0]
        place = ".".join(map(str, fault["loc"]))
        raise CheckpointError(
            f"{state.name}: refused: {place} of what it says is wrong: {fault['msg']}."
        ) from error


def step_of(name: str) -> int:
    """The step in a state's name; -1 if there is none.

    Examples
    --------
    >>> step_of("step-00000120-epoch-4-validation_loss-0.3812-best")
    120
    """
    pieces = name.split("-")
    return int(pieces[1]) if len(pieces) > 1 and pieces[0] == "step" and pieces[1].isdigit() else -1
