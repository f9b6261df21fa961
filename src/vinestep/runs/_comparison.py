"""Runs held against one another."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from .._findings import Finding, tell
from ..errors import RunError
from ._query import RunRecord

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "Comparison",
    "Parting",
    "compare",
    "first_difference",
    "leading_run",
]

AXES = ("epoch", "step", "examples", "seconds")
ALWAYS_DIFFERENT = ("name", "set", "written_by")
BEGINNING = "what they begin with: the weights drawn, or the first batch"
UPDATE, BACKWARD = "the update before it, or its batch", "the sweep back"
FORWARD, SCHEDULE = "the forward pass", "the schedule"


@dataclass
class Parting:
    """Where two runs that should be equal part."""

    step: int
    operation: str
    figures: dict[str, tuple[float, float]] = field(default_factory=dict)
    parameters: list[str] = field(default_factory=list)
    """The first at which recorded norms differ, if those are recorded."""

    def __str__(self) -> str:
        told = ", ".join(
            f"{name} {a!r} against {b!r}" for name, (a, b) in list(self.figures.items())[:4]
        )
        more = (
            f" First parameters to differ in the record: {', '.join(self.parameters[:3])}."
            if self.parameters
            else ""
        )
        return f"They part at step {self.step}, in {self.operation}: {told}.{more}"


class Leader(NamedTuple):
    """The run that left the others first."""

    run: str
    at: float
    """From there on."""
    value: float
    """Its best value there."""
    end: float
    """Where the shortest of the runs ends: so far they were compared."""


@dataclass
class Comparison:
    """Several runs, side by side.

    Attributes
    ----------
    settings : DataFrame
        Only those that differ: a row each, a column for each run.
    scores : DataFrame
        Last and best figures: a row each.
    assessments : DataFrame
        Scores of the parts with their 95 % intervals, where runs recorded them.
    facts : DataFrame
        Status, epochs, steps, seconds, memory.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.1):
    ...     training = vs.Training(
    ...         vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(rate)
    ...     )
    ...     outcome = training.run(
    ...         data.batches(4), epochs=3, record=root, observers=[vs.observers.Steps()]
    ...     )
    >>> found = vs.runs.compare(list(vs.runs.open(root)))
    >>> found.runs[0].label, list(found.curves("loss"))
    ('run-1', ['run-1', 'run-2'])
    """

    runs: list[RunRecord]
    settings: pd.DataFrame
    scores: pd.DataFrame
    assessments: pd.DataFrame
    facts: pd.DataFrame

    def curves(
        self, quantity: str = "validation_loss", against: str = "epoch"
    ) -> dict[str, tuple[np.ndarray, np.ndarray]]:
        """A figure of all runs that have it: by run the places and the values.

        Parameters
        ----------
        quantity : str
            A column of the curves, or of the steps if the curves have none.
        against : {"epoch", "step", "examples", "seconds"}
        """
        return {
            run.label: result
            for run in self.runs
            if len((result := curve_of(run, quantity, against))[0])
        }


def curve_of(
    run: RunRecord, quantity: str, against: str = "epoch"
) -> tuple[np.ndarray, np.ndarray]:
    """Places and values of one figure of a run; empty if it was not recorded."""
    check_axis(against)
    frame = run.curves
    if quantity not in frame:
        frame = run.steps
    if quantity not in frame:
        return np.zeros(0), np.zeros(0)
    frame = frame[frame[quantity].notna()]
    x = places_of(frame, against, lambda: run.steps)
    return (np.zeros(0), np.zeros(0)) if x is None else (x, frame[quantity].to_numpy(float))


def check_axis(against: str) -> None:
    """
    Raises
    ------
    RunError
        If nothing can be drawn against it.
    """
    if against not in AXES:
        raise RunError(
            f"A curve is drawn against {', '.join(AXES[:-1])} or {AXES[-1]}; got {against!r}."
        )


def places_of(
    frame: pd.DataFrame, against: str, steps: Callable[[], pd.DataFrame]
) -> np.ndarray | None:
    """Where rows lie on an axis: by their own column, or by what the single steps say of theirs;
    None if neither is known.
    """
    if against in frame:
        return np.asarray(frame[against].to_numpy(float))
    known = steps()
    if against not in known or "step" not in frame:
        return None
    return np.asarray(
        np.interp(
            frame["step"].to_numpy(float),
            known["step"].to_numpy(float),
            known[against].to_numpy(float),
        )
    )


def compare(runs: Sequence[RunRecord]) -> Comparison:
    """Runs side by side: what differs in their settings, their scores, time and memory.

    Raises
    ------
    RunError
        If there are fewer than two.

    Examples
    --------
    >>> import tempfile
    >>> root = tempfile.mkdtemp()
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.1):
    ...     training = vs.Training(
    ...         vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(rate)
    ...     )
    ...     outcome = training.run(data.batches(4), epochs=2, record=root)
    >>> vs.runs.compare(list(vs.runs.open(root))).settings.loc["optimiser.rate"].tolist()
    [0.01, 0.1]
    """
    import pandas as pd

    if len(runs) < 2:
        raise RunError("compare: give at least two runs.")
    labels = [run.label for run in runs]
    every = [
        {
            name: value
            for name, value in run.settings.items()
            if name.split(".")[0] not in ALWAYS_DIFFERENT
        }
        for run in runs
    ]
    names = list(dict.fromkeys(name for settings in every for name in settings))
    differ = [name for name in names if len({str(settings.get(name)) for settings in every}) > 1]
    settings = pd.DataFrame(
        [[one.get(name) for one in every] for name in differ],
        index=differ,
        columns=labels,
        dtype=object,
    )
    tables = [run.scores for run in runs]
    scored = list(dict.fromkeys(str(name) for table in tables for name in table.index))
    lines: dict[str, list[Any]] = {}
    for name in scored:
        for column, of in (
            ("last", "{}"),
            ("best", "best {}"),
            ("best_epoch", "epoch of best {}"),
            ("best_step", "step of best {}"),
        ):
            if column == "best_step" and f"epoch of best {name}" in lines:
                continue
            values = [table[column].get(name, np.nan) for table in tables]
            if any(value is not None and value == value for value in values):
                lines[of.format(name)] = values
    scores = pd.DataFrame(list(lines.values()), index=list(lines), columns=labels)
    facts = pd.DataFrame([_facts(run) for run in runs], index=labels).T
    facts = facts[
        [any(value == value and value != "" for value in row) for row in facts.to_numpy().tolist()]
    ]
    return Comparison(list(runs), settings, scores, _assessments(runs), facts)


def _facts(run: RunRecord) -> dict[str, Any]:
    machine = run.series("machine")
    return {
        "status": run.status,
        "epochs": run.epoch,
        "steps": run.step,
        "seconds": round(run.seconds(), 1),
        "most memory, MB": round(float(machine["memory megabytes"].max()))
        if len(machine)
        else np.nan,
        "commit": str(run.about.get("commit", ""))[:10],
        "data": str(run.about.get("data", ""))[:10],
    }


def _assessments(runs: Sequence[RunRecord]) -> pd.DataFrame:
    import pandas as pd

    rows: dict[str, dict[str, str]] = {}
    for run in runs:
        try:
            parts = run.assessment
        except RunError as error:
            tell([Finding(f"the run {run.label}", "wrong", f"{error}", "Assess it again.")])
            continue
        for part, scores in parts.items():
            for name, known in scores.items():
                rows.setdefault(f"{part} {name}", {})[run.label] = _score(**known)
    return (
        pd.DataFrame.from_dict(rows, orient="index", columns=None).reindex(
            columns=[run.label for run in runs]
        )
        if rows
        else pd.DataFrame()
    )


def _score(value: float | None, interval: Sequence[float] | None = None, **_: Any) -> str:
    low, high = interval or (np.nan, np.nan)
    return f"{np.nan if value is None else value:.4g} ({low:.4g} to {high:.4g})"


def first_difference(first: RunRecord, second: RunRecord) -> Parting | None:
    """The first step at which two runs that should be equal are not, and in which operation; None
    if all that both recorded is equal.

    The loss of a step comes from the forward pass, the norm of its gradients from the sweep back,
    and what both start from the update of the step before.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.1):
    ...     training = vs.Training(
    ...         vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(rate)
    ...     )
    ...     outcome = training.run(
    ...         data.batches(4), epochs=3, record=root, observers=[vs.observers.Steps()]
    ...     )
    >>> runs = vs.runs.open(root)
    >>> vs.runs.first_difference(runs["run-1"], runs["run-2"]).step
    1
    """
    one, other = first.steps, second.steps
    if not len(one) or not len(other):
        one, other = first.curves, second.curves
    shared = [
        name
        for name in one.columns
        if name in other.columns and name not in ("seconds", "epoch", "examples")
    ]
    n = min(len(one), len(other))
    a, b = one[shared].iloc[:n].to_numpy(float), other[shared].iloc[:n].to_numpy(float)
    differs = (a != b) & ~(np.isnan(a) & np.isnan(b))
    at = np.flatnonzero(differs.any(axis=1))
    if not len(at):
        return None
    row = int(at[0])
    figures = {
        name: (float(a[row, i]), float(b[row, i]))
        for i, name in enumerate(shared)
        if differs[row, i]
    }
    step = int(one["step"].iloc[row])
    if "loss" in figures:
        operation = UPDATE if row else BEGINNING
    elif "norm" in figures:
        operation = BACKWARD
    elif "rate" in figures:
        operation = SCHEDULE
    else:
        operation = FORWARD
    return Parting(step, operation, figures, _first_norms(first, second))


def _first_norms(first: RunRecord, second: RunRecord) -> list[str]:
    """Parameters whose recorded norms differ first; none if none do, or none were recorded."""
    one, other = first.series("norms"), second.series("norms")
    if not len(one) or not len(other):
        return []
    both = one.merge(other, on="step", suffixes=("", " other"))
    for _, row in both.iterrows():
        result = [
            name
            for name in one.columns
            if f"{name} other" in both and name != "epoch" and row[name] != row[f"{name} other"]
        ]
        if result:
            return list(dict.fromkeys(name.rpartition(" ")[0] for name in result if " " in name))
    return []


def leading_run(runs: Sequence[RunRecord], quantity: str, against: str = "epoch") -> Leader | None:
    """Which run left the others first: from where on its best value so far is the best of all; None
    if fewer than two can be compared.

    Parameters
    ----------
    runs : sequence of RunRecord
    quantity : str
        Such as ``"validation_loss"``.
    against : {"epoch", "step", "examples", "seconds"}

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.1):
    ...     training = vs.Training(
    ...         vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(rate)
    ...     )
    ...     outcome = training.run(
    ...         data.batches(4), epochs=3, record=root, observers=[vs.observers.Steps()]
    ...     )
    >>> vs.runs.leading_run(list(vs.runs.open(root)), "loss").run
    'run-2'
    """
    curves = {run.label: curve_of(run, quantity, against) for run in runs}
    curves = {label: (x, y) for label, (x, y) in curves.items() if len(x) > 1}
    if len(curves) < 2:
        return None
    lower = (
        next((run.better.get(quantity, "lower") for run in runs if run.label in curves), "lower")
        == "lower"
    )
    end = min(float(x[-1]) for x, _ in curves.values())
    begin = max(float(x[0]) for x, _ in curves.values())
    if not end > begin:
        return None
    grid = np.linspace(begin, end, 400)
    table = np.array(
        [
            np.interp(grid, x, np.minimum.accumulate(y) if lower else np.maximum.accumulate(y))
            for x, y in curves.values()
        ]
    )
    leads = table.argmin(axis=0) if lower else table.argmax(axis=0)
    last = int(leads[-1])
    others = np.flatnonzero(leads != last)
    at = int(others[-1]) + 1 if len(others) else 0
    return Leader(list(curves)[last], float(grid[at]), float(table[last, at]), end)
