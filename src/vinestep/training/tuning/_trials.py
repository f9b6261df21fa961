"""Which trials a search makes, and which of them go on: apart from what runs them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
import scipy

from ...errors import SettingError

__all__ = ["Space", "Trial", "Trials"]

How = Literal["grid", "random", "halving", "quasi_random", "gaussian_process"]
HOW = ("grid", "random", "halving", "quasi_random", "gaussian_process")
FIRST = 6  # trials before a Gaussian process says anything, or twice as many as settings


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
        A list of values, or ``{"values": [...]}``; or ``{"low": 1e-4, "high": 1e-1}`` with, if
        wanted, ``"log": True`` or ``"whole": True``. With ``"when": {"optimiser.kind": ["sgd"]}``
        a setting is left out unless the other one has one of these values.

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
        self.values: dict[str, Any] = {}
        self.conditions: dict[str, dict[str, list[Any]]] = {}
        for name, allowed in values.items():
            given = dict(allowed) if isinstance(allowed, Mapping) else allowed
            when = given.pop("when", {}) if isinstance(given, dict) else {}
            if isinstance(given, dict) and set(given) == {"values"}:
                given = given["values"]
            self.values[name] = self._checked(name, given)
            self.conditions[name] = self._condition(name, when, list(values))

    @staticmethod
    def _condition(name: str, when: Any, names: Sequence[str]) -> dict[str, list[Any]]:
        """Of a setting that counts only with others; these come before it."""
        if not isinstance(when, Mapping):
            raise SettingError(
                f"{name}: when is a mapping of another setting to its values, got {when!r}."
            )
        before = names[: names.index(name)]
        for other in when:
            if other not in before:
                raise SettingError(
                    f"{name}: when names {other!r}, which is no setting before it. There are "
                    f"{', '.join(before) or 'none'}."
                )
        return {
            other: list(values) if isinstance(values, list | tuple) else [values]
            for other, values in when.items()
        }

    def applied(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """The settings that count, by the conditions."""
        result: dict[str, Any] = {}
        for name, value in settings.items():
            wanted = self.conditions[name].items()
            if all(other in result and result[other] in values for other, values in wanted):
                result[name] = value
        return result

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
        every = [
            self.applied(dict(zip(self.values, combination, strict=True)))
            for combination in itertools.product(*self.values.values())
        ]
        return [one for i, one in enumerate(every) if one not in every[:i]]

    def drawn(self, n: int, seed: int) -> list[dict[str, Any]]:
        """So many combinations at random: the same ones for the same seed, and the first of more
        are those of fewer.
        """
        return [
            self.applied({name: self._draw(name, i, seed) for name in self.values})
            for i in range(n)
        ]

    def quasi_random(self, n: int, seed: int) -> list[dict[str, Any]]:
        """So many combinations that fill the space evenly: a scrambled Halton sequence (A. B. Owen,
        2017, through `scipy.stats.qmc`), of which the first of more are those of fewer.
        """
        places = scipy.stats.qmc.Halton(
            len(self.values), rng=np.random.default_rng([seed, 0x4A17])
        ).random(n)
        return [self.at(place) for place in places]

    def at(self, place: np.ndarray) -> dict[str, Any]:
        """The settings at a place of the unit cube."""
        return self.applied(
            {
                name: self._value(allowed, float(u))
                for (name, allowed), u in zip(self.values.items(), place, strict=True)
            }
        )

    def place_of(self, settings: Mapping[str, Any]) -> np.ndarray:
        """Where settings lie in the unit cube; those that do not count in the middle."""
        return np.array(
            [
                _unit(allowed, settings[name]) if name in settings else 1 / 2
                for name, allowed in self.values.items()
            ]
        )

    @staticmethod
    def _value(allowed: Any, u: float) -> Any:
        if isinstance(allowed, list):
            return allowed[min(int(u * len(allowed)), len(allowed) - 1)]
        low, high = allowed["low"], allowed["high"]
        value = low * (high / low) ** u if allowed.get("log") else low + (high - low) * u
        return round(value) if allowed.get("whole") else float(f"{value:.4g}")

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
    space: Space | None = None
    most: int = 0
    """Trials in all, of a search that chooses them as it goes."""
    seed: int = 0

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
        how : {"grid", "random", "halving", "quasi_random", "gaussian_process"}
            A grid is every combination; of ranges, halving draws at random. Quasi-random trials
            fill the space evenly; a Gaussian process chooses where improvement is expected.
        epochs : int
            Of a whole trial.
        trials : int
            How many are drawn.
        seed : int
        factor : int
            Of halving: one of so many goes on, with so many times the epochs.
        """
        if how not in HOW or epochs < 1 or trials < 1 or factor < 2:
            raise SettingError(
                f"how is one of {', '.join(HOW)}, epochs and trials at least 1, factor 2; "
                f"got {how!r}, {epochs}, {trials}."
            )
        only_lists = all(isinstance(allowed, list) for allowed in space.values.values())
        first = min(trials, max(FIRST, 2 * len(space.values)))
        if how == "grid" or (how == "halving" and only_lists):
            chosen = space.grid()
        elif how in ("quasi_random", "gaussian_process"):
            chosen = space.quasi_random(trials if how == "quasi_random" else first, seed)
        else:
            chosen = space.drawn(trials, seed)
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
            [Trial(i, settings) for i, settings in enumerate(chosen)],
            how,
            epochs,
            factor,
            rungs,
            space,
            trials if how == "gaussian_process" else len(chosen),
            seed,
        )

    def propose(self, count: int) -> None:
        """Add trials where a Gaussian process of those that are done expects improvement."""
        count = min(count, self.most - len(self.trials))
        done = [trial for trial in self.trials if trial.score is not None]
        known = [float(trial.score) for trial in done if trial.score is not None]
        finite = [score for score in known if math.isfinite(score)]
        if self.how != "gaussian_process" or count < 1 or self.space is None or not finite:
            return
        from ._gaussian_process import propose

        worst = max(finite)
        tried = [*done, *(trial for trial in self.trials if trial.failure)]
        y = [score if math.isfinite(score) else worst for score in known]
        y += [worst] * (len(tried) - len(done))
        x = np.array([self.space.place_of(trial.settings) for trial in tried])
        for place in propose(x, np.array(y), count, self.seed):
            self.trials.append(Trial(len(self.trials), self.space.at(place)))

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


def _unit(allowed: Any, value: Any) -> float:
    if isinstance(allowed, list):
        return (allowed.index(value) + 0.5) / len(allowed)
    low, high = allowed["low"], allowed["high"]
    if allowed.get("log"):
        return float(math.log(value / low) / math.log(high / low))
    return float((value - low) / (high - low))


def _key(trial: Trial) -> tuple[float, int]:
    return (
        trial.score if trial.score is not None and not math.isnan(trial.score) else math.inf,
        trial.number,
    )
