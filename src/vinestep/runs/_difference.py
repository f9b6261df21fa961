"""Whether one way of training is better than another, or chance explains what is seen."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import scipy

from .._findings import Finding
from ..errors import RunError

if TYPE_CHECKING:
    from ._query import RunRecord

__all__ = [
    "Group",
    "TTest",
    "compared_groups",
    "difference",
    "groups_of",
    "is_hyperparameter",
    "mean_interval",
    "seeds_needed",
    "t_test",
]

LEVEL, POWER = 0.05, 0.9
FEWEST, MOST = 3, 200  # seeds that are asked for
SURE_OF_SPREAD = 0.8  # how often the spread of all seeds lies below what is reckoned with
SUBJECT = "which is better"
SEEDS = ("seed",)
OUTCOMES = ("name", "set", "written_by", "validation", "data", "source")


class Group(NamedTuple):
    """Runs that are equal but for their seed.

    Examples
    --------
    >>> found = Group("rate=0.1", {1: 0.5, 2: 0.7}, {1: "a", 2: "a"})
    >>> round(found.mean, 2), len(found.values)
    (0.6, 2)
    """

    name: str
    """The settings in which it differs from the others."""
    values: dict[int, float]
    """What is judged, by seed."""
    validation: dict[int, str]
    """By seed, which rows it was judged on."""
    loss: str = ""
    """What was minimised, in words."""
    better: str = "lower"

    @property
    def mean(self) -> float:
        return float(np.mean(list(self.values.values())))

    def __str__(self) -> str:
        values = np.array(list(self.values.values()))
        what = "seeds" if min(self.values) >= 0 else "runs"
        if len(values) < 2:
            return f"{self.name}: {self.mean:.4g}, one {what[:-1]}"
        low, high = mean_interval(values)
        return (
            f"{self.name}: {self.mean:.4g}, 95 % interval {low:.4g} to {high:.4g}, "
            f"{len(values)} {what}"
        )


def mean_interval(values: np.ndarray) -> tuple[float, float]:
    """The 95 % interval of a mean by Student's t; NaN of a single value.

    Examples
    --------
    >>> low, high = mean_interval(np.array([1.0, 2.0, 3.0]))
    >>> round(low, 3), round(high, 3)
    (-0.484, 4.484)
    """
    n, mean = len(values), float(np.mean(values))
    if n < 2:
        return math.nan, math.nan
    quantile = float(scipy.stats.t.ppf(1 - LEVEL / 2, n - 1))
    reach = quantile * float(np.std(values, ddof=1)) / math.sqrt(n)
    return mean - reach, mean + reach


class TTest(NamedTuple):
    """Two samples held against one another.

    Examples
    --------
    >>> found = t_test([1.0, 1.1, 0.9], [2.0, 2.1, 1.9], paired=False)
    >>> found.p < 0.01, round(found.difference, 6)
    (True, 1.0)
    """

    difference: float
    """Of the means, the second less the first."""
    low: float
    high: float
    p: float


def t_test(first: Sequence[float], second: Sequence[float], *, paired: bool) -> TTest:
    """A t-test of two samples, by pairs or after B. L. Welch, Biometrika 34, 28-35, 1947."""
    a, b = np.asarray(first, float), np.asarray(second, float)
    shift = float(b.mean() - a.mean())
    if np.ptp(b - a) == 0 if paired else np.ptp(a) == np.ptp(b) == 0:
        return TTest(shift, shift, shift, 0.0 if shift else 1.0)
    found = scipy.stats.ttest_rel(b, a) if paired else scipy.stats.ttest_ind(b, a, equal_var=False)
    interval = found.confidence_interval(1 - LEVEL)
    return TTest(shift, float(interval.low), float(interval.high), float(found.pvalue))


def seeds_needed(
    first: Sequence[float], second: Sequence[float], *, paired: bool, level: float = LEVEL
) -> int:
    """How many more seeds of each would show a difference as large as the one that is seen, nine
    times of ten; the spread is taken at the upper end of what it may be.
    """
    a, b = np.asarray(first, float), np.asarray(second, float)
    shift = abs(float(b.mean() - a.mean()))
    n = min(len(a), len(b))
    free = n - 1 if paired else len(a) + len(b) - 2
    spread = float((b - a).var(ddof=1)) if paired else float(a.var(ddof=1) + b.var(ddof=1))
    spread *= free / float(scipy.stats.chi2.ppf(1 - SURE_OF_SPREAD, free))
    if not shift:
        return MOST
    sure = float(scipy.stats.norm.isf(level / 2) + scipy.stats.norm.ppf(POWER))
    wanted = math.ceil(sure**2 * spread / shift**2) + 2  # two, since the spread is estimated anew
    return int(np.clip(wanted - n, FEWEST, MOST))


def groups_of(runs: Sequence[RunRecord], quantity: str) -> list[Group]:
    """Runs by the settings that they share but for the seed.

    Raises
    ------
    RunError
        If a run does not have the figure.
    """
    every: dict[tuple[Any, ...], list[tuple[RunRecord, Any]]] = {}
    for run in runs:
        own = run.settings
        key = tuple(sorted((k, str(v)) for k, v in own.items() if is_hyperparameter(k)))
        every.setdefault(key, []).append((run, own))
    names = [dict(key) for key in every]
    differ = sorted({k for one in names for k in one if len({n.get(k) for n in names}) > 1})
    # shapes of weights follow from what else differs
    differ = [k for k in differ if not k.startswith("weights.")] or differ
    result = []
    for shared, alike in zip(names, every.values(), strict=True):
        shown = ", ".join(f"{k}={_shown(shared.get(k, 'none'))}" for k in differ[:3])
        values: dict[int, float] = {}
        validation: dict[int, str] = {}
        for i, (run, own) in enumerate(alike):
            seed = int(own.get("seed", i))
            seed = seed if seed not in values else -1 - i  # the same seed twice
            values[seed] = _best(run, quantity)
            validation[seed] = str(own.get("validation.data", ""))
        first = alike[0][0]
        loss, better = _part(shared, "loss"), first.better.get(quantity, "lower")
        result.append(Group(shown or first.label, values, validation, loss, better))
    return result


def _shown(value: str) -> str:
    """A setting as it was written: whole numbers are read as floats."""
    return value.removesuffix(".0")


def _best(run: RunRecord, quantity: str) -> float:
    """The best value of a figure, or the last of one that nobody judges."""
    scores = run.scores
    if quantity not in scores.index:
        raise RunError(f"compare: {run.label} has no figure {quantity!r}.")
    best = scores["best"].get(quantity)
    return float(scores["last"][quantity] if best is None or best != best else best)


def is_hyperparameter(name: str) -> bool:
    """Whether a setting tells two ways of training apart: neither the seed nor a name does."""
    return name.split(".")[0] not in OUTCOMES and name.split(".")[-1] not in SEEDS


def difference(runs: Sequence[RunRecord], quantity: str = "validation_loss") -> Finding:
    """Whether one group of runs is better than the others, by more than chance: a finding that is
    sound if a difference is shown, unclear if chance explains it, and not tested if the runs cannot
    be compared.

    Runs equal but for the seed are one group. Seeds that both groups have are compared in pairs.
    With several groups the level is divided by the number of pairs.

    Parameters
    ----------
    runs : sequence of RunRecord
    quantity : str
        A column of the curves; the best of each run counts.

    Examples
    --------
    >>> import tempfile
    >>> root, x = tempfile.mkdtemp(), np.random.default_rng(0).normal(size=(60, 2))
    >>> train, validation = vs.data.Dataset(x, x[:, :1]).split(0.7, 0.3, seed=0)
    >>> for rate in (0.001, 0.1):
    ...     for seed in (1, 2, 3):
    ...         training = vs.Training(
    ...             vs.Dense(1),
    ...             task=vs.tasks.Numbers(),
    ...             optimiser=vs.optimisers.SGD(rate),
    ...             seed=seed,
    ...         )
    ...         outcome = training.run(
    ...             train.batches(10), validation=validation.batches(30), epochs=4, record=root
    ...         )
    >>> vs.runs.difference(list(vs.runs.open(root))).verdict
    'sound'
    """
    return compared_groups(groups_of(runs, quantity), quantity)


def compared_groups(groups: Sequence[Group], quantity: str) -> Finding:
    """See `difference`."""
    words = quantity.replace("_", " ")
    if len(groups) == 1:
        only = groups[0]
        said = f"the runs are equal but for their seed: {words} {_spread(only)}."
        return Finding(SUBJECT, "not tested", said, "There is one way only.")
    if (why := _not_comparable(groups)) is not None:
        return Finding(SUBJECT, "not tested", why, "Train them anew on the same parts.")
    lower = groups[0].better == "lower"
    ordered = sorted(groups, key=lambda group: group.mean if lower else -group.mean)
    best, second = ordered[0], ordered[1]
    listed = "; ".join(map(str, ordered[:4]))
    if min(len(best.values), len(second.values)) < 2:
        said = f"best {words} by way: {listed}. How far seeds are apart is not known."
        cure = f"Train {FEWEST} seeds of each: vinestep train PLAN --set seed=2."
        return Finding(SUBJECT, "unclear", said, cure)
    level = LEVEL / (len(groups) * (len(groups) - 1) / 2)
    one, other, paired = _sides(best, second)
    found = t_test(one, other, paired=paired)
    how = "in pairs by seed" if paired else "by Welch's t-test"
    if found.p < level:
        said = (
            f"{best.name} is better than {second.name}: the best {words} of the other is "
            f"{abs(found.difference):.3g} away (95 % interval {_span(found)}), "
            f"p = {found.p:.2g}, {how}. {listed}."
        )
        return Finding(SUBJECT, "sound", said)
    more = seeds_needed(one, other, paired=paired, level=level)
    said = (
        f"chance explains the difference between {best.name} and {second.name}: "
        f"{abs(found.difference):.3g} (95 % interval {_span(found)}), p = {found.p:.2g}, {how}. "
        f"{listed}."
    )
    cure = (
        f"{more} more seeds of each would tell a difference of this size."
        if more < MOST
        else "Take them for equal: no number of seeds that is worth while would tell."
    )
    return Finding(SUBJECT, "unclear", said, cure)


def _span(found: TTest) -> str:
    return f"{found.low:.3g} to {found.high:.3g}"


def _spread(group: Group) -> str:
    return str(group).split(": ", 1)[1]


def _sides(best: Group, second: Group) -> tuple[list[float], list[float], bool]:
    """Values of both, in pairs where the seeds are the same and were judged on the same rows."""
    shared = [
        seed
        for seed in best.values
        if seed >= 0 and seed in second.values and best.validation[seed] == second.validation[seed]
    ]
    whole = len(shared) == len(best.values) == len(second.values)
    if whole and len(shared) >= FEWEST:
        return [best.values[s] for s in shared], [second.values[s] for s in shared], True
    return list(best.values.values()), list(second.values.values()), False


def _not_comparable(groups: Sequence[Group]) -> str | None:
    """What forbids to compare, in words."""
    losses = {group.loss for group in groups}
    if len(losses) > 1:
        return f"they were trained with other losses or tasks: {'; '.join(sorted(losses)[:3])}."
    judged = [set(group.validation.values()) for group in groups]
    every = set().union(*judged)
    if len(every) > 1 and any(one != judged[0] for one in judged):
        return (
            f"they were judged on {len(every)} different validation parts, so that their scores "
            "cannot be compared. In a plan the key data.seed keeps the parts the same whatever "
            "the run's seed is."
        )
    return None


def _part(settings: Mapping[str, Any], name: str) -> str:
    own = {k: v for k, v in settings.items() if k.split(".")[0] == name}
    return ", ".join(f"{k}={v}" for k, v in sorted(own.items())) or "a loss of its own"
