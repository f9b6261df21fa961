"""What batches need of a source of examples."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from ._batch import Batch
from ._joins import Join

__all__ = ["ExampleSource"]


class ExampleSource(Protocol):
    """Examples by index; `vinestep.data.Source` is the base class that fulfils it."""

    holds_lock: bool
    """Whether reading an example is Python work, so that readers have to be processes."""

    def __len__(self) -> int: ...

    def take(self, index: np.ndarray) -> Batch | None:
        """Several examples at once, where that is faster than one by one; None otherwise."""

    def gathered(self, index: np.ndarray, join: Join = ...) -> Batch:
        """A batch of these examples."""

    def settings(self) -> dict[str, Any]:
        """What the source is, for the record."""

    def fingerprint(self) -> str:
        """Of the contents: equal for equal examples, in any process."""
