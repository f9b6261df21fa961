"""Cross-validation: what is trained, scored on parts that no choice was made by."""

from __future__ import annotations

import json
import math
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import scipy

from ..._arguments import checked_seed
from ...data.sources._source import Source
from ...data.sources._splits import fold_indices
from ...data.tabular._table import Table, scaled_alike
from ...distributed._current import refuse_ranks
from ...errors import DataError, RunError, SettingError
from ..run._run_metadata import write_assessment
from ..run._status import Status
from ..run._study import HELD_OUT, new_study, part_of_study
from ..step._base import TrainingBase
from ._worker_pool import worker_pool

if TYPE_CHECKING:
    import pandas as pd

    from ..plans._plan import Plan

__all__ = ["SUMMARY", "CrossValidation", "Difference", "cross_validate"]

SUMMARY = ["score", "mean", "deviation", "low", "high", "folds"]
LEVEL = 0.05
SCORED = 1024  # examples at once
MANY_FEWER = 2  # folds at least


class Difference(NamedTuple):
    """Between two ways of training, on the same folds.

    Examples
    --------
    >>> print(Difference("loss", -0.2, -0.3, -0.1, 0.004, 5, "lower"))
    loss: the second is better. The second has -0.2, 95 % interval -0.3 to -0.1, p = 0.004, 5 folds.
    """

    score: str
    mean: float
    """Of the second less the first."""
    low: float
    high: float
    p: float
    folds: int
    better: str

    @property
    def verdict(self) -> str:
        """Which is better: "first", "second", or "" if the difference is none beyond chance."""
        if not self.p < LEVEL:
            return ""
        return "second" if (self.mean > 0) == (self.better == "higher") else "first"

    def __str__(self) -> str:
        words = (
            f"the {self.verdict} is better"
            if self.verdict
            else "no difference beyond chance, as far as these folds tell"
        )
        return (
            f"{self.score}: {words}. The second has {self.mean:+.4g}, 95 % interval "
            f"{self.low:+.4g} to {self.high:+.4g}, p = {self.p:.2g}, {self.folds} folds."
        )


@dataclass
class CrossValidation:
    """Scores on the parts that were held out, one of each fold and seed.

    Examples
    --------
    >>> made = CrossValidation(
    ...     [
    ...         {
    ...             "repeat": 0,
    ...             "fold": i,
    ...             "seed": 0,
    ...             "train": 80,
    ...             "test": 20,
    ...             "run": "",
    ...             "loss": x,
    ...         }
    ...         for i, x in enumerate([1.0, 1.2, 1.1, 0.9, 1.3], 1)
    ...     ],
    ...     {"loss": "lower"},
    ... )
    >>> made.summary()[["score", "mean"]].round(2).to_dict("records")
    [{'score': 'loss', 'mean': 1.1}]
    """

    rows: list[dict[str, Any]]
    better: dict[str, str]
    """Of each score that can be judged, whether "higher" or "lower" is better."""

    @property
    def scores(self) -> list[str]:
        """Their names."""
        known = ("repeat", "fold", "seed", "train", "test", "run")
        return [name for name in (self.rows[0] if self.rows else {}) if name not in known]

    def table(self) -> pd.DataFrame:
        """A row for each fold and seed: sizes of its parts, its run, its scores."""
        import pandas as pd

        return pd.DataFrame(self.rows)

    def summary(self) -> pd.DataFrame:
        """Of each score the mean over the folds, their deviation, and an interval of 95 % of what
        training anew on as many examples would score on new ones.

        Parts that are trained on overlap, so folds are less apart than such trainings are: the
        variance is that of C. Nadeau and Y. Bengio, Machine Learning 52, 239-281, 2003, equation 9.
        """
        import pandas as pd

        rows = []
        for score in self.scores:
            values, share = self._by_fold(score)
            mean, reach = _interval(values, share)
            deviation = float(values.std(ddof=1)) if len(values) > 1 else math.nan
            rows.append([score, mean, deviation, mean - reach, mean + reach, len(values)])
        return pd.DataFrame(rows, columns=SUMMARY)

    def _by_fold(self, score: str) -> tuple[np.ndarray, float]:
        """The mean over seeds of each fold, and examples tested by examples trained on."""
        return np.array(list(self._folds(score).values())), float(
            np.mean([row["test"] / row["train"] for row in self.rows])
        )

    def _folds(self, score: str) -> dict[tuple[int, int], float]:
        groups: dict[tuple[int, int], list[float]] = {}
        for row in self.rows:
            groups.setdefault((row["repeat"], row["fold"]), []).append(row[score])
        return {key: float(np.mean(values)) for key, values in groups.items()}

    def difference(self, other: CrossValidation, score: str = "loss") -> Difference:
        """How another way of training does on the same folds, and whether that is more than chance:
        a paired t-test with the variance of `summary`.

        Raises
        ------
        RunError
            If the two have no two folds in common, or one does not have the score.
        """
        for made in (self, other):
            if score not in made.scores:
                raise RunError(
                    f"difference: there is no score {score!r}. There are {', '.join(made.scores)}."
                )
        ours, theirs = self._folds(score), other._folds(score)
        shared = [key for key in ours if key in theirs]
        if len(shared) < MANY_FEWER:
            raise RunError("difference: the two have fewer than two folds in common.")
        apart = np.array([theirs[key] - ours[key] for key in shared])
        mean, reach = _interval(apart, self._by_fold(score)[1])
        error = reach / float(scipy.stats.t.ppf(1 - LEVEL / 2, len(apart) - 1))
        p = 1.0 if not error else float(2 * scipy.stats.t.sf(abs(mean) / error, len(apart) - 1))
        better = self.better.get(score, "lower")
        return Difference(score, mean, mean - reach, mean + reach, p, len(apart), better)


