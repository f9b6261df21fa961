"""Run folders: ``records/barrels-7`` with plan, curves, console and states; in the hands of one
process at a time.
"""

from __future__ import annotations

import csv
import json
import os
import re
import secrets
import shutil
import subprocess
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from .._atomic_files import atomic_write
from ..errors import CheckpointError, RunError
from . import archive, run_schema
from .checkpoint_schema import step_of
from .lineage import now
from .run_store import (
    Request,
    RunStore,
    SavedState,
    check_request,
    safe_name,
)
from .settings import without_none

if TYPE_CHECKING:
    from pydantic import TypeAdapter

REPLICATION = "vinestep.runs._replicate"  # started by its name: storage knows no ledger

__all__ = [
    "RECORDS",
    "RunFolder",
    "locked",
    "numbered",
    "run_of_state",
    "write_bytes",
    "write_text",
]

RECORDS = "records"
_NAME = re.compile(r"^(.+)-(\d+)$")
_LOCK = ".lock"
_NUMBER = ".number"
_AT_STEP = re.compile(r"^.+-\d{8}\.(csv|txt|png|npy)$")
_UNFINISHED = re.compile(r"^\..+-\d+\.new$")
_ASKED = re.compile(r"^\.asked-\d+-[0-9a-f]+\.json$")
INFO = "run.json"
STATES = "states"
RECORDED = "recorded"
TAGS, NOTES = "tags.json", "notes.json"
SUFFIX = ".npz"
PATIENCE = 60.0  # seconds to wait for others who are making a folder
SERIES = {"epochs": "curves.csv", "steps": "steps.csv"}


def write_text(path: Path, text: str) -> None:
    """Write a text file whole or not at all, also if the power is cut.

    Raises
    ------
    RunError
        If the disk does not take it; what was there before stays.
    """
    write_bytes(path, text.encode())


def write_bytes(path: Path, content: bytes) -> None:
    """Write a file as `write_text` does."""
    _write(path, content, flushed=True, clear=True)


def _write(path: Path, content: bytes, *, flushed: bool = False, clear: bool = False) -> None:
    try:
        with atomic_write(path, flushed=flushed, clear=clear) as file:
            file.write(content)
    except OSError as error:
        raise _unwritable(path, error) from error


def _unwritable(path: Path, error: OSError) -> RunError:
    gone = (
        ""
        if path.parent.is_dir()
        else " The run's folder is gone: was it removed or renamed while it ran?"
    )
    return RunError(
        f"{path}: could not be written: {error.strerror or error}.{gone} What was saved before is "
        "untouched."
    )


def run_of_state(path: str | os.PathLike[str]) -> Path:
    """The run's folder, given it or the file of one of its states."""
    given = Path(path)
    return given.parent.parent if given.suffix == SUFFIX and given.parent.name == STATES else given


