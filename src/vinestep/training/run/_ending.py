"""When a run ends, said in words: ``60 epochs or 30 minutes or no gain for 8 epochs, not before 5
epochs``.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ...errors import RunError, SettingError
from ...storage.json_values import integer, number
from ._criteria import judged_quantity, score_of
from ._run import Observer

if TYPE_CHECKING:
    from ._results import Position
    from ._run import Run

__all__ = ["Ending", "ending_of"]

SECONDS = {"second": 1.0, "minute": 60.0, "hour": 3600.0}
NUMBER = r"-?\d[\d_]*(?:\.\d+)?(?:[eE]-?\d+)?"
AMOUNT = re.compile(rf"(?P<n>{NUMBER}) (?P<unit>epoch|step|example|second|minute|hour)s?")
NO_GAIN = re.compile(
    rf"no gain(?: in (?P<by>\w+))?(?: of more than (?P<least>{NUMBER}))? for (?P<n>\d+) epochs?"
)
REACHES = re.compile(rf"(?P<by>\w+) reaches (?P<value>{NUMBER})")
NOT_BEFORE = re.compile(r",? (?:but )?not before ")
FORMS = (
    "'60 epochs', '5000 steps', '1000000 examples', '30 minutes', 'no gain in NAME of more "
    "than 0.01 for 8 epochs', 'NAME reaches 0.95'"
)


@dataclass(frozen=True, slots=True)
class _Amount:
    n: float
    unit: str

    def is_reached(self, position: Position) -> bool:
        return self.done(position) >= self.n

    def done(self, position: Position) -> float:
        counted = {"epoch": position.epoch, "step": position.step, "example": position.seen}
        return counted[self.unit] if self.unit in counted else position.seconds / SECONDS[self.unit]

    def __str__(self) -> str:
        return f"{self.n:.12g} {self.unit}{'s' if self.n != 1 else ''}"


@dataclass(frozen=True, slots=True)
class _NoGain:
    by: str
    least: float
    n: int

    def __str__(self) -> str:
        by = f" in {self.by}" if self.by else ""
        return (
            f"no gain{by}{f' of more than {self.least:.12g}' if self.least else ''} for "
            f"{self.n} epochs"
        )


@dataclass(frozen=True, slots=True)
class _Reaches:
    by: str
    value: float

    def __str__(self) -> str:
        return f"{self.by} reaches {self.value:.12g}"


class Ending(Observer):
    """When a run ends: at the first of some events, but not before some amount is done.

    Parameters
    ----------
    text : str
        Events joined by "or": so many epochs, steps, examples, seconds, minutes or hours (of
        training, interruptions not counted); "no gain for 8 epochs", "no gain in validation_loss of
        more than 0.01 for 8 epochs"; "validation_accuracy reaches 0.95". At the end may stand ",
        not before" and an amount.

    Raises
    ------
    SettingError
        If it says something else: which part of it.

    Examples
    --------
    >>> str(Ending("60 epochs or no gain for 8 epochs, not before 10 epochs"))
    '60 epochs or no gain for 8 epochs, not before 10 epochs'
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> training.run(data.batches(4), until="9 epochs or 3 steps").reason
    '3 steps are done, after epoch 1 of 9, step 3.'
    """

    order = 1
    ends_run = True

    def __init__(self, text: str) -> None:
        if not isinstance(text, str):
            raise SettingError(
                "until says in words when a run ends, such as '60 epochs or 30 minutes'; got "
                f"{text!r}."
            )
        said, *later = NOT_BEFORE.split(" ".join(text.split()))
        if len(later) > 1:
            raise SettingError(f"until: {text!r} says twice before when a run must not end.")
        self.not_before = _amount(later[0], text) if later else None
        self.events = [_event(part, text) for part in said.split(" or ")]
        self.begin()

    def __str__(self) -> str:
        return " or ".join(map(str, self.events)) + (
            f", not before {self.not_before}" if self.not_before is not None else ""
        )

    def settings(self) -> dict[str, Any]:
        """For the record: so many epochs or steps, or the words."""
        only = self.events[0]
        if (
            len(self.events) == 1
            and self.not_before is None
            and isinstance(only, _Amount)
            and only.unit in ("epoch", "step")
        ):
            return {f"{only.unit}s": int(only.n)}
        return {"until": str(self)}

    @property
    def is_plain(self) -> bool:
        """Whether so many epochs or steps are all that was asked."""
        return "until" not in self.settings()

    def amount(self, unit: str) -> int:
        """How many epochs or steps there are at most; 0 if that is not said."""
        result = [
            event.n for event in self.events if isinstance(event, _Amount) and event.unit == unit
        ]
        if not result:
            return 0
        least = (
            self.not_before.n if self.not_before is not None and self.not_before.unit == unit else 0
        )
        return int(max(min(result), least))

    def is_left(self, position: Position) -> bool:
        """Whether there is more to do."""
        return not self.reason_at(position)

    def reason_at(self, position: Position) -> str:
        """Why the run ends here; empty if it does not."""
        if self.not_before is not None and not self.not_before.is_reached(position):
            return ""
        for event in self.events:
            if isinstance(event, _Amount):
                if event.is_reached(position):
                    return f"{event} {'is' if event.n == 1 else 'are'} done"
            elif self._told.get(str(event)):
                return self._told[str(event)]
        return ""

    # what it watches

    def begin(self) -> None:
        self._best: dict[str, float] = {}
        self._waited: dict[str, int] = {}
        self._told: dict[str, str] = {}

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        for event in self.events:
            if isinstance(event, _Amount) or not run.validated:
                continue
            key, (name, value) = str(event), judged_quantity(row, event.by or None)
            score = score_of(run, name, value)
            if isinstance(event, _Reaches):
                wanted = event.value if run.direction(name) == "lower" else -event.value
                self._told[key] = f"{name} reached {value:.4g}" if score <= wanted else ""
            elif score < self._best.get(key, math.inf) - event.least:
                self._best[key], self._waited[key], self._told[key] = score, 0, ""
            else:
                self._waited[key] = self._waited.get(key, 0) + 1
                self._told[key] = (
                    f"No gain in {name} for {self._waited[key]} epochs"
                    if self._waited[key] >= event.n
                    else ""
                )

    def state(self) -> dict[str, Any]:
        best = {key: value if math.isfinite(value) else None for key, value in self._best.items()}
        return {"best": best, "waited": self._waited, "told": self._told}

    def restore(self, state: dict[str, Any]) -> None:
        """Take back what is known of events that are still among those asked for."""
        keys = {str(event) for event in self.events}
        best, waited, told = (state.get(name) or {} for name in ("best", "waited", "told"))
        if not all(isinstance(part, dict) for part in (best, waited, told)):
            raise RunError("The state of a run's ending is no table of events.")
        self._best = {
            key: number(best, key) or 0.0 for key in best if key in keys and best[key] is not None
        }
        self._waited = {key: integer(waited, key) for key in waited if key in keys}
        self._told = {key: str(told[key])[:200] for key in told if key in keys}


def _amount(text: str, whole: str) -> _Amount:
    match = AMOUNT.fullmatch(text.strip())
    n = float(match["n"]) if match else 0
    if not match or n <= 0 or (match["unit"] in ("epoch", "step", "example") and n != int(n)):
        raise SettingError(
            f"until: {text.strip()!r} in {whole!r} is no amount, such as '10 epochs', '5000 "
            "steps' or '2.5 hours'."
        )
    return _Amount(n, match["unit"])


def _event(text: str, whole: str) -> _Amount | _NoGain | _Reaches:
    text = text.strip()
    if match := NO_GAIN.fullmatch(text):
        least = float(match["least"] or 0)
        if int(match["n"]) < 1 or least < 0:
            raise SettingError(
                f"until: {text!r}: at least 1 epoch, and a gain that is not negative."
            )
        return _NoGain(match["by"] or "", least, int(match["n"]))
    if match := REACHES.fullmatch(text):
        return _Reaches(match["by"], float(match["value"]))
    if AMOUNT.fullmatch(text):
        return _amount(text, whole)
    raise SettingError(
        f"until: {text!r} is not understood. What can be said: {FORMS}; joined by 'or'; at the "
        "end ', not before 5 epochs'."
    )


def ending_of(epochs: Any, steps: Any, until: Any) -> Ending:
    """The ending that one of three arguments asks for.

    Raises
    ------
    SettingError
        If not exactly one was given, or it is no amount.
    """
    given = [
        (name, value)
        for name, value in (("epochs", epochs), ("steps", steps), ("until", until))
        if value is not None
    ]
    if len(given) == 1 and given[0][0] == "until":
        return Ending(until)
    if (
        len(given) != 1
        or isinstance(given[0][1], bool)
        or not hasattr(given[0][1], "__index__")
        or given[0][1] < 1
    ):
        raise SettingError(
            "run: one of epochs, steps and until says when it ends, epochs and steps a whole "
            f"number of at least 1; got epochs={epochs!r}, "
            f"steps={steps!r}{f', until={until!r}' if until is not None else ''}."
        )
    return Ending(f"{int(given[0][1])} {given[0][0]}")