def _interval(values: np.ndarray, share: float) -> tuple[float, float]:
    """Mean, and half the length of its interval."""
    n = len(values)
    if n < 2:
        return float(values.mean()), math.nan
    error = math.sqrt(float(values.var(ddof=1)) * (1 / n + share))
    return float(values.mean()), float(scipy.stats.t.ppf(1 - LEVEL / 2, n - 1)) * error


def cross_validate(
    fit: str | os.PathLike[str] | Callable[..., TrainingBase],
    data: Any = None,
    *,
    folds: int = 5,
    repeats: int = 1,
    seeds: int = 1,
    stratified: bool | str = False,
    groups: Any = None,
    by: Any = None,
    seed: int = 0,
    record: str | os.PathLike[str] | None = None,
    name: str = "",
    processes: int = 1,
    settings: Sequence[str] = (),
    own: Sequence[Any] = (),
    cluster: str = "",
) -> CrossValidation:
    """Train on all folds but one and score on that one, each in turn.

    What is chosen while training, such as ranges, categories, the best epoch or settings, is chosen
    on the part that is trained on; a validation part is taken from it. Nested cross-validation
    is a `fit` that searches, or cross-validates, within what it is given.

    Parameters
    ----------
    fit : path of a plan, or callable
        A function ``fit(train, seed, **options)`` makes a `Training`, runs it, handing the options
        on to ``training.run``, and returns it. `train` is of the kind of `data`.
    data : Source, DataFrame or path of a table
        For a function. Of a DataFrame or file each fold learns encodings of its own.
    folds, repeats : int
        Folds of each division; divisions, each with another seed.
    seeds : int
        Trainings of each fold, from different seeds.
    stratified : bool or str
        Every fold has the same mix of classes; of a DataFrame by the column named. A plan says so
        itself, as it does of groups and times.
    groups, by : array_like or str, optional
        Examples of one group stay together; by times, folds validate on what comes next. Of a
        DataFrame a column may be named.
    seed : int
        Of division and trainings.
    record : path, optional
        Folder in which all runs are recorded. Called again with the same arguments, it goes on with
        the folds that are left.
    name : str
        Of the runs; by default that of the plan, or "fold".
    processes : int
        How many folds are trained at once; a function then has to be defined in a module.
    settings : sequence of str
        Of a plan: what is different from the file, ``"optimiser.rate=0.01"``.
    own : sequence of classes and functions
        Of a plan: parts of your own.
    cluster : str
        Address of a Dask scheduler, whose workers train the folds; see `search`.

    Returns
    -------
    found : CrossValidation

    Raises
    ------
    RunError
        If a fold was interrupted, or the folder holds another cross-validation of this name.

    Examples
    --------
    >>> def fit(train, seed, **options):
    ...     training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=seed)
    ...     training.run(train.batches(16), epochs=3, **options)
    ...     return training
    >>> x = np.random.default_rng(0).normal(size=(60, 2))
    >>> found = vs.training.cross_validate(fit, vs.data.Dataset(x, x[:, :1]), folds=3)
    >>> found.table()["test"].tolist()
    [20, 20, 20]
    """
    refuse_ranks("cross_validate")
    for what, value in (("repeats", repeats), ("seeds", seeds), ("processes", processes)):
        if isinstance(value, bool) or not isinstance(value, int | np.integer) or value < 1:
            raise SettingError(
                f"cross_validate: {what} must be a whole number of at least 1, got {value!r}."
            )
    seed = checked_seed(seed, "cross_validate")
    if callable(fit):
        given = _Data(data, stratified, groups, by)
        jobs = given.jobs(folds, repeats, seeds, seed)
        work: Any = _OfFunction(fit, given, name or "fold", record)
        asked = {"of": getattr(fit, "__qualname__", repr(fit)), "data": given.fingerprint()}
    else:
        work = _OfPlan(Path(fit), tuple(settings), tuple(own), name, record)
        jobs = work.jobs(folds, repeats, seeds, seed)
        asked = {"of": str(Path(fit).resolve()), "settings": list(settings)}
    asked |= {"folds": folds, "repeats": repeats, "seeds": seeds, "seed": seed}
    progress = _Progress(record, f"{work.name}-folds.json", asked)
    left = [job for job in jobs if job.key not in progress.done()]
    work.study = {"id": progress.study, "kind": "cross-validation", "name": work.name}
    _train_folds(work, left, progress, processes, cluster)
    order = {job.key: i for i, job in enumerate(jobs)}
    rows = sorted(progress.rows, key=lambda row: order[row["repeat"], row["fold"], row["seed"]])
    return CrossValidation(rows, progress.better)


