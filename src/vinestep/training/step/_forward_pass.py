"""A network and a loss called with a batch: several inputs, masks, weights."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Any

import numpy as np

from ..._masking import zero_nonfinite
from ...data.batches._batch import Batch
from ...errors import DataError
from ...layers._base import Layer
from ...layers._named_inputs import inputs_in_order, takes

__all__ = ["loss_of", "outputs_of", "outputs_of_batch", "with_targets"]


def outputs_of(network: Layer, inputs: Any, masks: Any = None, targets: Any = None) -> Any:
    """What a network makes of inputs: one array, several by place or by name, with a mask if there
    is one, and targets if its `compute` takes them.

    Raises
    ------
    DataError
        If there is a mask and the network takes none, or inputs by name do not fit.
    """
    options = {}
    if targets is not None and takes(network, "targets"):
        options["targets"] = targets
    if masks is not None:
        if not takes(network, "mask"):
            raise DataError(
                f"The batch has masks, and {type(network).__name__}.compute takes none. Add a "
                "parameter `mask`, or join examples without."
            )
        options["mask"] = masks
        if isinstance(inputs, np.ndarray):
            inputs = zero_nonfinite(inputs, ~np.asarray(masks, bool))
    placed = inputs_in_order(network, inputs)
    return network(*placed, **options) if isinstance(placed, tuple) else network(placed, **options)


def outputs_of_batch(network: Layer, batch: Batch) -> Any:
    """See `outputs_of`."""
    return outputs_of(network, batch.inputs, batch.masks, batch.targets)


def with_targets(batch: Batch, task: Any) -> Batch:
    """A batch as a task takes it: something for each example where no targets are needed."""
    if batch.targets is not None or task.needs_targets:
        return batch
    return batch.with_values(targets=task.without_targets(len(batch)))


def loss_of(loss: Callable[..., Any], outputs: Any, batch: Batch) -> Any:
    """The loss of a batch, weighted if it has weights.

    Raises
    ------
    DataError
        If there are weights and the loss takes none.
    """
    if batch.weights is None:
        return loss(outputs, batch.targets)
    if not _takes_weights(loss):
        raise DataError(
            f"The batch has weights, and the loss {getattr(loss, '__name__', loss)} takes none. "
            "Add a parameter `weights`."
        )
    return loss(outputs, batch.targets, weights=batch.weights)


def _takes_weights(loss: Any) -> bool:
    try:
        parameters = inspect.signature(loss).parameters.values()
    except (TypeError, ValueError):
        return True
    return any(p.name == "weights" or p.kind is p.VAR_KEYWORD for p in parameters)
