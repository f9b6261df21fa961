"""This rank's part of what every rank has whole."""

from __future__ import annotations

from typing import Any

from ..data.batches._batch import as_batch
from ..data.batches._partition import Partition
from ._current import communicator

__all__ = ["part_of"]


def part_of(batch: Any) -> Any:
    """This rank's rows of a batch that every rank has, for loops of one's own.

    Parameters
    ----------
    batch : Batch, or tuple of inputs and targets

    Returns
    -------
    part : Batch
        It unpacks into inputs and targets; ``part.rows`` says which rows of the whole they are.

    Examples
    --------
    >>> x, y = vs.distributed.part_of((np.ones((4, 2)), np.zeros(4)))
    >>> x.shape
    (4, 2)
    """
    comm = communicator()
    return Partition(comm.rank, comm.size).of(as_batch(batch, "part_of"))
