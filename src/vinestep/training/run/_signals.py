"""Signals that ask a run to stop, and what it prints, kept for its record."""

from __future__ import annotations

import logging
import re
import signal
import sys
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, TextIO

if TYPE_CHECKING:
    from ...storage.run_store import RunStore

__all__ = ["console_recorded", "stop_on_signals"]

WORDS = {
    "SIGINT": "Stopped by Ctrl-C",
    "SIGTERM": "Stopped by a termination request",
    "SIGHUP": "Stopped as its terminal hung up",
}
_COLOURS = re.compile(r"\x1b\[[0-9;]*m")


@contextmanager
def stop_on_signals(stop: Callable[..., None]) -> Iterator[None]:
    """Let Ctrl-C, a termination request and a hang-up call `stop`; a second one ends the program at
    once.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    numbers = {
        getattr(signal, name): words for name, words in WORDS.items() if hasattr(signal, name)
    }
    before = {number: signal.getsignal(number) for number in numbers}

    def ask_to_stop(number: int, frame: Any) -> None:
        for known, handler in before.items():
            signal.signal(known, handler)
        stop(numbers[signal.Signals(number)], resumable=True)

    for number, handler in before.items():
        if handler is not signal.SIG_IGN:  # as after nohup
            signal.signal(number, ask_to_stop)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


class _Copied:
    """A text stream whose whole lines are recorded too; progress bars, which go over a line again,
    are not.
    """

    def __init__(self, stream: TextIO, store: RunStore) -> None:
        self._stream, self._store, self._line = stream, store, ""

    def write(self, text: str) -> int:
        *lines, self._line = (self._line + text).split("\n")
        for line in lines:
            plain = _COLOURS.sub("", line)
            if "\x1b" not in plain and "\r" not in plain:
                self._store.write_console(plain)
        return self._stream.write(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


class _Logged(logging.Handler):
    def __init__(self, store: RunStore) -> None:
        super().__init__()
        self._store = store

    def emit(self, record: logging.LogRecord) -> None:
        self._store.write_console(f"{record.levelname.lower()}: {record.getMessage()}")


@contextmanager
def console_recorded(store: RunStore | None) -> Iterator[None]:
    """Record what is printed, logged and warned of in the meantime."""
    if store is None:
        yield
        return
    handler, log = _Logged(store), logging.getLogger("vinestep")
    shown, printed = warnings.showwarning, sys.stdout

    def show(message: Warning | str, category: type[Warning], *where: Any, **more: Any) -> None:
        store.write_console(f"warning: {message}")
        shown(message, category, *where, **more)

    copied: Any = _Copied(printed, store)
    warnings.showwarning, sys.stdout = show, copied  # type: ignore[assignment]
    log.addHandler(handler)
    try:
        yield
    finally:
        log.removeHandler(handler)
        if sys.stdout is copied:
            sys.stdout = printed
        if warnings.showwarning is show:
            warnings.showwarning = shown