class RunFolder(RunStore):
    """The folder of one run.

    Parameters
    ----------
    path : path
        Such as ``records/barrels-7``.

    Examples
    --------
    >>> import tempfile
    >>> with vs.runs.RunFolder.new(tempfile.mkdtemp(), "barrels") as folder:
    ...     folder.begin("barrels", {"epochs": 2})
    >>> folder.path.name, folder.number
    ('barrels-1', 1)
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        self._final = self.path
        self._unflushed: dict[Path, None] = {}
        """Series that a power cut might take; they are on disk before the next state is, which goes
        on from them.
        """
        self._columns: dict[str, list[str]] = {}

    # folders

    @classmethod
    @contextmanager
    def new(cls, root: str | os.PathLike[str] | None, name: str) -> Iterator[RunFolder]:
        """The next folder, under a hidden name until the run begins, and held by this process.

        Numbers only rise, also when several runs start at once or runs were removed.
        """
        safe = safe_name(name, "run")[:100]
        parent = Path(root if root is not None else RECORDS)
        try:
            _make_folder(parent)
            with locked(
                parent / _LOCK,
                PATIENCE,
                f"{parent}: other runs are being started there and do not come to an end.",
            ):
                number = 1 + max([_last_number(parent), *(n for n, _ in numbered(parent))])
                (parent / _NUMBER).write_text(str(number))
                _clear_unfinished(parent)
                folder = cls(parent / f".{safe}-{number}.new")
                folder._final = parent / f"{safe}-{number}"
                (folder.path / STATES).mkdir(parents=True)
                lock = _lock(folder.path / _LOCK)
                lock.acquire(timeout=PATIENCE)
        except OSError as error:
            raise RunError(
                f"{parent}: a run folder cannot be made there: {error.strerror or error}."
            ) from error
        try:
            yield folder
        finally:
            lock.release()
            if folder.path != folder._final:
                shutil.rmtree(folder.path, ignore_errors=True)

    @classmethod
    def open(cls, path: str | os.PathLike[str]) -> RunFolder:
        """The folder of a run that exists.

        Raises
        ------
        RunError
            If there is none.
        """
        folder = cls(path)
        if not (folder.path / INFO).is_file():
            near = ", ".join(p.name for _, p in numbered(folder.path.parent)[-5:])
            raise RunError(
                f"{folder.path}: there is no such run. "
                f"{f'Newest there: {near}.' if near else 'See: vinestep runs.'}"
            )
        return folder

    @contextmanager
    def held(self) -> Iterator[RunFolder]:
        """Hold the folder, so that no other process can continue its run; what killed processes
        left half written is removed.

        Raises
        ------
        RunError
            If another process holds it.
        """
        with locked(
            self.path / _LOCK,
            0,
            f"{self.path}: this run is still running in another process. Stop it there first, "
            "with Ctrl-C.",
        ):
            for left in [*self.path.glob(".*.part"), *(self.path / STATES).glob(".*.part")]:
                left.unlink(missing_ok=True)
            _start_replication(self)
            yield self

    def is_held(self) -> bool:
        """Whether a process is at work on the run."""
        if not (self.path / _LOCK).exists() or not os.access(self.path / _LOCK, os.W_OK):
            return False
        try:
            with locked(self.path / _LOCK, 0, ""):
                return False
        except RunError:
            return True

    @property
    def number(self) -> int:
        match = _NAME.match(self._final.name)
        return int(match[2]) if match else 0

    @property
    def label(self) -> str:
        return str(self._final)

    # the run as a whole

    def begin(self, name: str, plan: Mapping[str, Any]) -> None:
        import tomli_w

        _write(self.path / "plan.toml", tomli_w.dumps(without_none(plan)).encode(), flushed=True)
        try:
            self._flush()
            archive.flush_folder(self.path)
            os.rename(self.path, self._final)
            archive.flush_folder(self._final.parent)
        except OSError as error:
            raise RunError(
                f"{self._final}: the run folder cannot be made: {error.strerror or error}."
            ) from error
        self.path = self._final
        _start_replication(self)

    def _flush(self) -> None:
        waiting, self._unflushed = list(self._unflushed), {}
        for path in waiting:
            with suppress(FileNotFoundError), path.open("rb") as file:
                os.fsync(file.fileno())
        for folder in {path.parent for path in waiting}:
            archive.flush_folder(folder)

    def write_status(self, known: Mapping[str, Any]) -> None:
        at = now()
        try:
            before = json.loads((self.path / INFO).read_bytes())
        except (OSError, ValueError, RecursionError):
            before = {}
        whole = {
            "begun": at,
            "uid": secrets.token_hex(16),
            **run_schema.valid_fields(before, run_schema.STATUS),
            **known,
            "changed": at,
            "process": os.getpid(),
        }
        content = json.dumps(whole, indent=1, allow_nan=False).encode()
        _write(self.path / INFO, content, flushed=True)

    def read_status(self) -> dict[str, Any]:
        """What is known of the run: status, reason, counts, last figures; with the status
        "unreadable", and why, if that is damaged.

        A run that says it is running, but that no process holds, was killed: it is interrupted.
        """
        known: dict[str, Any] = {
            "status": "unreadable",
            "reason": "",
            "epoch": 0,
            "epochs": 0,
            "step": 0,
            "begun": "",
            "last": {},
        }
        path = self.path / INFO
        try:
            known |= run_schema.validated(path, path.read_bytes(), run_schema.STATUS)
        except OSError as error:
            return known | {"reason": f"{path}: it cannot be read: {error.strerror or error}."}
        except RunError as error:
            return known | {"reason": str(error)}
        if known["status"] in ("running", "ready") and not self.is_held():
            known |= {"status": "interrupted", "reason": "Its process ended without a word."}
        return known

    def end(self) -> None:
        pass

    # what is recorded

    def write_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        import pandas as pd

        self._columns.pop(series, None)
        if rows:
            _write(self.series_path(series), pd.DataFrame(list(rows)).to_csv(index=False).encode())
            self._unflushed[self.series_path(series)] = None
        else:
            self.series_path(series).unlink(missing_ok=True)

    def append_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        if not rows:
            return
        path, columns = self.series_path(series), self._columns_of(series)
        if any(name not in columns for row in rows for name in row):
            self.write_series(series, [*self.read_series(series), *rows])
            return
        lines = [",".join([_written(row.get(name)) for name in columns]) for row in rows]
        try:
            with path.open("a", newline="") as file:
                file.write("\n".join(lines) + "\n")
        except OSError as error:
            raise _unwritable(path, error) from error
        self._unflushed[path] = None

    def _columns_of(self, series: str) -> list[str]:
        """The columns of a series that was begun."""
        if series not in self._columns:
            path = self.series_path(series)
            if not path.is_file():
                return []
            with path.open(newline="", errors="replace") as file:
                self._columns[series] = list(_header(csv.DictReader(file)))
        return self._columns[series]

    def series_names(self) -> list[str]:
        known = {file: series for series, file in SERIES.items()}
        result = [path.name for path in self.path.glob("*.csv")]
        return sorted(known.get(name, name.removesuffix(".csv")) for name in result)

    def read_series(self, series: str) -> list[dict[str, float]]:
        path = self.series_path(series)
        if not path.is_file():
            return []
        with path.open(newline="", errors="replace") as file:
            rows = csv.DictReader(file)
            return list(_sound_rows(rows)) if "step" in _header(rows) else []

    def write_file(self, name: str, content: bytes) -> None:
        path = self._place(name)
        path.parent.mkdir(exist_ok=True)
        _write(path, content)

    def _place(self, name: str) -> Path:
        """What belongs to a step lies in a folder of its own."""
        return (
            self.path / RECORDED / self._own(name)
            if _AT_STEP.match(name)
            else self.path / self._own(name)
        )

    def file_names(self) -> list[str]:
        series = {self.series_path(name).name for name in self.series_names()}
        own = {INFO, "plan.toml", "console.txt", TAGS, NOTES, *series}
        result = [
            p.name
            for p in self.path.iterdir()
            if p.is_file()
            and not p.is_symlink()
            and p.name not in own
            and not p.name.startswith(".")
        ]
        at_steps = self.path / RECORDED
        return sorted(
            result
            + (
                [
                    p.name
                    for p in at_steps.iterdir()
                    if not p.name.startswith(".") and not p.is_symlink()
                ]
                if at_steps.is_dir()
                else []
            )
        )

    def read_file(self, name: str) -> bytes:
        place = self._place(name)
        if place.is_symlink() or place.parent.is_symlink():
            raise RunError(
                f"{self.path}: {name!r} is a link, and a record holds what was recorded, not what "
                "lies elsewhere."
            )
        try:
            return place.read_bytes()
        except OSError as error:
            raise RunError(f"{self.path}: there is no file {name!r}.") from error

    def series_path(self, series: str) -> Path:
        """The file of a series."""
        return self.path / SERIES.get(series, f"{self._own(series)}.csv")

    @staticmethod
    def _own(name: str) -> str:
        if not name or name != Path(name).name or name.startswith("."):
            raise RunError(f"{name!r} is no name of a file in a run's folder.")
        return name

    def write_console(self, text: str) -> None:
        path = self.path / "console.txt"
        try:
            with path.open("a") as file:
                file.write(text + "\n")
        except OSError as error:
            raise _unwritable(path, error) from error

    def read_console(self) -> str:
        path = self.path / "console.txt"
        return path.read_text() if path.is_file() else ""

    # tags and notes, also of a run that has ended

    def tags(self) -> list[str]:
        return list(self._listed(TAGS, run_schema.TAGS))

    def set_tags(self, tags: Iterable[str]) -> None:
        write_text(self.path / TAGS, json.dumps(sorted(set(tags))))

    def notes(self) -> list[dict[str, str]]:
        """Texts with the times at which they were written down."""
        listed = self._listed(NOTES, run_schema.NOTES)
        return [{"at": note["at"], "text": note["text"]} for note in listed]

    def add_note(self, text: str) -> None:
        with locked(
            self.path / ".notes.lock",
            PATIENCE,
            f"{self.path}: another process is writing notes and does not come to an end.",
        ):
            write_text(self.path / NOTES, json.dumps([*self.notes(), {"at": now(), "text": text}]))
        self.write_console(f"note: {text}")

    def _listed(self, name: str, schema: TypeAdapter[Any]) -> list[Any]:
        path = self.path / name
        if not path.is_file():
            return []
        try:
            return list(run_schema.validated(path, path.read_bytes(), schema))
        except RunError as error:
            raise RunError(f"{error} Mend or remove it.") from error

    # states

    def state_path(self, name: str) -> Path:
        """The file of a state."""
        return self.path / STATES / f"{self._own(name)}{SUFFIX}"

    def save_state(
        self, name: str, arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]
    ) -> None:
        self._flush()
        archive.write(self.state_path(name), arrays, meta, make_folder=False)

    def read_state(self, name: str) -> SavedState:
        path = self.state_path(name)
        if not path.is_file():
            raise CheckpointError(f"{path}: there is no such state.")
        saved = archive.read(path)
        return SavedState(saved.arrays, saved.meta, name)

    def states(self) -> list[str]:
        return sorted(
            (path.stem for path in (self.path / STATES).glob(f"step-*{SUFFIX}")),
            key=lambda name: (step_of(name), name),
        )

    def rename_state(self, name: str, new: str | None) -> None:
        path = self.state_path(name)
        if new is None:
            path.unlink(missing_ok=True)
        elif path.exists():
            os.replace(
                path, path.with_name(self._own(new) + ("" if new.endswith(".refused") else SUFFIX))
            )

    # a watcher outside

    def ask(self, request: Request) -> None:
        check_request(request)
        if not self.is_held():
            raise RunError(
                f"{self.path}: nobody is at work on this run, so it cannot be asked to "
                f"{request.what}."
            )
        number = len(list(self.path.glob(".asked-*")))
        path = self.path / f".asked-{number:06d}-{secrets.token_hex(4)}.json"
        _write(path, json.dumps(request._asdict()).encode(), flushed=True)

    def requests(self) -> list[Request]:
        result = []
        for name in sorted(entry for entry in os.listdir(self.path) if _ASKED.match(entry)):
            path = self.path / name
            try:
                known = run_schema.validated(path, path.read_bytes(), run_schema.REQUEST)
                result.append(check_request(Request(known["what"], known.get("text", ""))))
            except RunError:
                self.write_console(
                    f"warning: {name}: a request that cannot be understood was left out."
                )
            path.unlink(missing_ok=True)
        return result


def _make_folder(path: Path) -> None:
    """A folder, with those above it, that a power cut does not take."""
    if path.is_dir():
        return
    _make_folder(path.parent)
    path.mkdir(exist_ok=True)
    archive.flush_folder(path.parent)


def _written(value: float | None) -> str:
    return "" if value is None or value != value else repr(float(value))


def _header(rows: csv.DictReader[str]) -> Sequence[str]:
    try:
        return rows.fieldnames or ()
    except csv.Error:
        return ()


def _sound_rows(rows: Iterator[Mapping[Any, Any]]) -> Iterator[dict[str, float]]:
    """The rows up to the first that is not whole, as a power cut may leave it."""
    while True:
        try:
            row = {name: float(text) for name, text in next(rows).items() if text}
        except (StopIteration, TypeError, ValueError, csv.Error):
            return
        if "step" not in row:
            return
        yield row


def _start_replication(folder: RunFolder) -> None:
    """Begin to copy the folder to the ledger that ``VINESTEP_LEDGER`` names; the process ends by
    itself after the run.
    """
    if not os.environ.get("VINESTEP_LEDGER"):
        return
    command = [sys.executable, "-m", REPLICATION, str(folder.path.resolve())]
    nowhere = subprocess.DEVNULL
    try:
        subprocess.Popen(
            command, stdin=nowhere, stdout=nowhere, stderr=nowhere, start_new_session=True
        )
    except OSError as error:
        folder.write_console(
            f"warning: nothing is copied to the ledger while the run goes on: {error}. The next "
            "command catches up."
        )


def _lock(path: Path) -> Any:
    from filelock import FileLock

    return FileLock(path, thread_local=False)


@contextmanager
def locked(path: Path, seconds: float, refusal: str) -> Iterator[None]:
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
    """Remove folders whose process was killed before their run began."""
    for path in root.iterdir():
        if _UNFINISHED.match(path.name) and not RunFolder(path).is_held():
            shutil.rmtree(path, ignore_errors=True)


def numbered(root: Path) -> list[tuple[int, Path]]:
    """The folders in a place that are named as runs are, with their numbers, in order."""
    if not root.is_dir():
        return []
    found = [
        (int(match[2]), path)
        for path in root.iterdir()
        if not path.name.startswith(".") and (match := _NAME.match(path.name)) and path.is_dir()
    ]
    return sorted(found)
