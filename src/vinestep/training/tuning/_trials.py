"""Which trials a search makes, and which of them go on: apart from what runs them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ...errors import SettingError

__all__ = ["Space", "Trial", "Trials"]

How = Literal["grid", "random", "halving"]


@dataclass
class Trial:
    """A plan with some settings changed, and what came of it.

    Examples
    --------
    >>> Trial(0, {"optimiser.rate": 0.01}).words
    'optimiser.rate=0.01'
    """

    number: int
    settings: dict[str, Any]
    epochs: int = 0
    """Done so far."""
    score: float | None = None
    """The lower the better; None while it is not known, or if it failed."""
    value: float | None = None
    """As the curves have it."""
    run: str = ""
    failure: str = ""

    @property
    def words(self) -> str:
        return ", ".join(f"{name}={value}" for name, value in self.settings.items())


class Space:
    """The values that settings may have.

    Parameters
    ----------
    values : mapping of dotted name to values
        A list of values; or ``{"low": 1e-4, "high": 1e-1}`` with, if wanted, ``"log": True`` or
        ``"whole": True``.

    Examples
    --------
    >>> space = Space(
    ...     {
    ...         "optimiser.rate": {"low": 1e-4, "high": 1e-1, "log": True},
    ...         "layers.0.width": [16, 32],
    ...     }
    ... )
    >>> [sorted(settings) for settings in space.drawn(1, seed=0)]
    [['layers.0.width', 'optimiser.rate']]
    """

    def __init__(self, values: Mapping[str, Any]) -> None:
        if not values:
            raise SettingError(
                "A search needs settings to vary: {'optimiser.rate': [0.01, 0.001]}."
            )
        self.values = {name: self._checked(name, allowed) for name, allowed in values.items()}

    @staticmethod
    def _checked(name: str, allowed: Any) -> Any:
        if isinstance(allowed, Mapping):
            unknown = set(allowed) - {"low", "high", "log", "whole"}
            low, high = allowed.get("low"), allowed.get("high")
            numbers = all(isinstance(x, int | float) and math.isfinite(x) for x in (low, high))
            if unknown or not numbers or not low < high or (allowed.get("log") and low <= 0):  # type: ignore[operator]
                raise SettingError(
                    f"{name}: a range has low < high, both above 0 with log = true, got "
                    f"{dict(allowed)}."
                )
            return dict(allowed)
        if not isinstance(allowed, Sequence) or isinstance(allowed, str) or not len(allowed):
            raise SettingError(
                f"{name}: give a list of values, or a range {{low, high}}; got {allowed!r}."
            )
        return list(allowed)

    def grid(self) -> list[dict[str, Any]]:
        """Every combination."""
        for name, allowed in self.values.items():
            if isinstance(allowed, dict):
                raise SettingError(
                    f"{name}: a grid needs a list of values, not a range. Or search at random."
                )
        return [
            dict(zip(self.values, combination, strict=True))
            for combination in itertools.product(*self.values.values())
        ]

    def drawn(self, n: int, seed: int) -> list[dict[str, Any]]:
        """So many combinations at random: the same ones for the same seed, and the first of more
        are those of fewer.
        """
        return [{name: self._draw(name, i, seed) for name in self.values} for i in range(n)]

    def _draw(self, name: str, number: int, seed: int) -> Any:
        rng = np.random.default_rng([seed, number, *name.encode()])
        allowed = self.values[name]
        if isinstance(allowed, list):
            return allowed[int(rng.integers(len(allowed)))]
        low, high = allowed["low"], allowed["high"]
        value = (
            math.exp(rng.uniform(math.log(low), math.log(high)))
            if allowed.get("log")
            else rng.uniform(low, high)
        )
        return round(value) if allowed.get("whole") else float(f"{value:.4g}")


@dataclass
class Trials:
    """What a search wants to be run next; it is told what came of it.

    Successive halving (K. Jamieson and A. Talwalkar, AISTATS 2016): all trials get a few epochs,
    the best third three times as many, and so on up to the whole.

    Examples
    --------
    >>> trials = Trials.new(Space({"optimiser.rate": [0.1, 0.01, 0.001]}), "halving", epochs=9)
    >>> [(trial.number, epochs) for trial, epochs in trials.wanted()]
    [(0, 3), (1, 3), (2, 3)]
    """

    trials: list[Trial]
    how: How
    epochs: int
    factor: int = 3
    rungs: list[int] = field(default_factory=list)

    @classmethod
    def new(
        cls,
        space: Space,
        how: How,
        *,
        epochs: int,
        trials: int = 12,
        seed: int = 0,
        factor: int = 3,
    ) -> Trials:
        """The trials of a search.

        Parameters
        ----------
        space : Space
        how : {"grid", "random", "halving"}
            A grid is every combination; of ranges, halving draws at random.
        epochs : int
            Of a whole trial.
        trials : int
            How many are drawn.
        seed : int
        factor : int
            Of halving: one of so many goes on, with so many times the epochs.
        """
        if how not in ("grid", "random", "halving") or epochs < 1 or trials < 1 or factor < 2:
            raise SettingError(
                'how is "grid", "random" or "halving", epochs and trials at least 1, factor 2; '
                f"got {how!r}, {epochs}, {trials}."
            )
        only_lists = all(isinstance(allowed, list) for allowed in space.values.values())
        chosen = (
            space.grid()
            if how == "grid" or (how == "halving" and only_lists)
            else space.drawn(trials, seed)
        )
        rungs = [epochs]
        while (
            how == "halving"
            and rungs[0] // factor >= 1
            and len(chosen) > factor ** (len(rungs) - 1)
        ):
            if rungs[0] // factor < 1 or len(chosen) < factor ** len(rungs):
                break
            rungs.insert(0, rungs[0] // factor)
        return cls(
            [Trial(i, settings) for i, settings in enumerate(chosen)], how, epochs, factor, rungs
        )

    def wanted(self) -> list[tuple[Trial, int]]:
        """What is to be run now, and up to how many epochs; nothing if the search is over. What is
        returned may run at once.
        """
        alive = [trial for trial in self.trials if not trial.failure]
        for rung in self.rungs:
            left = [(trial, rung) for trial in alive if trial.epochs < rung]
            if left:
                return left
            alive = [trial for trial in alive if not trial.failure]
            alive = (
                sorted(alive, key=_key)[: max(1, len(alive) // self.factor)]
                if rung != self.rungs[-1]
                else alive
            )
        return []

    @property
    def best(self) -> Trial | None:
        """Of those that went furthest, the one with the best score."""
        known = [trial for trial in self.trials if trial.score is not None]
        return min(known, key=lambda trial: (-trial.epochs, _key(trial)), default=None)


def _key(trial: Trial) -> tuple[float, int]:
    return (
        trial.score if trial.score is not None and not math.isnan(trial.score) else math.inf,
        trial.number,
    )
