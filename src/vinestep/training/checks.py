"""What a training is given, checked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from ..data.dataset import Batches
from ..errors import DataError, SettingError
from ..metrics import Metric
from .looking import check_encoding

__all__ = ["check_parts", "checked_batch", "checked_metrics"]


def checked_metrics(metrics: Any) -> list[Metric]:
    """Metrics of different names, as a list."""
    if isinstance(metrics, Metric) or not isinstance(metrics, Iterable):
        raise SettingError("Training: metrics is a sequence. Write metrics=[vinestep.metrics.accuracy].")
    found = list(metrics)
    for metric in found:
        if not isinstance(metric, Metric):
            raise SettingError(f"Training: {metric!r} is no metric. Give those of vinestep.metrics, or a Metric of your own.")
    names = [metric.name for metric in found]
    if len(set(names)) < len(names) or "loss" in names:
        raise SettingError(f"Training: metrics need different names, and none may be called loss: {', '.join(names)}.")
    return found


def checked_batch(batch: Any) -> tuple[Any, Any]:
    """Inputs and targets of a batch that holds both and as many of each."""
    if not isinstance(batch, tuple | list) or len(batch) != 2:
        raise DataError(f"Training: a batch is a pair (inputs, targets), got {type(batch).__name__}.")
    inputs, targets = batch
    if type(inputs) is type(targets) is np.ndarray and inputs.ndim and targets.ndim and len(inputs) == len(targets) > 0:
        return inputs, targets
    n = np.shape(targets)[0] if np.ndim(targets) else 0
    first = inputs[0] if isinstance(inputs, tuple) else inputs
    if not n or np.shape(first)[:1] != (n,):
        raise DataError(
            f"Training: a batch of inputs of shape {np.shape(first)} and targets of shape {np.shape(targets)}. It needs at least one "
            "example, and as many inputs as targets."
        )
    return inputs, targets


def check_parts(parts: Mapping[str, Batches | None]) -> None:
    """Parts of one run are encoded alike, and share no examples."""
    given = {}
    for role, part in parts.items():
        if part is not None and not isinstance(part, Batches):
            raise DataError(f"run: the {role} data is a {type(part).__name__}. Give batches: dataset.batches(32).")
        if part is not None:
            given[role] = part.dataset
    roles = list(given)
    for i, first in enumerate(roles):
        for second in roles[i + 1 :]:
            check_encoding(given[first], given[second], f"the {second} part")
            shared = given[first].shared_rows(given[second])
            if shared:
                raise DataError(
                    f"run: {shared} of {len(given[second])} {second} examples are {first} examples too, so their loss says "
                    "nothing about new data. Take both from one split: train, validation = data.split(0.8, 0.2)."
                )
