"""Two models on the same examples: whether one is better, or chance explains what is seen."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from ..data.batches._batch import arrays_of
from ..errors import DataError
from ._scores import Assessment, Scored, bootstrap_indices

__all__ = ["PairedDifference", "paired_bootstrap"]

LEVEL = 0.05
RESAMPLES = 2000


class PairedDifference(NamedTuple):
    """A score of two models on the same examples.

    Examples
    --------
    >>> found = PairedDifference("loss", 0.5, 0.4, -0.15, -0.05, 0.002, 300)
    >>> print(str(found)[:56])
    loss: 0.5 against 0.4, the second less the first -0.1 (9
    """

    score: str
    first: float
    second: float
    low: float
    """Bounds of the 95 % confidence interval of the second less the first."""
    high: float
    p: float
    """How likely a difference as large would be by chance, times the number of scores compared."""
    examples: int

    @property
    def difference(self) -> float:
        """The second less the first."""
        return self.second - self.first

    def __str__(self) -> str:
        chance = "; chance explains it" if self.p >= LEVEL else ""
        if self.p != self.p:
            chance = "; too few to tell"
        return (
            f"{self.score}: {self.first:.4g} against {self.second:.4g}, the second less the first "
            f"{self.difference:.3g} (95 % interval {self.low:.3g} to {self.high:.3g}, "
            f"p = {self.p:.2g}, {self.examples} examples in pairs{chance})."
        )


def paired_bootstrap(first: Assessment, second: Assessment) -> list[PairedDifference]:
    """The scores of two models on the same examples, held against one another by a bootstrap that
    draws the same examples for both. With several scores each p is multiplied by how many there
    are.

    B. Efron and R. J. Tibshirani, An Introduction to the Bootstrap, 1993, chapters 13 and 16; the
    seed is fixed.

    Parameters
    ----------
    first, second : Assessment
        As `Model.assess`, `Training.assess` and `assess` give them.

    Raises
    ------
    DataError
        If they are not of the same examples, or share no score.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> truth = rng.normal(size=(200, 1))
    >>> near, far = (truth + s * rng.normal(size=truth.shape) for s in (0.1, 0.3))
    >>> one, other = (
    ...     vs.evaluation.assess(found, truth, vs.losses.squared_error) for found in (near, far)
    ... )
    >>> found = vs.evaluation.paired_bootstrap(one, other)[0]
    >>> found.score, found.low > 0, found.p < 0.05
    ('loss', True, True)
    """
    whole, others = first.joined, second.joined
    check_same_examples(whole, others)
    names = [name for name in first if name in second]
    if not names:
        raise DataError(
            f"paired_bootstrap: no score in both: {', '.join(first)} and {', '.join(second)}."
        )
    n = first.size
    drawn = bootstrap_indices(n, RESAMPLES)
    result = []
    for name in names:
        apart = second.resampled(name, drawn) - first.resampled(name, drawn)
        known = apart[np.isfinite(apart)]
        if n < 2 or not known.size:
            result.append(
                PairedDifference(name, first[name], second[name], np.nan, np.nan, np.nan, n)
            )
            continue
        low, high = np.percentile(known, [50 * LEVEL, 100 - 50 * LEVEL])
        beyond = 1 + min(int(np.sum(known <= 0)), int(np.sum(known >= 0)))
        p = min(1.0, 2 * beyond / (1 + known.size) * len(names))
        result.append(
            PairedDifference(name, first[name], second[name], float(low), float(high), p, n)
        )
    return result


def check_same_examples(first: Scored, second: Scored) -> None:
    """
    Raises
    ------
    DataError
        If their targets differ.
    """
    ours, theirs = arrays_of(first.targets), arrays_of(second.targets)
    if len(ours) == len(theirs) and all(map(_equal, ours, theirs)):
        return
    raise DataError(
        "The two were scored on other examples, or with other targets, so they are not compared "
        "in pairs. Score both on the same part: in a plan, data.seed keeps the parts the same "
        "whatever the run's seed is."
    )


def _equal(ours: Any, theirs: Any) -> bool:
    one, other = np.asarray(ours), np.asarray(theirs)
    floats = one.dtype.kind == other.dtype.kind == "f"
    return np.array_equal(one, other, equal_nan=floats)
