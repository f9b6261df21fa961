"""The record of a run as ranks other than the first see it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from .run_store import MemoryStore

__all__ = ["PeerStore"]


class PeerStore(MemoryStore):
    """Takes everything and keeps nothing: the first rank records the run.

    Examples
    --------
    >>> store = PeerStore("barrels-3")
    >>> store.write_console("here")
    >>> store.label, store.read_console()
    ('barrels-3', '')
    """

    keeps = False

    def begin(self, name: str, plan: Mapping[str, Any]) -> None:
        pass

    def check_resumable(self) -> None:
        pass

    def write_status(self, known: Mapping[str, Any]) -> None:
        pass

    def write_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        pass

    def append_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        pass

    def write_file(self, name: str, content: bytes) -> None:
        pass

    def write_console(self, text: str) -> None:
        pass

    def save_state(
        self, name: str, arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]
    ) -> None:
        pass
