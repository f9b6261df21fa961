"""Ranks that this process starts by an MPI launcher, and watches."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from types import FrameType
from typing import NamedTuple

from ..errors import SettingError

__all__ = ["NOTE", "OWNER", "LaunchResult", "end_with_launcher", "launch", "note_run"]

NOTE = "VINESTEP_RANKS_NOTE"
"""File in which the first rank writes its process, and the folder of its run."""
OWNER = "VINESTEP_RANK_PROCESS"
"""Which process is the rank; those that it starts are none."""
LAUNCHER = "VINESTEP_LAUNCHER"
"""The process that started the launcher."""
WATCH_SECONDS, GRACE_SECONDS = 0.5, 10.0
ASKED = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class LaunchResult(NamedTuple):
    """How ranks ended."""

    code: int
    folder: Path | None
    """Of their run, if it began."""
    signal: int = 0
    """By which this process was asked to end them."""


def launch(arguments: Sequence[str], processes: int) -> LaunchResult:
    """Run the command line on so many ranks of this machine, and wait for them.

    A signal to this process reaches the first rank, which stops all after their present step; a
    second one ends them at once.

    Raises
    ------
    SettingError
        If there is no MPI launcher.
    """
    beside = Path(sys.executable).parent
    launcher = shutil.which("mpiexec", path=f"{beside}{os.pathsep}{os.environ.get('PATH', '')}")
    if launcher is None:
        raise SettingError(
            f"--processes {processes}: mpiexec, which starts them, is not installed. Install it: "
            "pip install 'vinestep[mpi]'."
        )
    command = [launcher, "-n", str(processes), sys.executable, "-m", "vinestep", *arguments]
    with tempfile.TemporaryDirectory() as folder:
        note = Path(folder) / "note"
        own = {LAUNCHER: str(os.getpid()), NOTE: str(note)}
        given = {name: value for name, value in os.environ.items() if name != OWNER}
        child = subprocess.Popen(command, env=given | own, start_new_session=True)
        received: list[int] = []
        with _handled(lambda number: _pass_on(number, received, child, note)):
            code = child.wait()
        _, place = _noted(note)
        return LaunchResult(code, place, received[0] if received else 0)


def note_run(folder: Path) -> None:
    """Tell the process that started this rank where its run is."""
    if note := os.environ.get(NOTE):
        Path(note).write_text(f"{os.getpid()}\n{folder}")


def end_with_launcher() -> None:
    """Let this rank end when the process that started it is gone: stopped as by Ctrl-C, so that the
    state is saved.
    """
    launcher = int(os.environ.get(LAUNCHER, "0"))
    if not launcher:
        return

    def watch() -> None:
        while _is_there(launcher):
            time.sleep(WATCH_SECONDS)
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(GRACE_SECONDS)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def _is_there(process: int) -> bool:
    import psutil

    try:
        return psutil.Process(process).status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False


def _noted(note: Path) -> tuple[int | None, Path | None]:
    if not note.is_file():
        return None, None
    number, _, folder = note.read_text().partition("\n")
    return int(number), Path(folder)


def _pass_on(number: int, received: list[int], child: subprocess.Popen[bytes], note: Path) -> None:
    received.append(number)
    first, _ = _noted(note)
    if first is None or len(received) > 1:
        child.terminate()
        return
    try:
        os.kill(first, number)
    except ProcessLookupError:
        child.terminate()


class _handled:  # noqa: N801  # a context, used as a function
    """Signals that ask to end are handed to a function."""

    def __init__(self, act: Callable[[int], None]) -> None:
        self.act = act
        self.before: dict[int, object] = {}

    def __enter__(self) -> None:
        def handle(number: int, frame: FrameType | None) -> None:
            self.act(number)

        for number in ASKED:
            if signal.getsignal(number) is not signal.SIG_IGN:
                self.before[number] = signal.signal(number, handle)

    def __exit__(self, *details: object) -> None:
        for number, handler in self.before.items():
            signal.signal(number, handler)  # type: ignore[arg-type]
