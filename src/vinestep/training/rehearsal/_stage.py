"""What the checks of a rehearsal work on."""

from __future__ import annotations

import copy
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch, mapped
from ..step._base import TrainingBase
from ..step._batch_checks import AnyBatches
from ..step._forward_pass import outputs_of

__all__ = ["Stage", "first_examples", "outputs_in_inference"]


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

    def copy_of_training(self) -> TrainingBase:
        """Another copy, for a check that trains."""
        return copy.deepcopy(self.training)


def first_examples(batch: Batch, n: int) -> Batch:
    """The first examples of a batch."""

    def cut(value: Any) -> Any:
        return None if value is None else mapped(lambda x: x[:n], value)

    return batch.with_values(
        inputs=cut(batch.inputs),
        targets=cut(batch.targets),
        weights=cut(batch.weights),
        masks=cut(batch.masks),
    )


def outputs_in_inference(stage: Stage, batch: Batch) -> np.ndarray:
    """Outputs in inference."""
    with untracked():
        array = held(outputs_of(stage.training.network, batch.inputs, batch.masks))
    return np.asarray(array[0] if isinstance(array, tuple) else array)
