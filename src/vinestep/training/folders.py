"""Run folders: numbered, each with plan, curves, log and checkpoints; in the hands of one process at a time."""

from __future__ import annotations

import json
import os
import re
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import RunError
from .checkpoints import part_of
from .plain import finite_rows
from .settings import without_nothing

if TYPE_CHECKING:
    from .loop import Run

__all__ = ["RunFolder", "numbered", "write_text"]

_NAME = re.compile(r"^(\d{4,})-(.+)$")
_LOCK = ".lock"
_NUMBER = ".number"
_UNFINISHED = re.compile(r"^\.\d{4,}-.+\.new$")
STATUS_SECONDS = 0.5  # at least between two notes of how far a run is
PATIENCE = 60.0  # seconds to wait for others who are making a folder


def write_text(path: Path, text: str) -> None:
    """Write a text file whole or not at all.

    Raises
    ------
    RunError
        If the disk does not take it; what was there before stays.
    """
    temporary = part_of(path)
    try:
        with temporary.open("x") as file:
            file.write(text)
        os.replace(temporary, path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise _unwritable(path, error) from error


def _unwritable(path: Path, error: OSError) -> RunError:
    gone = "" if path.parent.is_dir() else " The run's folder is gone: was it removed or renamed while it ran?"
    return RunError(f"{path}: could not be written: {error.strerror or error}.{gone} What was saved before is untouched.")


class RunFolder:
    """The folder of one run.

    Parameters
    ----------
    path : path
        Such as ``runs/0007-barrels``.

    Examples
    --------
    >>> import tempfile
    >>> with vs.runs.RunFolder.new(tempfile.mkdtemp(), "barrels") as folder:
    ...     folder.publish()
    >>> folder.path.name, folder.number
    ('0001-barrels', 1)
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        self._final = self.path
        self._noted = 0.0

    @classmethod
    @contextmanager
    def new(cls, root: str | os.PathLike[str] | None, name: str) -> Iterator[RunFolder]:
        """The next folder, under a hidden name until it is published, and held by this process.

        Numbers only rise, also when several runs start at once or runs were removed.
        """
        safe = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.")[:100] or "run"
        parent = Path(root if root is not None else "runs")
        try:
            parent.mkdir(parents=True, exist_ok=True)
            with _locked(parent / _LOCK, PATIENCE, f"{parent}: other runs are being started there and do not come to an end."):
                number = 1 + max([_last_number(parent), *(n for n, _ in numbered(parent))])
                (parent / _NUMBER).write_text(str(number))
                _clear_unfinished(parent)
                folder = cls(parent / f".{number:04d}-{safe}.new")
                folder._final = parent / f"{number:04d}-{safe}"
                (folder.path / "checkpoints").mkdir(parents=True)
                lock = _lock(folder.path / _LOCK)
                lock.acquire(timeout=PATIENCE)
        except OSError as error:
            raise RunError(f"{parent}: a run folder cannot be made there: {error.strerror or error}.") from error
        try:
            yield folder
        finally:
            lock.release()
            if folder.path != folder._final:
                shutil.rmtree(folder.path, ignore_errors=True)

    def publish(self) -> None:
        """Make the folder visible under its own name, with all that is in it."""
        try:
            os.rename(self.path, self._final)
        except OSError as error:
            raise RunError(f"{self._final}: the run folder cannot be made: {error.strerror or error}.") from error
        self.path = self._final

    @classmethod
    def open(cls, path: str | os.PathLike[str]) -> RunFolder:
        """The folder of a run that exists.

        Raises
        ------
        RunError
            If there is none.
        """
        folder = cls(path)
        if not (folder.path / "run.json").is_file():
            near = ", ".join(p.name for _, p in numbered(folder.path.parent)[-5:])
            raise RunError(f"{folder.path}: there is no such run. {f'Newest there: {near}.' if near else 'See: vinestep runs.'}")
        return folder

    @contextmanager
    def held(self) -> Iterator[RunFolder]:
        """Hold the folder, so that no other process can continue its run; what killed processes left half written is removed.

        Raises
        ------
        RunError
            If another process holds it.
        """
        with _locked(self.path / _LOCK, 0, f"{self.path}: this run is still running in another process. Stop it there first, with Ctrl-C."):
            for left in [*self.path.glob(".*.part"), *(self.path / "checkpoints").glob(".*.part")]:
                left.unlink(missing_ok=True)
            yield self

    @property
    def number(self) -> int:
        match = _NAME.match(self._final.name)
        return int(match[1]) if match else 0

    def write_plan(self, plan: dict[str, Any]) -> None:
        import tomli_w

        write_text(self.path / "plan.toml", tomli_w.dumps(without_nothing(plan)))

    def note(self, text: str) -> None:
        """Add a line to the log, with the time."""
        path = self.path / "log.txt"
        try:
            with path.open("a") as file:
                file.write(f"{datetime.now().astimezone().isoformat(timespec='seconds')}  {text}\n")
        except OSError as error:
            raise _unwritable(path, error) from error

    def info(self) -> dict[str, Any]:
        """What is known of the run: status, reason, counts, last figures; with the status "unreadable" if that is damaged.

        A run that says it is running, but that no process holds, was killed: it is interrupted.
        """
        known: dict[str, Any] = {"status": "unreadable", "reason": "", "epoch": 0, "epochs": 0, "step": 0, "begun": "", "last": {}}
        try:
            found = json.loads((self.path / "run.json").read_text())
        except (OSError, ValueError, RecursionError):
            return known
        if not isinstance(found, dict) or any(not isinstance(found.get(key, value), type(value)) for key, value in known.items()):
            return known
        known |= found
        if known["status"] in ("running", "ready") and not self.is_held():
            known |= {"status": "interrupted", "reason": "Its process ended without a word."}
        return known

    def is_held(self) -> bool:
        """Whether a process is at work on the run."""
        if not (self.path / _LOCK).exists() or not os.access(self.path / _LOCK, os.W_OK):
            return False
        try:
            with _locked(self.path / _LOCK, 0, ""):
                return False
        except RunError:
            return True

    def record_status(self, run: Run, reason: str, **more: Any) -> None:
        """Write down where the run stands."""
        now = datetime.now().astimezone().isoformat(timespec="seconds")
        known = self.info() if (self.path / "run.json").is_file() else {}
        known = {"begun": known.get("begun") or now} | {key: known[key] for key in ("changes",) if key in known} | more
        known |= {
            "name": run.name,
            "status": run.status.value,
            "reason": reason,
            "changed": now,
            "epoch": run.position.epoch,
            "epochs": run.epochs,
            "step": run.position.step,
            "process": os.getpid(),
            "last": finite_rows(run.rows[-1:])[0] if run.rows else {},
        }
        write_text(self.path / "run.json", json.dumps(known, indent=1, allow_nan=False))
        self._noted = time.monotonic()

    def record_progress(self, run: Run) -> None:
        """Write down how far the run is, now and then."""
        if time.monotonic() - self._noted >= STATUS_SECONDS:
            self.record_status(run, "")

    def record_change(self, run: Run, reason: str) -> None:
        """Write down where the run stands, in the log too."""
        self.record_status(run, reason)
        self.note(f"{run.status.value}: epoch {run.position.epoch} of {run.epochs}, step {run.position.step}. {reason}".rstrip())

    def check_resumable(self) -> None:
        """
        Raises
        ------
        RunError
            If the run is finished.
        """
        known = self.info()
        if known["status"] == "finished":
            raise RunError(f"{self.path}: this run is finished: {known['reason']} To go on from its weights, start a new run.")


def _lock(path: Path) -> Any:
    from filelock import FileLock

    return FileLock(path, thread_local=False)


@contextmanager
def _locked(path: Path, seconds: float, refusal: str) -> Iterator[None]:
    """A lock that ends with the process that holds it."""
    from filelock import Timeout

    lock = _lock(path)
    try:
        lock.acquire(timeout=seconds)
    except Timeout as error:
        raise RunError(refusal) from error
    except OSError as error:
        raise _unwritable(path, error) from error
    try:
        yield
    finally:
        lock.release()


def _last_number(root: Path) -> int:
    try:
        return int((root / _NUMBER).read_text())
    except (OSError, ValueError):
        return 0


def _clear_unfinished(root: Path) -> None:
    """Remove folders whose process was killed before they were published."""
    for path in root.iterdir():
        if _UNFINISHED.match(path.name) and not RunFolder(path).is_held():
            shutil.rmtree(path, ignore_errors=True)


def numbered(root: Path) -> list[tuple[int, Path]]:
    """The folders in a place that are named as runs are, with their numbers, in order."""
    if not root.is_dir():
        return []
    found = [(int(match[1]), path) for path in root.iterdir() if (match := _NAME.match(path.name)) and path.is_dir()]
    return sorted(found)
