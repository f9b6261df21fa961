"""The best models of two runs on the same test examples."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ..errors import PlanError, RunError
from ..evaluation._paired import PairedDifference, check_same_examples, paired_bootstrap
from ._query import RunRecord

if TYPE_CHECKING:
    from ..evaluation._scores import Assessment

__all__ = ["Decisions", "decisions_of", "paired_differences", "prediction_lines"]


@dataclass
class Decisions:
    """What two models decide on the same examples."""

    examples: int
    both_right: int
    only_first: int
    only_second: int
    both_wrong: int
    p: float
    """Of the exact test by McNemar: how probable so unequal a division is if neither is better."""

    def __str__(self) -> str:
        return (
            f"{self.examples} examples: both right {self.both_right}, only the first "
            f"{self.only_first}, only the second "
            f"{self.only_second}, "
            f"both wrong {self.both_wrong}; p = {self.p:.3g}."
        )


class _Scored(NamedTuple):
    """A run's best model on the test part of its plan."""

    run: RunRecord
    assessment: Assessment
    classes: Any


def paired_differences(
    first: RunRecord, second: RunRecord, *, own: Sequence[Any] = ()
) -> list[PairedDifference]:
    """The scores of the best models of two runs on the test part of their plans, example by
    example; see `vinestep.evaluation.paired_bootstrap`.

    Raises
    ------
    RunError
        If a folder is not on this machine, or a run has no plan or no state.
    DataError
        If their test parts differ.

    Examples
    --------
    >>> import tempfile
    >>> from importlib.resources import files
    >>> from pathlib import Path
    >>> root = tempfile.mkdtemp()
    >>> from vinestep.training.plans._planned_run import PlannedRun
    >>> from vinestep.training.plans._plan import read_plan
    >>> plan = read_plan(files("vinestep.demo") / "barrels.toml", settings=["epochs=1"])
    >>> for _ in range(2):
    ...     outcome = PlannedRun(plan, Path(".")).run(record=root)
    >>> found = vs.runs.paired_differences(*vs.runs.open(root))
    >>> found[0].score, found[0].difference, found[0].p
    ('loss', 0.0, 1.0)
    """
    one, other = _scored(first, second, own)
    return paired_bootstrap(one.assessment, other.assessment)


def decisions_of(first: RunRecord, second: RunRecord, *, own: Sequence[Any] = ()) -> Decisions:
    """What the best models of two runs decide on the test part of their plans.

    Raises
    ------
    RunError
        If a folder is not on this machine, a run has no plan or no state, or what they predict are
        no classes.
    DataError
        If their test parts differ.

    Examples
    --------
    >>> import tempfile
    >>> from importlib.resources import files
    >>> from pathlib import Path
    >>> root = tempfile.mkdtemp()
    >>> from vinestep.training.plans._planned_run import PlannedRun
    >>> from vinestep.training.plans._plan import read_plan
    >>> plan = read_plan(files("vinestep.demo") / "barrels.toml", settings=["epochs=1"])
    >>> for _ in range(2):
    ...     outcome = PlannedRun(plan, Path(".")).run(record=root)
    >>> found = vs.runs.decisions_of(*vs.runs.open(root))
    >>> found.examples, found.only_first, found.only_second
    (225, 0, 0)
    """
    return _decisions(_scored(first, second, own))


def prediction_lines(
    first: RunRecord, second: RunRecord, *, own: Sequence[Any] = ()
) -> Iterator[str]:
    """Decisions, where there are classes, and scores of the best models, a line each."""
    scored = _scored(first, second, own)
    if all(one.classes and one.classes != 1 for one in scored):
        yield str(_decisions(scored))
    one, other = scored
    yield from map(str, paired_bootstrap(one.assessment, other.assessment))


def _decisions(scored: Sequence[_Scored]) -> Decisions:
    from scipy.stats import binomtest

    from ..training.step._scoring import right_decisions

    check_same_examples(*(one.assessment.joined for one in scored))
    right: list[np.ndarray] = []
    for run, found, classes in scored:
        if not classes or classes == 1:
            raise RunError(f"{run.label}: it predicts numbers; decisions are compared of classes.")
        decided = right_decisions(found.loss, found.joined.outputs, found.joined.targets, classes)
        if decided is None:
            raise RunError(f"{run.label}: its network does not decide between the classes.")
        right.append(decided)
    a, b = right
    one, other = int((a & ~b).sum()), int((~a & b).sum())
    p = float(binomtest(one, one + other).pvalue) if one + other else 1.0
    return Decisions(len(a), int((a & b).sum()), one, other, int((~a & ~b).sum()), p)


def _scored(first: RunRecord, second: RunRecord, own: Sequence[Any]) -> list[_Scored]:
    from .._model import open_model
    from ..training.plans._plan import read_plan
    from ..training.plans._planned_run import PlannedRun
    from ..training.step._scoring import assessment

    folders = [folder for run in (first, second) if (folder := run.folder) is not None]
    if len(folders) < 2:
        raise RunError("Models are compared on the machine that has the folders of both runs.")
    result = []
    for run, folder in zip((first, second), folders, strict=True):
        try:
            plan = read_plan(folder.path / "plan.toml", own=own)
        except PlanError as error:
            raise RunError(
                f"{run.label}: its test part is not known from a plan. Score both models on one "
                "part: vinestep.evaluation.paired_bootstrap(a.assess(part), b.assess(part)). "
                f"{error}"
            ) from error
        states = folder.states()
        if not states:
            raise RunError(f"{folder.path}: it has no state.")
        planned = PlannedRun(plan, folder.path, own=own, resuming=True)
        model = open_model(folder.state_path(folder.best_state() or states[-1]), own=own)
        if model.loss is None or not model.task.needs_targets:
            raise RunError(f"{run.label}: its network makes examples; their scores are no pairs.")
        found = assessment(
            model.network, planned.scored_batches(planned.test), model.loss, model.metrics
        )
        result.append(_Scored(run, found, planned.source.classes))
    return result
