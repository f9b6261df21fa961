"""What the ranks of a step bring together: losses, gradients, running statistics."""

from __future__ import annotations

import zlib
from collections.abc import Sequence

import numpy as np

from ...autodiff.tensor import held
from ...data.batches._batch import Batch, arrays_of
from ...distributed._communicator import Communicator
from ...errors import DataError
from ...layers._base import Layer

__all__ = [
    "average_statistics",
    "check_equal_batches",
    "fail_within_layers",
    "reduces_over_ranks",
]


def average_statistics(comm: Communicator, arrays: Sequence[np.ndarray], weight: float) -> None:
    """Running statistics, which each rank changed by its own examples, as their mean over all."""
    if not arrays:
        return
    floats = [array for array in arrays if array.dtype.kind == "f"]
    whole = np.concatenate([[1.0], *(array.reshape(-1) for array in floats)]) * weight
    comm.all_reduce(whole)
    at = 1
    for array in floats:
        array[...] = (whole[at : at + array.size] / whole[0]).reshape(array.shape)
        at += array.size


def reduces_over_ranks(network: Layer) -> bool:
    """Whether layers of the network hear other ranks while they compute."""
    return any(getattr(layer, "over_ranks", False) for layer in network.walk())


def fail_within_layers(comm: Communicator, network: Layer, error: Exception) -> None:
    """Raise an error of this rank at once where others may wait within the network."""
    if reduces_over_ranks(network):
        comm.fail(error)
        raise error


def check_equal_batches(comm: Communicator, batches: Sequence[Batch]) -> None:
    """
    Raises
    ------
    DataError
        If batches that every rank has whole, as of a stream, are not the same on each.
    """
    whole = [batch for batch in batches if batch.rows is None]
    if not whole:
        return
    sums = comm.all_gather([_checksum(batch) for batch in whole])
    for rank, found in enumerate(sums):
        if found != sums[0]:
            error = DataError(
                f"Ranks 0 and {rank} of {comm.size} were given other batches. Each takes its part "
                "of the same ones: let what makes them draw by a seed, and begin alike on all."
            )
            comm.raise_on_all(error)


def _checksum(batch: Batch) -> int:
    """Of the targets, or of inputs where there are none."""
    of = batch.inputs if batch.targets is None else batch.targets
    result = len(batch)
    for array in arrays_of(of):
        result = zlib.crc32(np.ascontiguousarray(held(array)).data.cast("B"), result)
    return result
