"""Gradients of all ranks added up, piece by piece, while the sweep still computes others.

Every rank begins the same pieces in the same order, from the end of the flat array to its start,
also where something fails on one of them: so none waits for a piece that does not come.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...autodiff.gradients import Gradients, Layout
from ...autodiff.tensor import Origin, Tensor
from ...distributed._communicator import Communicator, Pending
from ...distributed._compressed_sum import CompressedSum

__all__ = ["GradientExchange", "Pieces", "put"]

LEAST = 1 << 18  # numbers of a piece; a parameter is never cut


class Pieces:
    """Stretches of an arena whose gradients travel together, the last one first."""

    def __init__(self, layout: Layout, tensors: Mapping[str, Tensor]) -> None:
        self.spans: list[tuple[int, int]] = []
        self.index: dict[Origin, int] = {}
        """Of each parameter, in which piece it lies."""
        self.counts: list[int] = []
        """How many parameters each has."""
        stop, count = layout.size, 0
        for slot in reversed(list(layout)):
            self.index[tensors[slot.path].origin] = len(self.spans)
            count += 1
            if stop - slot.start >= LEAST or slot.start == 0:
                self.spans.append((slot.start, stop))
                self.counts.append(count)
                stop, count = slot.start, 0


class GradientExchange:
    """The sum of one step's gradients over ranks.

    Parameters
    ----------
    comm : Communicator
    pieces : Pieces
    error : ndarray, shape (layout.size,), optional
        What rounding to float16 left away of former sums, if gradients travel so.
    """

    def __init__(self, comm: Communicator, pieces: Pieces, error: np.ndarray | None = None) -> None:
        self.comm, self.pieces, self.error = comm, pieces, error
        self.earlier: Gradients | None = None
        """Of batches of the step that were swept before."""
        self.gradients: Gradients | None = None
        self.open_places: dict[Origin, np.ndarray] = {}
        """Of the parameters whose gradients are not whole yet."""
        self._left = list(pieces.counts)
        self._pending: list[Pending] = []

    @property
    def is_in_pieces(self) -> bool:
        """Whether anything can be sent before the sweep is over."""
        return len(self.pieces.spans) > 1

    def begin(self, gradients: Gradients, places: Mapping[Origin, np.ndarray]) -> None:
        """A sweep will write into these."""
        self.gradients, self.open_places = gradients, dict(places)

    def send_finished(self, found: Mapping[Origin, Any]) -> None:
        """The sweep goes on, and these parameters' gradients are whole."""
        for origin, cotangent in found.items():
            put(cotangent, self.open_places.pop(origin))
            self._left[self.pieces.index[origin]] -= 1
        while len(self._pending) < len(self._left) and not self._left[len(self._pending)]:
            self._send_next()
        for pending in self._pending:
            pending.progress()

    def finish(self, *, failed: bool = False) -> None:
        """Begin what is left of the pieces; of a sweep that failed they say nothing."""
        assert self.gradients is not None
        if failed and len(self._pending) < len(self._left):
            self.gradients.flat[: self.pieces.spans[len(self._pending)][1]] = 0
        while len(self._pending) < len(self._left):
            self._send_next()

    def _send_next(self) -> None:
        assert self.gradients is not None
        place = slice(*self.pieces.spans[len(self._pending)])
        part = self.gradients.flat[place]
        if self.earlier is not None:
            part += self.earlier.flat[place]
        self._pending.append(
            self.comm.start_all_reduce(part)
            if self.error is None
            else CompressedSum(self.comm, part, self.error[place])
        )

    def gather(self, value: Any, *, error: Exception | None) -> list[Any]:
        """A value of each rank; then the sums are there. Raises what one rank has as an error."""
        return self.comm.gather_and_wait(value, self._pending, error=error)

    def commit(self) -> None:
        """The step was made: what was left away of these sums goes into the next."""
        for pending in self._pending:
            if isinstance(pending, CompressedSum):
                pending.commit()


def put(cotangent: Any, place: np.ndarray) -> None:
    """Have a cotangent where gradients are kept, if it was not made there."""
    if cotangent is not place:
        place[...] = cotangent
