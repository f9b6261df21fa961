"""The rehearsal of a run: what would waste hours is looked for in seconds, on a copy of
everything.
"""

from __future__ import annotations

import copy
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..._findings import Finding, Verdict, worst
from ...data.batches._batch import Batch
from ...data.checks._checks import input_range_of, source_findings, split_findings
from ...distributed._communicator import Alone
from ...distributed._current import communicator, using
from ...errors import VineStepError
from ...tasks._base import Task
from ..step._batch_checks import AnyBatches, are_batches, as_batches, check_parts, checked_batch
from . import (
    _data as rehearsed_data,
    _network as rehearsed_network,
    _training as rehearsed_training,
)
from ._covariate_shift import covariate_shift
from ._label_noise import label_noise
from ._learning_curve import learning_curve
from ._rank_checks import rank_findings
from ._stage import Stage

if TYPE_CHECKING:
    import pandas as pd

    from ..step._base import TrainingBase

__all__ = ["Rehearsal", "Stage", "rehearse"]

MISTAKES = (
    VineStepError,
    ValueError,
    TypeError,
    IndexError,
    KeyError,
    ZeroDivisionError,
    AttributeError,
)
SUBJECTS = {
    "by_heart": "learning a batch by heart",
    "cost": "time and memory",
    "examples_apart": "the batch axis",
    "told_by_inputs": "inputs and targets",
    "concept_shift": "the validation part",
    "covariate_shift": "the inputs of both parts",
    "label_noise": "the labels",
    "learning_curve": "the amount of data",
}
LOOKED_AT = 256  # examples that a check looks at, at most


@dataclass
class Rehearsal:
    """What a rehearsal found.

    Examples
    --------
    >>> finding = Finding("the first loss", "sound", "it is 1.09, and guessing gives 1.10.")
    >>> print(Rehearsal([finding], 0.5))
    sound: the first loss: it is 1.09, and guessing gives 1.10.
    """

    findings: list[Finding]
    seconds: float
    times: dict[str, float] = field(default_factory=dict)
    """Seconds that each check took."""

    @property
    def verdict(self) -> Verdict:
        """The worst that was found."""
        return worst(self.findings)

    @property
    def troubles(self) -> list[Finding]:
        """What is suspicious or wrong, the worst first."""
        bad = [finding for finding in self.findings if finding.is_trouble]
        return sorted(bad, key=lambda finding: finding.verdict != "wrong")

    def table(self) -> pd.DataFrame:
        """A row for each finding."""
        import pandas as pd

        return pd.DataFrame(
            [finding.as_dict() for finding in self.findings],
            columns=["subject", "verdict", "evidence", "cure"],
        )

    def __str__(self) -> str:
        return "\n".join(map(str, self.findings))


Check = Callable[[Stage], Iterator[Finding]]
QUICK: tuple[Check, ...] = (
    rehearsed_data.values,
    rehearsed_data.finite_validation,
    rehearsed_data.classes,
    rehearsed_data.likeness,
    covariate_shift,
    rehearsed_data.concept_shift,
    label_noise,
    rehearsed_network.first_loss,
    rehearsed_network.outputs,
    rehearsed_network.negative_targets,
    rehearsed_network.dropout,
    rehearsed_network.examples_apart,
    rehearsed_network.activations_between,
    rehearsed_network.units,
    rehearsed_network.gradients,
    rehearsed_network.weights,
    rehearsed_training.rate,
    rehearsed_training.batch_order,
    rehearsed_training.augmentation,
)
"""Without any training: under a second."""
THOROUGH: tuple[Check, ...] = (
    rehearsed_network.derivatives,
    rehearsed_training.by_heart,
    rehearsed_training.whole_way,
    rehearsed_data.told_by_inputs,
    learning_curve,
    rehearsed_training.cost,
)


OF_TARGETS: tuple[Check, ...] = (
    rehearsed_data.classes,
    rehearsed_data.concept_shift,
    label_noise,
    learning_curve,
    rehearsed_network.first_loss,
    rehearsed_network.outputs,
    rehearsed_network.negative_targets,
    rehearsed_training.batch_order,
    rehearsed_training.by_heart,
    rehearsed_data.told_by_inputs,
)
"""What is asked where targets are to be told; a network that makes examples learns none."""


OF_EXAMPLES: tuple[Check, ...] = (
    rehearsed_data.values,
    rehearsed_data.finite_validation,
    rehearsed_data.likeness,
    covariate_shift,
    rehearsed_training.first_steps,
    rehearsed_training.cost,
)
"""What is asked where the network is not called with examples, as a generator is not."""