class _Job(NamedTuple):
    """One training."""

    repeat: int
    fold: int
    seed: int
    train: Any = None
    test: Any = None
    of: int = 0
    division: int = 0

    @property
    def key(self) -> tuple[int, int, int]:
        return self.repeat, self.fold, self.seed


def _train_folds(
    work: Any, left: Sequence[_Job], progress: _Progress, processes: int, cluster: str
) -> None:
    if not cluster and (processes == 1 or len(left) < 2):
        for job in left:
            progress.add(*work(job))
        return
    tasks = {
        f"fold {job.fold} of division {job.repeat + 1}, seed {job.seed}": (job,) for job in left
    }
    with worker_pool(processes, cluster) as pool:
        for _, found in pool.completed(work, tasks):
            progress.add(*found)


class _Progress:
    """What is done, in a file if the runs are recorded."""

    def __init__(
        self, record: str | os.PathLike[str] | None, file: str, asked: dict[str, Any]
    ) -> None:
        self.path = None if record is None else Path(record) / file
        self.asked = json.loads(json.dumps(asked))
        self.rows: list[dict[str, Any]] = []
        self.better: dict[str, str] = {}
        self.study = new_study()
        if self.path is None or not self.path.exists():
            return
        try:
            known = json.loads(self.path.read_text(encoding="utf-8"))
            asked_before, rows, better = known["asked"], known["rows"], known["better"]
        except (OSError, ValueError, LookupError, TypeError) as error:
            raise RunError(f"{self.path}: it is no cross-validation: {error}.") from error
        if asked_before != self.asked:
            differs = sorted(k for k in self.asked if asked_before.get(k) != self.asked[k])
            raise RunError(
                f"{self.path}: it is of other {', '.join(differs)}. Give another name=, another "
                "folder, or the same arguments."
            )
        self.rows, self.better = list(rows), dict(better)
        self.study = str(known.get("study") or self.study)

    def done(self) -> set[tuple[int, int, int]]:
        return {(row["repeat"], row["fold"], row["seed"]) for row in self.rows}

    def add(self, row: dict[str, Any], better: Mapping[str, str]) -> None:
        self.rows.append(row)
        self.better |= better
        if self.path is not None:
            from ...storage.run_folder import write_text

            self.path.parent.mkdir(parents=True, exist_ok=True)
            known = {
                "asked": self.asked,
                "study": self.study,
                "better": self.better,
                "rows": self.rows,
            }
            write_text(self.path, json.dumps(known, indent=1))


