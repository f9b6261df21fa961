"""Runs that belong together: the trials of a search, the folds of a cross-validation."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from ..errors import RunError
from ..training.run._study import HELD_OUT

if TYPE_CHECKING:
    import pandas as pd

    from ._query import RunRecord

__all__ = ["Study", "study_of"]

SEARCH = "search"
PLACE = ("run", "status", "repeat", "fold", "seed", "train", "test")
"""Columns of a fold besides its scores."""


class Study:
    """The runs of one search or cross-validation; see `study_of`.

    Attributes
    ----------
    kind : {"search", "cross-validation"}
    name : str
    runs : list of RunRecord
        In their order in the study.

    Examples
    --------
    >>> Study({"id": "1", "kind": "search", "name": "rates"}, [])
    <search rates: 0 runs>
    """

    def __init__(self, known: dict[str, Any], runs: Iterable[RunRecord]) -> None:
        self.kind, self.name = str(known.get("kind")), str(known.get("name"))
        self.by = str(known.get("by") or "loss")
        self.runs = sorted(runs, key=_place)

    def __repr__(self) -> str:
        return f"<{self.kind} {self.name}: {len(self.runs)} runs>"

    @property
    def is_search(self) -> bool:
        return self.kind == SEARCH

    def table(self) -> pd.DataFrame:
        """A row for each run. Of a search: its settings, epochs and best score, the best first; of
        folds: their scores on what was held out.
        """
        import pandas as pd

        if not self.is_search:
            return pd.DataFrame(self._rows)

        def worth(row: Any) -> tuple[int, bool, float]:
            score = row[self.by]
            missing = score is None or np.isnan(score)
            return -row["epochs"], missing, 0.0 if missing else self._sign * score

        return pd.DataFrame(sorted(self._rows, key=worth))

    @cached_property
    def _rows(self) -> list[dict[str, Any]]:
        """A row for each run, in their order."""
        return [self._trial(run) if self.is_search else self._fold(run) for run in self.runs]

    @cached_property
    def _sign(self) -> float:
        """What makes the best score the lowest."""
        better = next((run.better.get(self.by, "lower") for run in self.runs), "lower")
        return -1.0 if better == "higher" else 1.0

    def _trial(self, run: RunRecord) -> dict[str, Any]:
        known = run.about["study"]
        best = run.scores["best"].get(self.by)
        return {
            "run": run.label,
            "status": run.status,
            **dict(known.get("settings") or {}),
            "epochs": run.epoch,
            self.by: None if best is None else float(best),
        }

    @staticmethod
    def _fold(run: RunRecord) -> dict[str, Any]:
        known = run.about["study"]
        held_out = run.assessment.get(HELD_OUT, {})
        return {
            "run": run.label,
            "status": run.status,
            "repeat": int(known.get("repeat", 0)),
            "fold": int(known.get("fold", 0)),
            "seed": int(known.get("seed", 0)),
            "train": int(known.get("train", 0)),
            "test": int(known.get("test", 0)),
            **{name: score.get("value") for name, score in held_out.items()},
        }

    def importance(self) -> pd.DataFrame:
        """Which settings of a search mattered; see `Search.importance`. Empty of fewer than 6
        trials, and of folds.
        """
        from ..training.tuning._importance import importance_of_trials

        if not self.is_search:
            return importance_of_trials([])
        trials = []
        for run, row in zip(self.runs, self._rows, strict=True):
            score = None if row[self.by] is None else self._sign * row[self.by]
            settings = dict(run.about["study"].get("settings") or {})
            trials.append((settings, run.epoch, score))
        return importance_of_trials(trials)

    def summary(self) -> pd.DataFrame:
        """Of folds, what they say together of each score; see `CrossValidation.summary`. Empty of
        a search, and as long as no fold is done.
        """
        import pandas as pd

        from ..training.tuning._cross_validation import SUMMARY, CrossValidation

        done = [] if self.is_search else [row for row in self._rows if len(row) > len(PLACE)]
        if not done:
            return pd.DataFrame(columns=SUMMARY)
        rows = [{k: v for k, v in row.items() if k != "status"} for row in done]
        return CrossValidation(rows, dict(self.runs[0].better)).summary()


def study_of(run: RunRecord) -> Study:
    """The search or cross-validation that a run belongs to.

    Raises
    ------
    RunError
        If it belongs to none.

    Examples
    --------
    >>> import tempfile
    >>> root, x = tempfile.mkdtemp(), np.random.default_rng(0).normal(size=(30, 2))
    >>> def fit(train, seed, **options):
    ...     training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=seed)
    ...     training.run(train.batches(10), epochs=1, **options)
    ...     return training
    >>> data = vs.data.Dataset(x, x[:, :1])
    >>> _ = vs.training.cross_validate(fit, data, folds=3, record=root)
    >>> study = vs.runs.study_of(vs.runs.open(root)["fold-1.3-3"])
    >>> study, study.summary()["folds"].tolist()
    (<cross-validation fold: 3 runs>, [3])
    """
    known = run.about.get("study") or {}
    if not known.get("id"):
        raise RunError(
            f"{run.label}: it is part of no search and no cross-validation that is recorded."
        )
    others = [one for one in run.runs if (one.about.get("study") or {}).get("id") == known["id"]]
    return Study(known, others)


def _place(run: RunRecord) -> tuple[Any, ...]:
    known = run.about["study"]
    return tuple(int(known.get(name, 0)) for name in ("number", "repeat", "fold", "seed"))
