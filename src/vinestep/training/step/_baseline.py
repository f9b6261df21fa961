"""What the best constant answer scores: the reference of whether anything was learned."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch, count_of, mapped, taken
from ...data.sources._dataset import Dataset
from ...data.sources._source import Source
from ...errors import VineStepError
from ...tasks._several import Several
from ._forward_pass import loss_of, outputs_of_batch

if TYPE_CHECKING:
    from ._base import TrainingBase
    from ._batch_checks import AnyBatches

__all__ = ["baseline_outputs", "baseline_scores", "constant_loss"]

MOST_EXAMPLES = 4000
FEW_READ = 256  # examples of a source that are read one by one
BLOCKS = 20  # of a part, by which the error of its mean is known


def baseline_scores(
    training: TrainingBase, train: AnyBatches, validation: AnyBatches | None
) -> dict[str, float]:
    """Loss of the answer that is the same for every example and guesses the training targets best;
    empty where none is known, as of a loss of one's own.

    Returns
    -------
    scores : dict
        ``loss`` on the training part; ``validation_loss`` and its standard error
        ``validation_error``, by blocks of examples; ``validation_examples``.
    """
    try:
        return _scores(training, train, validation)
    except (VineStepError, ValueError, TypeError, IndexError, FloatingPointError):
        return {}  # targets of a kind that no task describes


def constant_loss(training: TrainingBase, batch: Batch) -> float | None:
    """Loss of the best constant answer to a batch; None where none is known."""
    try:
        with untracked():
            found = mapped(held, outputs_of_batch(training.network, batch))
        outputs = baseline_outputs(training.task, batch.targets, found)
        return None if outputs is None else _loss(training.loss, outputs, batch)
    except (VineStepError, ValueError, TypeError, IndexError, FloatingPointError):
        return None  # targets of a kind that no task describes


def _scores(
    training: TrainingBase, train: AnyBatches, validation: AnyBatches | None
) -> dict[str, float]:
    ours = _targets_of(train)
    if ours is None:
        return {}
    sample = train.sample()
    with untracked():
        found = outputs_of_batch(training.network, sample)
    outputs = baseline_outputs(training.task, ours.targets, mapped(held, found))
    if outputs is None:
        return {}
    result = {"loss": _loss(training.loss, outputs, ours)}
    theirs = None if validation is None else _targets_of(validation)
    if theirs is not None and count_of(theirs.targets):
        result["validation_loss"] = _loss(training.loss, outputs, theirs)
        result["validation_error"] = _error(training.loss, outputs, theirs)
        result["validation_examples"] = float(count_of(theirs.targets))
    return {name: float(value) for name, value in result.items() if math.isfinite(value)}


def _targets_of(batches: AnyBatches) -> Batch | None:
    """Targets and weights of some examples; the inputs do not matter."""
    source = batches.dataset
    if isinstance(source, Dataset) and not source.mapped_files:
        if source.targets is None:
            return None
        n = len(source)
        index = np.arange(n) if n <= MOST_EXAMPLES else np.linspace(0, n - 1, MOST_EXAMPLES)
        index = index.astype(int)
        weights = None if source.weights is None else source.weights[index]
        return Batch(index, taken(source.targets, index), weights)
    if isinstance(source, Source):
        batch = source.gathered(source.sample_index(FEW_READ), batches.join)
    else:
        batch = batches.sample()
    return None if batch.targets is None else batch


def baseline_outputs(task: Any, targets: Any, like: Any) -> Any:
    """The best constant answer to targets, for one example; None where none is known.

    Parameters
    ----------
    task : Task
    targets : array, or mapping of name to array
    like : array, or several by name or place
        What the network puts out for some examples.
    """
    if isinstance(task, Several):
        found = {
            name: baseline_outputs(own, true, outputs)
            for name, own, outputs, true in task.by_target(like, targets)
        }
        return None if any(one is None for one in found.values()) else found
    if isinstance(like, tuple | dict) or isinstance(targets, dict):
        return None
    like = np.asarray(like)
    width = like.shape[-1] if like.ndim > 1 else 1
    found = task.baseline(np.asarray(targets), width)
    if found is None or found.shape != (width,) or not np.isfinite(found).all():
        return None
    return np.broadcast_to(found, like.shape[1:]).astype(like.dtype)


def _loss(loss: Any, outputs: Any, batch: Batch) -> float:
    n = count_of(batch.targets)

    def whole(one: np.ndarray) -> np.ndarray:
        own = batch.targets if not isinstance(batch.targets, dict) else None
        shape = (n, *one.shape)
        if own is not None and np.ndim(own) == len(shape) - 1 and one.ndim > 1:
            shape = (*np.shape(own), one.shape[-1])  # sequences as long as these targets
            one = one.reshape(-1, one.shape[-1])[0]
        return np.broadcast_to(one, shape)

    with untracked():
        value = loss_of(loss, mapped(whole, outputs), batch)
    return float(np.asarray(held(value)))


def _error(loss: Any, outputs: Any, batch: Batch) -> float:
    """Standard error of the mean loss, by the means of blocks of examples."""
    n = count_of(batch.targets)
    count = min(BLOCKS, n)
    if count < 2:
        return math.nan
    index = np.random.default_rng(0).permutation(n)
    values = []
    for block in np.array_split(index, count):
        weights = None if batch.weights is None else batch.weights[block]
        part = Batch(batch.inputs, taken(batch.targets, block), weights)
        values.append(_loss(loss, outputs, part))
    return float(np.std(values, ddof=1) / math.sqrt(count))
