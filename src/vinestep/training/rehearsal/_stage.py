"""What the checks of a rehearsal work on."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch, mapped
from ...data.sources._dataset import Dataset
from ...tasks._base import Task
from ...tasks._several import Several
from ..step._base import TrainingBase
from ..step._batch_checks import AnyBatches
from ..step._forward_pass import outputs_of_batch, with_targets
from ._permutation_test import features_of

__all__ = [
    "Stage",
    "by_name",
    "first_examples",
    "outputs_in_inference",
    "raw_outputs",
    "subject_of",
    "tasks_of",
]

MANY = 2000  # examples that the checks of data look at, where they are in memory


@dataclass
class Stage:
    """What a rehearsal works on: a copy of the training, and some examples."""

    training: TrainingBase
    train: AnyBatches
    validation: AnyBatches | None
    batch: Batch
    """Of the training part, without augmentation."""
    other: Batch | None
    """Of the validation part."""
    steps: int | None = None
    """Of the full run, if that is known."""

    @cached_property
    def sample(self) -> Batch:
        """More examples of the training part, where they cost little."""
        return with_targets(_more(self.train, self.batch), self.training.task)

    @cached_property
    def features(self) -> np.ndarray | None:
        """Of the sample; see `features_of`."""
        found = features_of(self.sample)
        return None if found is None else found[0]

    @property
    def sample_index(self) -> np.ndarray | None:
        """Which examples of the training part the sample holds; None of a stream."""
        source = self.train.dataset
        return source.sample_index(len(self.sample)) if hasattr(source, "gathered") else None

    @cached_property
    def validation_sample(self) -> Batch:
        """More examples of the validation part, where they cost little."""
        assert self.other is not None
        return with_targets(_more(self.validation, self.other), self.training.task)

    def copy_of_training(self) -> TrainingBase:
        """Another copy, for a check that trains."""
        return copy.deepcopy(self.training)


def _more(batches: Any, few: Batch) -> Batch:
    source = batches.dataset
    if not isinstance(source, Dataset) or source.mapped_files:
        return few
    return source.gathered(source.sample_index(MANY), batches.join)


def first_examples(batch: Batch, n: int) -> Batch:
    """The first examples of a batch."""
    return batch.slice(0, n)


def raw_outputs(stage: Stage, batch: Batch) -> Any:
    """What the network puts out in inference: an array, or several by place or name."""
    with untracked():
        return mapped(held, outputs_of_batch(stage.training.network, batch))


def outputs_in_inference(stage: Stage, batch: Batch) -> dict[str, np.ndarray]:
    """Outputs in inference by name, or place; one alone has none."""
    return by_name(raw_outputs(stage, batch))


def by_name(values: Any) -> dict[str, np.ndarray]:
    """Arrays by name, or place; one alone has none."""
    if isinstance(values, tuple):
        values = {str(i): value for i, value in enumerate(values)}
    if not isinstance(values, Mapping):
        values = {"": values}
    return {name: np.asarray(held(value)) for name, value in values.items()}


def subject_of(words: str, name: str) -> str:
    """What a finding is about: a thing, or that of one target."""
    return f"{words} {name}" if name else words


def tasks_of(stage: Stage) -> dict[str, Task]:
    """What each output means, by name; one alone has none."""
    task = stage.training.task
    return dict(task.tasks) if isinstance(task, Several) else {"": task}
