"""Curves drawn by a process of its own, which imports Matplotlib while a run trains, so that the
run does not.

There is one for all runs of a process. It reads requests as lines of JSON and answers each in turn
with the length of a PNG, eight bytes, and the PNG; it ends when its input does, however its owner
ended.
"""

from __future__ import annotations

import contextlib
import json
import os
import struct
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence

__all__ = ["PlotWorker"]

LENGTH = struct.Struct("<q")
PATIENCE = 30.0  # seconds for a drawing
_shared: PlotWorker | None = None


class PlotWorker:
    """Draws curves in a process of its own.

    Examples
    --------
    >>> drawer = PlotWorker.shared()
    >>> ticket = drawer.ask(
    ...     [{"epoch": 1, "step": 3, "rate": 0.1, "loss": 0.5}], "barrels-7", {}
    ... )
    >>> drawer.drawn(ticket)[:8]
    b'\\x89PNG\\r\\n\\x1a\\n'
    """

    def __init__(self) -> None:
        command = [
            sys.executable,
            "-c",
            "from vinestep.training.observers._plot_worker import serve; serve()",
        ]
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )
        self._owner = os.getpid()
        self._answers: dict[int, bytes | None] = {}
        self._asked = self._answered = 0
        self._ended = False
        self._news = threading.Condition()
        threading.Thread(target=self._listen, daemon=True, name="vinestep curves").start()

    @staticmethod
    def shared() -> PlotWorker:
        """That of this process; a new one if there is none, or it has ended.

        Raises
        ------
        OSError
            If no process can be started.
        """
        global _shared
        if _shared is None or _shared._ended or _shared._owner != os.getpid():
            _shared = PlotWorker()
        return _shared

    def _listen(self) -> None:
        assert self._process.stdout is not None
        read = self._process.stdout.read
        while len(head := read(LENGTH.size)) == LENGTH.size:
            (length,) = LENGTH.unpack(head)
            png = read(length) if length >= 0 else None
            with self._news:
                self._answers[self._answered] = png
                self._answered += 1
                self._news.notify_all()
        with self._news:
            self._ended = True
            self._news.notify_all()

    def ask(
        self, rows: Sequence[Mapping[str, float]], title: str, better: Mapping[str, str]
    ) -> int:
        """Ask for a drawing; returns a ticket for it."""
        line = json.dumps({"rows": list(rows), "title": title, "better": dict(better)}) + "\n"
        assert self._process.stdin is not None
        with self._news:
            ticket = self._asked
            self._asked += 1
            with contextlib.suppress(OSError):  # it has ended: `drawn` says so
                self._process.stdin.write(line.encode())
                self._process.stdin.flush()
        return ticket

    def is_drawn(self, ticket: int) -> bool:
        """Whether it is there."""
        with self._news:
            return ticket in self._answers

    def drawn(self, ticket: int) -> bytes | None:
        """The drawing, as PNG; None if it could not be made."""
        with self._news:
            self._news.wait_for(lambda: ticket in self._answers or self._ended, PATIENCE)
            return self._answers.pop(ticket, None)


def serve() -> None:
    """What the process does."""
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the process that trains
    from ...figures._curves import curves
    from ...figures._style import as_png

    for line in sys.stdin.buffer:
        asked = json.loads(line)
        try:
            png = as_png(curves(asked["rows"], title=asked["title"], better=asked["better"]))
        except Exception:
            sys.stdout.buffer.write(LENGTH.pack(-1))
        else:
            sys.stdout.buffer.write(LENGTH.pack(len(png)) + png)
        sys.stdout.buffer.flush()
