"""What the ranks of a step bring together: losses, gradients, running statistics."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...autodiff.gradients import Gradients
from ...distributed._communicator import Communicator
from ...layers._base import Layer

__all__ = ["average_statistics", "mean_of_ranks", "sums_over_ranks", "told_within"]


def mean_of_ranks(
    team: Communicator,
    value: float,
    weight: float,
    gradients: Gradients,
    error: Exception | None,
) -> float:
    """The mean loss of all ranks by their weights; gradients, which are those of the loss times its
    weight, become those of the mean in place.

    Raises
    ------
    The error on all ranks, if one has it.
    """
    failure = None if error is None else (type(error), str(error))
    told = team.all_gather((failure, value, weight))
    team.raise_agreed(error, [bad for bad, _, _ in told])
    whole = sum(one for _, _, one in told)
    flat = gradients.flat
    if weight:
        flat *= flat.dtype.type(1 / whole)
    else:
        flat[...] = 0
    team.all_reduce(flat)
    return float(sum(value * one for _, value, one in told) / whole)


def average_statistics(team: Communicator, arrays: Sequence[np.ndarray], weight: float) -> None:
    """Running statistics, which each rank changed by its own examples, as their mean over all."""
    if not arrays:
        return
    floats = [array for array in arrays if array.dtype.kind == "f"]
    whole = np.concatenate([[1.0], *(array.reshape(-1) for array in floats)]) * weight
    team.all_reduce(whole)
    at = 1
    for array in floats:
        array[...] = (whole[at : at + array.size] / whole[0]).reshape(array.shape)
        at += array.size


def sums_over_ranks(network: Layer) -> bool:
    """Whether layers of the network hear other ranks while they compute."""
    return any(getattr(layer, "over_ranks", False) for layer in network.walk())


def told_within(team: Communicator, network: Layer, error: Exception) -> None:
    """Raise an error of this rank at once where others may wait within the network."""
    if sums_over_ranks(network):
        team.fail(error)
        raise error
