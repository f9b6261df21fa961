"""What the best state does on the validation part: its loss with the error of that, and decisions
class by class with how sure they are; for the record.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch, mapped, taken
from ...errors import VineStepError
from ...storage.json_values import finite_or_none
from ...tasks._base import Task
from ...tasks._classes import Binary, Classes, Labels, Ordered
from ..step._forward_pass import loss_of, outputs_of_batch, with_targets

if TYPE_CHECKING:
    from ..._model import Model
    from ...storage.run_store import RunStore
    from ..step._batch_checks import AnyBatches

__all__ = ["HELD_OUT_FILE", "held_out_scores", "write_held_out"]

HELD_OUT_FILE = "held_out.json"
MOST_EXAMPLES = 4000
MOST_CLASSES = 1000
BLOCK = 12  # examples


def write_held_out(store: RunStore, model: Model, validation: AnyBatches) -> None:
    """Record what a model does on a part."""
    try:
        found = held_out_scores(model, validation)
    except VineStepError:
        return  # examples that are not all of one shape, or targets of a kind of its own
    store.write_file(HELD_OUT_FILE, json.dumps(found, indent=1).encode())


def held_out_scores(model: Model, validation: AnyBatches) -> dict[str, Any]:
    """Mean loss of some thousand examples and its standard error, by blocks of them; and by target,
    where they are classes, how often each is true, decided and expected.
    """
    parts: dict[str, list[tuple[np.ndarray, np.ndarray]]] = {}
    losses: list[tuple[float, int]] = []
    with untracked():
        for batch in validation.in_order():
            batch = with_targets(batch, model.task)
            if batch.targets is None:
                return {}
            outputs = mapped(held, outputs_of_batch(model.network, batch))
            losses += _of_blocks(model.loss, outputs, batch)
            for name, task, found, true in model.task.by_target(outputs, batch.targets):
                known = _chances(task, np.asarray(found), np.asarray(true))
                if known is not None:
                    parts.setdefault(name, []).append(known)
            if sum(n for _, n in losses) >= MOST_EXAMPLES:
                break
    classes = model.codec.class_values
    targets = {}
    for name, several in parts.items():
        chances = np.concatenate([one for one, _ in several])
        labels = np.concatenate([one for _, one in several])
        own = classes.get(name, ()) if isinstance(classes, Mapping) else classes
        if len(labels):
            targets[name] = _summary(chances, labels, list(map(str, own)))
    values, counts = (np.array(column, float) for column in zip(*losses, strict=True))
    mean = float(np.average(values, weights=counts))
    spread = float(np.sqrt(np.average((values - mean) ** 2, weights=counts)))
    error = spread / math.sqrt(max(len(values) - 1, 1))
    scores: dict[str, Any] = finite_or_none(
        {
            "loss": mean,
            "loss_error": error if len(values) > 1 else None,
            "examples": int(counts.sum()),
            "targets": targets,
        }
    )
    return scores


def _of_blocks(loss: Any, outputs: Any, batch: Batch) -> list[tuple[float, int]]:
    """Mean loss of blocks of examples, and of how many."""
    n = len(batch)
    found = []
    for start in range(0, n, BLOCK):
        part = slice(start, min(start + BLOCK, n))
        own = Batch(
            batch.inputs,
            taken(batch.targets, part),
            None if batch.weights is None else batch.weights[part],
        )
        value = float(np.asarray(held(loss_of(loss, taken(outputs, part), own))))
        found.append((value, part.stop - part.start))
    return found


def _chances(
    task: Task, outputs: np.ndarray, targets: np.ndarray
) -> tuple[np.ndarray, np.ndarray] | None:
    """Probabilities of the classes of each example, and labels."""
    if isinstance(task, Labels) or outputs.ndim > 2:
        return None
    if isinstance(task, Classes) and targets.ndim == 1 and targets.dtype.kind in "iu":
        chances = scipy.special.softmax(outputs.astype(np.float64), axis=-1)
    elif isinstance(task, Ordered) and targets.ndim == 1:
        chances = task.probabilities(outputs)
    elif isinstance(task, Binary) and targets.size == len(outputs) == outputs.size:
        yes = scipy.special.expit(outputs.astype(np.float64).reshape(-1))
        chances, targets = np.stack([1 - yes, yes], axis=1), targets.reshape(-1)
    else:
        return None
    known = np.asarray(task.known(targets)).reshape(len(targets), -1).all(axis=1)
    labels = targets[known].astype(int)
    if (
        not np.isfinite(chances).all()
        or chances.shape[1] > MOST_CLASSES
        or (labels.size and labels.max() >= chances.shape[1])
    ):
        return None
    return chances[known], labels


def _summary(chances: np.ndarray, labels: np.ndarray, names: list[str]) -> dict[str, Any]:
    k = chances.shape[1]
    decided = chances.argmax(axis=1)
    sure = chances.max(axis=1)
    right = decided == labels
    error = math.sqrt(float(np.sum(sure * (1 - sure)))) / len(labels)
    return {
        "classes": names if len(names) == k else [str(i) for i in range(k)],
        "true": np.bincount(labels, minlength=k).tolist(),
        "decided": np.bincount(decided, minlength=k).tolist(),
        "expected": chances.sum(axis=0).round(3).tolist(),
        "examples": len(labels),
        "accuracy": float(right.mean()),
        "confidence": float(sure.mean()),
        "confidence_error": error,
    }
