"""Curves drawn by a process of its own, which imports Matplotlib while the run trains.

The process reads requests as lines of JSON and answers each with the length of a PNG, eight bytes, and the PNG; it ends when its input
does, however the run ended.
"""

from __future__ import annotations

import contextlib
import json
import queue
import struct
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence

__all__ = ["Drawer"]

LENGTH = struct.Struct("<q")
PATIENCE = 30.0  # seconds for the last drawing


class Drawer:
    """Draws curves in a process of its own.

    Examples
    --------
    >>> drawer = Drawer()
    >>> drawer.ask([{"epoch": 1, "step": 3, "rate": 0.1, "loss": 0.5}], "barrels-7", {})
    >>> drawer.last()[:8]
    b'\\x89PNG\\r\\n\\x1a\\n'
    """

    def __init__(self) -> None:
        command = [sys.executable, "-c", "from vinestep.figures.drawing import serve; serve()"]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self._answers: queue.Queue[bytes | None] = queue.Queue()
        self._asked = 0
        threading.Thread(target=self._listen, daemon=True, name="vinestep curves").start()

    def _listen(self) -> None:
        assert self._process.stdout is not None
        while len(head := self._process.stdout.read(LENGTH.size)) == LENGTH.size:
            (length,) = LENGTH.unpack(head)
            self._answers.put(self._process.stdout.read(length) if length >= 0 else None)
        self._answers.put(None)

    def ask(self, rows: Sequence[Mapping[str, float]], title: str, better: Mapping[str, str]) -> None:
        """Ask for a drawing; unless the process has ended, when `last` says so."""
        assert self._process.stdin is not None
        line = json.dumps({"rows": list(rows), "title": title, "better": dict(better)}) + "\n"
        with contextlib.suppress(OSError):  # it has ended: `last` says so
            self._process.stdin.write(line.encode())
            self._process.stdin.flush()
            self._asked += 1

    def ready(self) -> bytes | None:
        """A drawing that is done, if there is one."""
        try:
            found = self._answers.get_nowait()
        except queue.Empty:
            return None
        self._asked -= 1
        return found

    def last(self) -> bytes | None:
        """The last drawing that was asked for; None if it could not be made. The process ends."""
        found = None
        try:
            while self._asked > 0:
                found = self._answers.get(timeout=PATIENCE)
                self._asked -= 1
                if found is None:
                    break
        except queue.Empty:
            found = None
        self.close()
        return found

    def close(self) -> None:
        """End the process."""
        assert self._process.stdin is not None
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        self._process.kill()  # all that was wanted of it has come
        self._process.wait()


def serve() -> None:
    """What the process does."""
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the process that trains
    from .curves import curves
    from .style import as_png

    for line in sys.stdin.buffer:
        asked = json.loads(line)
        try:
            png = as_png(curves(asked["rows"], title=asked["title"], better=asked["better"]))
        except Exception:
            sys.stdout.buffer.write(LENGTH.pack(-1))
        else:
            sys.stdout.buffer.write(LENGTH.pack(len(png)) + png)
        sys.stdout.buffer.flush()
