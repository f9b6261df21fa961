"""What batches of sources and of streams have in common: how examples are put together and
augmented.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Sequence
from functools import cached_property
from typing import Any, Literal

import numpy as np

from ..._arguments import checked_seed
from ...errors import DataError, SettingError
from ...parts._describe import describe
from ._batch import Batch
from ._counter_rng import CounterRandom
from ._joins import Join, stacked
from ._transforms import Chain, Transform, as_transform, with_ranges

Augment = Transform | Callable[..., Any] | Sequence[Transform | Callable[..., Any]]

__all__ = ["STALL_AFTER", "Batching", "ReadersAs", "checked_stall"]

ReadersAs = Literal["threads", "processes"]
STALL_AFTER = 300.0


def checked_stall(seconds: float | None, what: str) -> float | None:
    """Seconds after which something that gives nothing is given up."""
    if seconds is not None and not seconds > 0:
        raise SettingError(
            f"{what}: stall_after must be a number of seconds above 0, got {seconds!r}."
        )
    return seconds


class Batching:
    """Size, seed, augmentation, joining and readers; the parameters are described at `Batches`."""

    dataset: Any

    def __init__(
        self,
        size: int,
        seed: int | None,
        drop_partial: bool,
        augment: Augment,
        join: Join | None,
        readers: int,
        readers_as: ReadersAs | None,
        ahead: int,
        stall_after: float | None,
    ) -> None:
        if not isinstance(size, int | np.integer) or size < 1:
            raise DataError(f"batches: size must be a whole number of at least 1, got {size!r}.")
        for name, number in (("readers", readers), ("ahead", ahead - 1)):
            if not isinstance(number, int | np.integer) or number < 0:
                raise SettingError(f"batches: {name} must be a whole number, got {number!r}.")
        if readers_as not in (None, "threads", "processes"):
            raise SettingError(
                f'batches: readers_as is "threads" or "processes", got {readers_as!r}.'
            )
        self.readers, self.readers_as, self.ahead = int(readers), readers_as, int(ahead)
        self.stall_after = checked_stall(stall_after, "batches")
        self.size = int(size)
        self.seed = None if seed is None else checked_seed(seed, "batches")
        self.drop_partial = drop_partial
        listed = (augment,) if callable(augment) else tuple(augment)
        self.augment: tuple[Transform, ...] = tuple(map(as_transform, listed))
        self.join: Join = join if join is not None else stacked

    def read_by_readers(
        self, read: Callable[[Any], Batch], tasks: Iterable[Any]
    ) -> Generator[Batch, None, None]:
        """``read(task)`` for each task in their order, ahead of its use if there are readers."""
        if not self.readers:
            return (read(task) for task in tasks)
        from ._workers import read_ahead

        how = self.readers_as or ("processes" if self.dataset.holds_lock else "threads")
        return read_ahead(
            read,
            tasks,
            self.readers,
            self.ahead,
            processes=how == "processes",
            stall_after=self.stall_after,
        )

    def augmented(self, batch: Batch, draws: CounterRandom) -> Batch:
        """A batch after everything that is done to it at random."""
        return self._augmentation.on_batch(batch, draws)

    @cached_property
    def _augmentation(self) -> Chain:
        """The augmentation, told what values the prepared examples have."""
        found = Chain(*getattr(self.dataset, "preparation", ())).output_range(None)
        return Chain(*with_ranges(self.augment, found))

    def parts_settings(self) -> dict[str, Any]:
        """Augmentation and joining for the record, where they are not the usual ones."""
        settings: dict[str, Any] = {}
        if self.augment:
            settings["augment"] = [describe(transform, opaque=True) for transform in self.augment]
        if self.join is not stacked:
            settings["join"] = describe(self.join, opaque=True)
        return settings
