"""A training whose network is divided among ranks: each has the arena of its stage."""

from __future__ import annotations

import copy
import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from ...distributed._communicator import Alone, Communicator
from ...distributed._current import communicator
from ...errors import SettingError
from ...layers._base import Layer
from ...layers._pipeline import Pipeline
from ._optimiser_partition import on_first_rank

__all__ = ["StageGroup", "of_all_stages", "ranks_of_batch", "whole_network"]

ALONE = Alone()


def ranks_of_batch(network: Layer) -> Communicator:
    """The ranks among which batches are divided: none where the layers are."""
    return ALONE if network.divides_layers else communicator()


def of_all_stages(network: Layer, own: Mapping[str, Any]) -> dict[str, Any]:
    """What each stage has by path, of all of them, in their order."""
    if not network.divides_layers:
        return dict(own)
    return {
        path: value for found in communicator().all_gather(own) for path, value in found.items()
    }


def whole_network(network: Layer) -> Layer:
    """A copy that has all layers; where ranks divide them, all have to ask for it."""
    return network.whole() if isinstance(network, Pipeline) else copy.deepcopy(network)


class StageGroup:
    """The stages of one network, of which this rank has one.

    A state holds what that of the whole network in one process would: weights by path, and flat
    arrays of the optimiser one stage after another.
    """

    def __init__(self, size: int) -> None:
        self.comm = communicator()
        sizes = self.comm.all_gather(size)
        stops = np.cumsum(sizes).tolist()
        self.spans = list(zip([0, *stops[:-1]], stops, strict=True))

    @property
    def size(self) -> int:
        """Of the arenas of all stages."""
        return int(self.spans[-1][1])

    def norm(self, own: float) -> float:
        """Of the gradients of all stages."""
        return math.hypot(*self.comm.all_gather(own))

    def agreed(self, sound: bool) -> bool:
        return all(self.comm.all_gather(sound))

    def flat(self, arrays: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
        """Flat arrays of all stages; on the first rank only."""
        return on_first_rank(self.comm, arrays, self.spans)

    def by_path(self, arrays: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
        """Arrays of all stages; the others are there on the first rank only."""
        every = self.comm.gather({path: np.array(array) for path, array in arrays.items()})
        if every is None:
            return dict(arrays)
        return {path: array for found in every for path, array in found.items()}

    def own_part(self, array: np.ndarray) -> np.ndarray:
        return array[slice(*self.spans[self.comm.rank])]

    @staticmethod
    def check(what: Mapping[str, bool]) -> None:
        """
        Raises
        ------
        SettingError
            If something is asked for that looks at all parameters at once.
        """
        for name, asked in what.items():
            if asked:
                raise SettingError(
                    f"{name} looks at all parameters at once, and a Pipeline has those of each "
                    "stage on another rank. Leave it out."
                )
