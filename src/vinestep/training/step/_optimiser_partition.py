"""The part of the parameters whose optimiser state one of several ranks keeps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np

from ...autodiff.gradients import Layout
from ...distributed._communicator import Communicator, Span
from ...errors import SettingError
from ...optimisers._base import Optimiser
from ...optimisers._quasi_newton import LBFGS

__all__ = ["OptimiserPartition", "on_first_rank", "spans_of"]


def spans_of(layout: Layout, size: int, *, whole_parameters: bool) -> list[Span]:
    """Stretches of the arena for so many ranks, about equally long.

    Examples
    --------
    >>> layout = Layout([("weight", (4, 2)), ("bias", (2,))])
    >>> spans_of(layout, 2, whole_parameters=False), spans_of(layout, 2, whole_parameters=True)
    ([(0, 5), (5, 10)], [(0, 8), (8, 10)])
    """
    cuts = [layout.size * rank // size for rank in range(size + 1)]
    if whole_parameters:
        places = np.array([0, *(slot.stop for slot in layout)])
        cuts = [int(places[np.argmin(np.abs(places - cut))]) for cut in cuts]
    return list(pairwise(cuts))


def on_first_rank(
    comm: Communicator, arrays: Mapping[str, np.ndarray], spans: Sequence[Span]
) -> dict[str, np.ndarray]:
    """Flat arrays, of which each rank has its span, whole on the first rank; nothing on others."""
    found = {name: comm.gather_into_first(array, spans) for name, array in arrays.items()}
    return {name: array for name, array in found.items() if array is not None}


class OptimiserPartition:
    """An optimiser of which each rank has the state of its span.

    Parameters
    ----------
    comm : Communicator
    optimiser : Optimiser
        It is begun by this.
    """

    def __init__(self, comm: Communicator, optimiser: Optimiser) -> None:
        if isinstance(optimiser, LBFGS):
            raise SettingError(
                "LBFGS looks at all parameters at once, so its state cannot be divided among "
                "ranks. Leave partition_optimiser out."
            )
        self.comm, self.optimiser = comm, optimiser
        self.spans: list[Span] = []

    @property
    def span(self) -> Span:
        return self.spans[self.comm.rank]

    def begin(self, layout: Layout, dtype: np.dtype) -> None:
        """Make the state; what is known of parameters that stay is kept, on whichever rank it is
        from now on.
        """
        optimiser = self.optimiser
        before = optimiser.layout
        if before is layout:
            return
        known = {} if before is None else self._whole_on_all()
        self.spans = spans_of(layout, self.comm.size, whole_parameters=optimiser.by_parameter)
        optimiser.begin(layout, dtype, self.span)
        if before is None:
            return
        start, stop = self.span
        for name, array in optimiser.state.items():
            whole = np.zeros(layout.size, array.dtype)
            whole[start:stop] = array
            for slot, former in layout.common(before):
                layout.view(whole, slot)[...] = before.view(known[name], former)
            array[...] = whole[start:stop]

    def update(self, weights: np.ndarray, flat: np.ndarray, rate: float) -> None:
        """Move the weights of this rank's span, and get those of the others."""
        place = slice(*self.span)
        self.optimiser.update(weights[place], flat[place], rate)
        self.comm.all_gather_into(weights, self.spans)

    def _whole_on_all(self) -> dict[str, np.ndarray]:
        whole = {}
        for name, array in self.optimiser.state.items():
            whole[name] = np.empty(self.spans[-1][1], array.dtype)
            whole[name][slice(*self.span)] = array
            self.comm.all_gather_into(whole[name], self.spans)
        return whole

    def state(self) -> dict[str, np.ndarray]:
        """The whole state on the first rank; nothing on the others."""
        return on_first_rank(self.comm, self.optimiser.state, self.spans)

    def restore(self, name: str, array: np.ndarray) -> None:
        self.optimiser.state[name][...] = array[slice(*self.span)]
