"""What batches of sources and of streams have in common: how examples are put together and augmented."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..errors import DataError
from ..parts.describing import describe
from .batch import Batch
from .draws import Draws
from .joining import Join, stacked
from .transforms import Chain, Transform

__all__ = ["Assembling"]


class Assembling:
    """Size, seed, augmentation and joining; the parameters are described at `Batches`."""

    def __init__(
        self, size: int, seed: int | None, drop_partial: bool, augment: Transform | Sequence[Transform], join: Join | None
    ) -> None:
        if not isinstance(size, int | np.integer) or size < 1:
            raise DataError(f"batches: size must be a whole number of at least 1, got {size!r}.")
        self.size = int(size)
        self.seed = seed
        self.drop_partial = drop_partial
        self.augment: tuple[Transform, ...] = (augment,) if isinstance(augment, Transform) else tuple(augment)
        self.join: Join = join if join is not None else stacked

    def augmented(self, batch: Batch, draws: Draws) -> Batch:
        """A batch after everything that is done to it at random."""
        return Chain(*self.augment).on_batch(batch, draws)

    def parts_settings(self) -> dict[str, Any]:
        """Augmentation and joining for the record, where they are not the usual ones."""
        found: dict[str, Any] = {}
        if self.augment:
            found["augment"] = [describe(transform, opaque=True) for transform in self.augment]
        if self.join is not stacked:
            found["join"] = describe(self.join, opaque=True)
        return found