class _Data:
    """Data of a function, to be divided."""

    def __init__(self, data: Any, stratified: bool | str, groups: Any, by: Any) -> None:
        import pandas as pd

        self.source = data if isinstance(data, Source) else None
        self.frame: pd.DataFrame | None = None
        if self.source is None:
            if not isinstance(data, pd.DataFrame | str | os.PathLike):
                raise DataError(
                    f"cross_validate: the data is a {type(data).__name__}. Give a source of "
                    "examples, a DataFrame, or the path of a table."
                )
            from ...data._table_files import read_frame

            self.frame = read_frame(data)[0]
        self.stratified = stratified
        self.groups, self.by = self._values(groups), self._values(by)

    def _values(self, given: Any) -> Any:
        if not isinstance(given, str):
            return given
        return self._column(given).to_numpy()

    def _column(self, name: str) -> Any:
        if self.frame is None or name not in self.frame.columns:
            known = "" if self.frame is None else f" It has {', '.join(map(str, self.frame))}."
            raise DataError(f"cross_validate: the data has no column {name!r}.{known}")
        return self.frame[name]

    def fingerprint(self) -> str:
        if self.source is not None:
            return self.source.fingerprint()
        from pandas.util import hash_pandas_object

        assert self.frame is not None
        return f"{int(hash_pandas_object(self.frame).sum()) & (2**64 - 1):016x}"

    def jobs(self, folds: int, repeats: int, seeds: int, seed: int) -> list[_Job]:
        return [
            _Job(repeat, fold, seed + own, train, test)
            for repeat, parts in enumerate(self._divided(folds, repeats, seed))
            for fold, (train, test) in enumerate(parts, 1)
            for own in range(seeds)
        ]

    def _divided(self, folds: int, repeats: int, seed: int) -> list[list[Any]]:
        if self.source is not None:
            every = list(
                self.source.fold_rows(
                    folds,
                    seed=seed,
                    stratified=self.stratified,
                    groups=self.groups,
                    by=self.by,
                    repeats=repeats,
                )
            )
            return [every[i : i + folds] for i in range(0, len(every), folds)]
        labels = None
        if self.stratified:
            if not isinstance(self.stratified, str):
                raise DataError(
                    'cross_validate: say by which column folds are to be alike: stratified="state".'
                )
            labels = self._column(self.stratified).astype(str).to_numpy()
        assert self.frame is not None
        n = len(self.frame)
        return [
            fold_indices(n, folds, seed + r, labels=labels, groups=self.groups, by=self.by)
            for r in range(repeats)
        ]

    def part(self, rows: np.ndarray) -> Any:
        if self.source is not None:
            return self.source.rows(rows)
        assert self.frame is not None
        return self.frame.iloc[rows].reset_index(drop=True)


