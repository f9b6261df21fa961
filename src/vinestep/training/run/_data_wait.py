"""How long a run waits for its data."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from time import perf_counter
from typing import TypeVar

from ..._findings import Finding, tell

__all__ = ["Waiting"]

T = TypeVar("T")

MUCH = 0.3  # of the time
SECONDS = 5.0  # before which it is not judged


class Waiting:
    """The share of the time that goes by until a batch is there; said once, if it is much.

    Examples
    --------
    >>> waiting = Waiting()
    >>> list(waiting.through([1, 2])), waiting.share < 1
    ([1, 2], True)
    """

    def __init__(self) -> None:
        self.waited = self.worked = 0.0
        self._told = False

    @property
    def share(self) -> float:
        return self.waited / max(self.waited + self.worked, 1e-9)

    def through(self, batches: Iterable[T]) -> Iterator[T]:
        """The batches, timed."""
        asked = perf_counter()
        for batch in batches:
            come = perf_counter()
            self.waited += come - asked
            yield batch
            asked = perf_counter()
            self.worked += asked - come
            if not self._told and self.waited + self.worked > SECONDS:
                self._judge()

    def _judge(self) -> None:
        if self.share > MUCH:
            self._told = True
            evidence = f"{self.share:.0%} of the time goes by waiting for batches."
            tell(
                [
                    Finding(
                        "the data",
                        "suspicious",
                        evidence,
                        "Read ahead, batches(..., readers=2), or prepare the data once and save "
                        "them.",
                    )
                ]
            )