def rehearse(
    training: TrainingBase,
    train: AnyBatches,
    validation: AnyBatches | None = None,
    *,
    quick: bool = False,
    steps: int | None = None,
    progress: Callable[[str], object] | None = None,
) -> Rehearsal:
    """Look for what goes wrong in runs, in seconds and on a copy; the training itself is not
    changed.

    Parameters
    ----------
    training : Training
    train, validation : Batches
        As they would be given to `Training.run`.
    quick : bool
        Only what needs no training, in under a second.
    steps : int, optional
        How many the run is to make, for an estimate of its time.
    progress : callable, optional
        Is called with what is looked at next, such as ``"learning a batch by heart"``.

    Returns
    -------
    rehearsal : Rehearsal
        Findings, sound ones too.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> x = rng.normal(size=(200, 3))
    >>> data = vs.data.Dataset(
    ...     x, (x[:, 0] + x[:, 1] > 0).astype(int), class_values=("sound", "stuck")
    ... )
    >>> training = vs.Training(
    ...     vs.Stack(vs.Dense(16, vs.relu), vs.Dense(2)), loss=vs.losses.cross_entropy
    ... )
    >>> train, validation = data.split(0.8, 0.2)
    >>> vs.training.rehearse(
    ...     training, train.batches(32), validation.batches(40), quick=True
    ... ).verdict
    'sound'
    """
    of_ranks: list[Finding] = []
    if communicator().size > 1 and are_batches(train):
        of_ranks = list(rank_findings(training, train))
    if training.network.divides_layers:
        of_ranks.append(
            Finding(
                "the network",
                "not tested",
                "its layers lie on several ranks, and a rehearsal is made by each alone.",
                "Rehearse in one process, with smaller stages of the same kinds.",
            )
        )
        return Rehearsal(of_ranks, 0.0)
    with using(Alone()):
        found = _rehearsed(training, train, validation, quick, steps, progress)
    found.findings[:0] = of_ranks
    return found


def _rehearsed(
    training: TrainingBase,
    train: AnyBatches,
    validation: AnyBatches | None,
    quick: bool,
    steps: int | None,
    progress: Callable[[str], object] | None,
) -> Rehearsal:
    begun = time.perf_counter()
    try:
        train = as_batches(train, "rehearse: the training data")
        validation = as_batches(validation, "rehearse: the validation data")
        check_parts({"training": train, "validation": validation})
    except VineStepError as error:
        return Rehearsal([_refused("training and validation", error)], time.perf_counter() - begun)
    findings: list[Finding] = []
    times: dict[str, float] = {}
    try:
        own = copy.deepcopy(training)
        batch = _some(train, training.task)
        other = None if validation is None else _some(validation, training.task)
        if own.network.arena is None:
            own.initialise(batch)
        own.descent.begin()
        own.schedule.begin(own.updates_an_epoch(train))
        stage = Stage(own, train, validation, batch, other, steps)
    except MISTAKES as error:
        return Rehearsal([_refused("the first batch", error)], time.perf_counter() - begun)
    findings += source_findings(train.dataset, batch)
    findings += split_findings(train, validation, None, input_range_of(train))
    checks = [*QUICK, *(() if quick else THOROUGH)]
    if not own.task.needs_targets:
        checks = [check for check in checks if check not in OF_TARGETS]
    if not own.takes_examples:
        checks = [check for check in OF_EXAMPLES if not quick or check in QUICK]
    for check in checks:
        at = time.perf_counter()
        subject = SUBJECTS.get(check.__name__, f"the {check.__name__.replace('_', ' ')}")
        if progress is not None:
            progress(subject)
        try:
            findings += check(stage)
        except MISTAKES as error:
            findings.append(_refused(subject, error))
            if check is rehearsed_network.first_loss:  # nothing that follows could work
                break
        times[check.__name__] = time.perf_counter() - at
    return Rehearsal(_each_once(findings), time.perf_counter() - begun, times)


def _refused(subject: str, error: Exception) -> Finding:
    told = str(error) if isinstance(error, VineStepError) else f"{type(error).__name__}: {error}"
    notes = " ".join(getattr(error, "__notes__", ()))
    return Finding(
        subject,
        "wrong",
        f"{told} {notes}".strip(),
        "Mend this first; the other checks may follow from it.",
    )


def _some(batches: AnyBatches, task: Task) -> Batch:
    """Some examples, from begin to end of a source, without augmentation."""
    source = batches.dataset
    if not hasattr(source, "gathered"):
        return checked_batch(next(iter(batches.in_order())), task)
    index = source.sample_index(LOOKED_AT)
    return checked_batch(source.gathered(index, batches.join), task)


def _each_once(findings: Sequence[Finding]) -> list[Finding]:
    return list(dict.fromkeys(findings))
