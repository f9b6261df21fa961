"""What attention has seen so far, kept with room to grow."""

from __future__ import annotations

from typing import Any

import numpy as np

__all__ = ["ROOMS", "appended"]

ROOMS = "rooms"
"""Key of a cache under which the memory of its arrays is held; arrays that were replaced do
without.
"""
LEAST = 64  # places


class _Room:
    """Memory for more places than are used."""

    __slots__ = ("buffer", "used")

    def __init__(self, before: np.ndarray, places: int) -> None:
        batch, n, width = before.shape
        self.buffer = np.empty((batch, max(2 * places, LEAST), width), before.dtype)
        self.buffer[:, :n] = before
        self.used = n


def appended(cache: dict[str, Any], name: str, new: Any) -> Any:
    """The array of a cache with new places behind it, shape (batch, time, width); it is kept there.

    What another cache that shares the memory has appended meanwhile is not overwritten.
    """
    if name not in cache:
        cache[name] = new
        return new
    before = cache[name]
    if type(before) is not np.ndarray or type(new) is not np.ndarray or before.dtype != new.dtype:
        cache[name] = np.concatenate([before, new], axis=1)  # Tensors, for derivatives
    else:
        n = before.shape[1]
        stop = n + new.shape[1]
        room: _Room | None = cache.setdefault(ROOMS, {}).get(name)
        if (
            room is None
            or before.base is not room.buffer
            or room.used != n
            or room.buffer.shape[1] < stop
        ):
            room = cache[ROOMS][name] = _Room(before, stop)
        room.buffer[:, n:stop] = new
        room.used = stop
        cache[name] = room.buffer[:, :stop]
    return cache[name]