class _OfFunction:
    """Trains one fold by a function, and scores it."""

    def __init__(
        self,
        fit: Callable[..., TrainingBase],
        given: _Data,
        name: str,
        record: str | os.PathLike[str] | None,
    ) -> None:
        self.fit, self.given, self.name, self.record = fit, given, name, record
        self.study: dict[str, Any] = {}

    def __call__(self, job: _Job) -> tuple[dict[str, Any], dict[str, str]]:
        train, test = self.given.part(job.train), self.given.part(job.test)
        named = f"{self.name}-{job.repeat + 1}.{job.fold}"
        options = {} if self.record is None else {"record": self.record, "name": named}
        with part_of_study(_place_of(job, self.study, len(train), len(test))):
            training = self.fit(train, job.seed, **options)
        if not isinstance(training, TrainingBase) or training.network.arena is None:
            raise SettingError(
                f"cross_validate: the function returned {training!r}. Return the Training that "
                "was run."
            )
        _check_whole(training.ended, job)
        if isinstance(test, Table) and training.codec.scaling is not None:
            test = scaled_alike(test, training.codec.scaling)
        found = (
            training.assess(test.batches(SCORED, shuffled=False))  # type: ignore[attr-defined]
            if isinstance(test, Source)
            else training.model().assess(test)
        )
        run = str(training.lineage.get("run", "")) if self.record is not None else ""
        if self.record is not None and run:
            from ...storage.run_folder import RunFolder

            write_assessment(RunFolder.open(Path(self.record) / run), {HELD_OUT: found})
        return _row(job, len(train), len(test), run, found), training.directions(())


class _OfPlan:
    """Trains one fold as a plan says, and scores it."""

    def __init__(
        self,
        path: Path,
        settings: tuple[str, ...],
        own: tuple[Any, ...],
        name: str,
        record: str | os.PathLike[str] | None,
    ) -> None:
        self.path, self.settings, self.own, self.record = path, settings, own, record
        self.name = name or self._plan(()).name
        self.study: dict[str, Any] = {}

    def _plan(self, settings: tuple[str, ...]) -> Plan:
        from ..plans._plan import read_plan

        return read_plan(self.path, settings=[*self.settings, *settings], own=self.own)

    def jobs(self, folds: int, repeats: int, seeds: int, seed: int) -> list[_Job]:
        if isinstance(folds, bool) or not isinstance(folds, int) or folds < MANY_FEWER:
            raise DataError(
                f"cross_validate: folds must be a whole number of at least 2, got {folds!r}."
            )
        return [
            _Job(repeat, fold, seed + own, of=folds, division=seed)
            for repeat in range(repeats)
            for fold in range(1, folds + 1)
            for own in range(seeds)
        ]

    def __call__(self, job: _Job) -> tuple[dict[str, Any], dict[str, str]]:
        from ..plans._planned_run import PlannedRun

        fold = f"{{number = {job.fold}, of = {job.of}, seed = {job.division + job.repeat}}}"
        named = json.dumps(f"{self.name}-{job.repeat + 1}.{job.fold}")
        changed = (f"data.fold={fold}", f"seed={job.seed}", f"name={named}")
        planned = PlannedRun(self._plan(changed), self.path.parent, own=self.own)
        sizes = len(planned.train) + len(planned.validation), len(planned.test)
        with part_of_study(_place_of(job, self.study, *sizes)):
            outcome = planned.run(record=self.record)
        _check_whole(outcome.status, job)
        found = planned.training.assess(planned.scored_batches(planned.test))
        run = outcome.folder.name if outcome.folder is not None else ""
        if outcome.store is not None:
            write_assessment(outcome.store, {HELD_OUT: found})
        return _row(job, *sizes, run, found), planned.training.directions(())


def _place_of(job: _Job, study: dict[str, Any], train: int, test: int) -> dict[str, Any]:
    """What the record of a fold's run says of its place among the others."""
    place = {"repeat": job.repeat, "fold": job.fold, "seed": job.seed}
    return study | place | {"train": train, "test": test}


def _check_whole(status: Any, job: _Job) -> None:
    if status is Status.INTERRUPTED:
        raise RunError(
            f"Fold {job.fold} of division {job.repeat + 1} was interrupted. The folds that are "
            "done are kept where runs are recorded: the same call goes on with the others."
        )


def _row(job: _Job, train: int, test: int, run: str, found: Mapping[str, float]) -> dict[str, Any]:
    return {
        "repeat": job.repeat,
        "fold": job.fold,
        "seed": job.seed,
        "train": train,
        "test": test,
        "run": run,
        **{name: float(value) for name, value in found.items()},
    }
