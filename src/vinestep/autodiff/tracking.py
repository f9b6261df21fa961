"""What is going on in this thread: recording or not, and which layer is at work."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["STATE", "recorded", "untracked"]


class Now:
    """What holds at this moment; one object, so that the hot path looks it up once."""

    __slots__ = ("place", "recording", "sealing", "tracing")

    def __init__(self) -> None:
        self.recording = True
        """Whether operations on Tensors leave an origin behind."""
        self.sealing = True
        """Whether arrays kept for the sweep are fingerprinted, so that in-place changes are
        noticed.
        """
        self.place = ""
        """Path of the layer that is computing, for trails and error messages."""
        self.tracing = 0
        """How many functions are being recorded in order to differentiate them, one inside the
        other.
        """


class State(threading.local):
    """One `Now` a thread."""

    def __init__(self) -> None:
        self.now = Now()


STATE = State()


@contextmanager
def untracked() -> Iterator[None]:
    """Record nothing: inside, operations on Tensors give plain arrays.

    Examples
    --------
    >>> weight = Tensor([1.0, 2.0])
    >>> with untracked():
    ...     np.sum(weight * 2)
    np.float64(6.0)
    """
    now = STATE.now
    before = now.recording
    now.recording = False
    try:
        yield
    finally:
        now.recording = before


@contextmanager
def recorded(*, sealing: bool = True) -> Iterator[None]:
    """Record a function that is to be differentiated, whatever the surroundings say.

    `sealing` says whether to watch for in-place changes. Inside, `differentiate` gives derivatives
    that can be differentiated again.
    """
    now = STATE.now
    before = now.recording, now.sealing
    now.recording, now.sealing = True, sealing
    now.tracing += 1
    try:
        yield
    finally:
        now.recording, now.sealing = before
        now.tracing -= 1
