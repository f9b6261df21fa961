"""Scores with how sure they are: confidence intervals over the examples."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.special import ndtri

from .._public_names import own_names
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import ShapeError
from .metrics import Metric

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Assessment", "assess"]

CONFIDENCE = 0.95
RESAMPLES = 400
MOST_RESAMPLED = 2_000_000  # examples drawn in all; fewer resamples are made of large sets
FEWEST = 50


class Assessment(dict[str, float]):
    """Loss and metrics by name, and how sure they are.

    Parameters
    ----------
    values : mapping of score to value
    examples : callable
        Gives outputs and targets; called when intervals are first asked for.
    loss : callable
    metrics : sequence of Metric

    Examples
    --------
    >>> outputs, targets = (
    ...     np.array([[2.0, 0.0], [0.0, 1.0], [3.0, -1.0], [1.0, 0.0]]),
    ...     np.array([0, 1, 0, 1]),
    ... )
    >>> found = vs.evaluation.assess(
    ...     outputs, targets, vs.losses.cross_entropy, [vs.metrics.accuracy]
    ... )
    >>> found["accuracy"], tuple(round(bound, 2) for bound in found.intervals["accuracy"])
    (0.75, (0.3, 0.95))
    """

    def __init__(
        self,
        values: Mapping[str, float],
        examples: Callable[[], tuple[np.ndarray, np.ndarray]],
        loss: Callable[[Any, Any], Any],
        metrics: Sequence[Metric],
    ) -> None:
        super().__init__(values)
        self.loss = loss
        self.metrics = metrics
        self._examples = examples

    @cached_property
    def examples(self) -> tuple[np.ndarray, np.ndarray]:
        """Outputs and targets."""
        return self._examples()

    @property
    def size(self) -> int:
        """How many examples there are."""
        return len(self.examples[1])

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """Bounds of the 95 % confidence intervals, by name.

        Wilson's for fractions (E. B. Wilson, J. Am. Stat. Assoc. 22, 1927); for the others
        percentiles of a bootstrap over the examples (B. Efron, Ann. Stat. 7, 1979), with a fixed
        seed. NaN where there are too few examples.
        """
        result: dict[str, tuple[float, float]] = {}
        for metric in self.metrics:
            if metric.is_fraction:
                right, n = (round(count) for count in metric.count(*self.examples))
                if n:
                    result[metric.name] = wilson(right, n)
        rest = [name for name in self if name not in result]
        return result | self._bootstrapped(rest)

    def _bootstrapped(self, names: Sequence[str]) -> dict[str, tuple[float, float]]:
        n = self.size
        if n < 2 or not names:
            return dict.fromkeys(names, (math.nan, math.nan))
        outputs, targets = self.examples
        rng = np.random.default_rng([n, 0xB007])
        drawn: dict[str, list[float]] = {name: [] for name in names}
        for _ in range(max(FEWEST, min(RESAMPLES, MOST_RESAMPLED // n))):
            chosen = rng.integers(0, n, n)
            figures = _figures(outputs[chosen], targets[chosen], self.loss, self.metrics, names)
            for name in names:
                drawn[name].append(figures[name])
        tail = 50 * (1 - CONFIDENCE)
        bounds = {
            name: np.nanpercentile(values, [tail, 100 - tail])
            if not np.isnan(values).all()
            else [np.nan] * 2
            for name, values in drawn.items()
        }
        return {name: (float(low), float(high)) for name, (low, high) in bounds.items()}

    def table(self) -> pd.DataFrame:
        """A row for each score: its value, the bounds of its interval, and the number of
        examples.
        """
        import pandas as pd

        rows = [(name, value, *self.intervals[name], self.size) for name, value in self.items()]
        return pd.DataFrame(rows, columns=["score", "value", "low", "high", "examples"])


def wilson(right: int, n: int) -> tuple[float, float]:
    """Bounds of a share, with 95 % confidence: E. B. Wilson, J. Am. Stat. Assoc. 22, 1927.

    Examples
    --------
    >>> [round(bound, 4) for bound in wilson(8, 10)]
    [0.4902, 0.9433]
    """
    z = float(ndtri(0.5 + CONFIDENCE / 2))
    share, slack = right / n, z * z / n
    middle = (share + slack / 2) / (1 + slack)
    reach = z * math.sqrt(share * (1 - share) / n + slack / (4 * n)) / (1 + slack)
    return max(0.0, middle - reach), min(1.0, middle + reach)


def _figures(
    outputs: np.ndarray,
    targets: np.ndarray,
    loss: Callable[[Any, Any], Any],
    metrics: Sequence[Metric],
    names: Sequence[str] | None = None,
) -> dict[str, float]:
    result: dict[str, float] = {}
    if names is None or "loss" in names:
        with untracked():
            value = held(loss(outputs, targets))
        if np.size(value) != 1:
            raise ShapeError(
                f"The loss has shape {np.shape(value)}, and has to be one number. Use "
                'reduction="mean".'
            )
        result["loss"] = float(np.reshape(value, ()))
    return result | {
        m.name: m.conclude(m.count(outputs, targets))
        for m in metrics
        if names is None or m.name in names
    }


def _middle(values: Sequence[float], tail: float) -> tuple[float, float]:
    """Without so many percent at either end."""
    known = np.array(values)[~np.isnan(values)]
    low, high = np.percentile(known, [tail, 100 - tail]) if known.size else (math.nan, math.nan)
    return float(low), float(high)


def assess(
    outputs: Any, targets: Any, loss: Callable[[Any, Any], Any], metrics: Sequence[Metric] = ()
) -> Assessment:
    """Score outputs against targets.

    Parameters
    ----------
    outputs, targets : array_like, first axis the examples
    loss : callable
    metrics : sequence of Metric

    Raises
    ------
    ShapeError
        If there are not as many outputs as targets.

    Examples
    --------
    >>> vs.evaluation.assess(np.ones((3, 1)), np.zeros((3, 1)), vs.losses.squared_error)
    {'loss': 1.0}
    """
    outputs, targets = np.asarray(held(outputs)), np.asarray(held(targets))
    if outputs.shape[:1] != targets.shape[:1]:
        raise ShapeError(
            f"assess: outputs of shape {outputs.shape} and targets of shape {targets.shape}: one "
            "of each is needed."
        )
    return Assessment(
        _figures(outputs, targets, loss, metrics), lambda: (outputs, targets), loss, metrics
    )


__getattr__, __dir__ = own_names(__name__, __all__)
