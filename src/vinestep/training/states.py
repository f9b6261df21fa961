"""What a checkpoint of a run says besides its arrays, checked before any of it is believed."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError

from ..errors import CheckpointError
from .checkpoints import Checkpoint

__all__ = ["checked_meta"]

Count = Annotated[int, Field(ge=0, le=2**53)]
Name = Annotated[str, Field(min_length=1, max_length=500)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class _Position(_Part):
    epoch: Count
    batch: Count
    step: Count
    loss_sum: FiniteFloat | None
    examples: Count
    counts: dict[str, Any]
    summed: bool


class _Meta(_Part):
    format: int
    position: _Position
    curves: list[dict[str, int | FiniteFloat | None]]
    epochs: Annotated[int, Field(ge=1)]
    name: Name
    plan: dict[str, Any]
    settings: dict[str, Any]
    observers: dict[str, dict[str, Any]]
    stop_reason: str
    seed: int
    step: Count
    updates: Count
    optimiser: dict[str, Any]
    trainable: list[str]
    frozen: list[str]
    class_values: list[str | int | float | bool]


def checked_meta(checkpoint: Checkpoint) -> None:
    """
    Raises
    ------
    CheckpointError
        If something is missing, strange, or of the wrong kind: what.
    """
    try:
        _Meta.model_validate(checkpoint.meta)
    except ValidationError as error:
        fault = error.errors()[0]
        place = ".".join(map(str, fault["loc"]))
        raise CheckpointError(f"{checkpoint.path}: refused: {place} of what it says is wrong: {fault['msg']}.") from error
