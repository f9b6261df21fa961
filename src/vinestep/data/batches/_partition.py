"""The part of a batch that one of several ranks takes."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..._rows import Rows, rows_of_part
from ._batch import Batch

__all__ = ["Partition", "own_rows", "whole_size"]


class Partition(NamedTuple):
    """Which of how many equal parts.

    Examples
    --------
    >>> [Partition(rank, 3).rows(7).size for rank in range(3)]
    [2, 2, 3]
    """

    rank: int
    size: int

    def rows(self, n: int) -> Rows:
        """Of so many rows, those of this part."""
        return rows_of_part(n, self.rank, self.size)

    def of(self, batch: Batch) -> Batch:
        """This part of a batch; one that is a part already is left."""
        if self.size == 1 or batch.rows is not None:
            return batch
        rows = self.rows(len(batch))
        return batch.slice(rows.start, rows.stop).with_values(rows=rows)


def whole_size(batch: Batch) -> int:
    """How many examples the whole batch has, of which this is a part."""
    return len(batch) if batch.rows is None else batch.rows.whole


def own_rows(batch: Batch, whole: np.ndarray) -> np.ndarray:
    """Of what was made for the whole batch, the rows of this part."""
    return whole if batch.rows is None else whole[batch.rows.start : batch.rows.stop]
