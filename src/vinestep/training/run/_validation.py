"""What is scored after an epoch: parts of the data, and whatever a user computes."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...errors import SettingError
from ..step._batch_checks import AnyBatches, are_batches, as_batches

if TYPE_CHECKING:
    from ..step._base import TrainingBase

__all__ = ["Validation", "ValidationParts", "validation_spacing"]

Computation = Callable[[Any], Any]
Validation = AnyBatches | Mapping[str, AnyBatches | Computation] | None


class ValidationParts:
    """Parts that a run scores every so many epochs.

    Parameters
    ----------
    validation : Batches, or mapping of name to Batches or function
    every : int or str
        Epochs; or in words, ``"500 steps"``.
    """

    def __init__(self, validation: Validation, *, every: int | str = 1) -> None:
        self.every, self.steps = validation_spacing(every)
        named = dict(validation) if isinstance(validation, Mapping) else {"validation": validation}
        self.parts: dict[str, Any] = {
            name: part
            if isinstance(validation, Mapping) and callable(part)
            else as_batches(part, f"run: the {name} data")
            for name, part in named.items()
            if part is not None
        }
        for name in self.parts:
            if not isinstance(name, str) or not name.isidentifier():
                raise SettingError(
                    "run: validation parts have names that are words, such as 'second_cellar'; "
                    f"got {name!r}."
                )

    @property
    def batches(self) -> dict[str, Any]:
        """The parts that are data."""
        return {
            name: part
            for name, part in self.parts.items()
            if are_batches(part) or not callable(part)
        }

    @property
    def names(self) -> list[str]:
        return list(self.batches)

    @property
    def first(self) -> AnyBatches | None:
        """The part that judges."""
        return next(iter(self.batches.values()), None)

    def is_due(self, epoch: int, *, last: bool) -> bool:
        return last or epoch % self.every == 0

    def is_due_within(self, step: int) -> bool:
        """Whether to score after a step that does not end an epoch."""
        return bool(self.steps and self.parts) and step % self.steps == 0

    def scores(self, training: TrainingBase) -> dict[str, float]:
        """Of every part, by column of the curves."""
        result: dict[str, float] = {}
        with training.descent.averaged():
            for name, part in self.parts.items():
                if are_batches(part):
                    scored: Any = training.scores(part)
                else:
                    scored = part(training.network)
                if isinstance(scored, Mapping):
                    result |= {
                        f"{name}_{key}": _number(value, f"{name}_{key}")
                        for key, value in scored.items()
                    }
                else:
                    result[name] = _number(scored, name)
        return result

    @staticmethod
    def unknown(columns: Mapping[str, float]) -> dict[str, float]:
        """What stands in these columns of the curves for an epoch that was not scored."""
        return dict.fromkeys(columns, math.nan)

    def settings(self) -> dict[str, Any] | None:
        """For the record."""
        from ...parts._describe import describe

        if not self.parts:
            return None
        described = {
            name: {"data": part.fingerprint(), **part.settings()}
            if are_batches(part)
            else describe(part, opaque=True)
            for name, part in self.parts.items()
        }
        own = described["validation"] if list(described) == ["validation"] else described
        spacing = f"{self.steps} steps" if self.steps else self.every
        return own if spacing == 1 else {**own, "every": spacing}


def validation_spacing(every: Any) -> tuple[int, int]:
    """Epochs from one look to the next, and steps between looks within an epoch, or 0."""
    words = every.split() if isinstance(every, str) else [every, "epochs"]
    amount, unit = words if len(words) == 2 else (every, "")
    if isinstance(amount, str):
        amount = int(amount) if amount.isdecimal() else 0
    if (
        isinstance(amount, bool)
        or not isinstance(amount, int | np.integer)
        or amount < 1
        or unit.rstrip("s") not in ("epoch", "step")
    ):
        raise SettingError(
            'validate_every must be a whole number of epochs, or words such as "500 steps"; got '
            f"{every!r}."
        )
    return (1, int(amount)) if unit.startswith("step") else (int(amount), 0)


def _number(value: Any, name: str) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        raise SettingError(
            f"run: the validation {name!r} returned {value!r}. Return a number, or a dict of "
            "numbers by name."
        ) from None
