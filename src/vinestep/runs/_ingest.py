"""From run folders into a ledger: what is new since the last time, each run whole or not at all."""

from __future__ import annotations

import csv
import hashlib
import io
import os
import tomllib
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import sqlalchemy as sa

from .._findings import Finding, tell
from ..errors import RunError
from ..storage import run_schema
from ..storage.run_folder import RECORDED, RunFolder
from . import _schema as t
from ._ledger import Ledger
from ._ledger_store import LedgerStore, replace_rows
from ._listing import find_runs

__all__ = ["catch_up", "ingest"]

MOST_BYTES = 16 << 20  # of a file that is taken in
MUCH = 1 << 20  # bytes of a CSV that pandas reads faster, importing it included
ABOUT, CONSOLE, PLAN, TAGS, NOTES = (
    "about.json",
    "console.txt",
    "plan.toml",
    "tags.json",
    "notes.json",
)
Mark = list[int]


def catch_up(root: str | os.PathLike[str], ledger: Ledger) -> int:
    """Take in all that the runs of a folder recorded since the last time; how many runs had
    something new.

    Runs that no longer are in the folder stay in the ledger as they were.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> ledger = vs.runs.Ledger("sqlite://")
    >>> vs.runs.catch_up(root, ledger), vs.runs.catch_up(root, ledger)
    (1, 0)
    """
    marks, news = _marks(ledger), 0
    originals: dict[str, RunFolder] = {}
    for folder in find_runs(root):
        known = folder.read_status()
        uid = _uid(folder, known)
        first = originals.setdefault(uid, folder)
        if first is not folder:
            cure = "Take the copy away: there is one record of a run."
            what = f"it is a copy of {first.path.name}, with the same identity, so it is left out."
            _report(ledger, folder, what, cure)
            continue
        try:
            news += _ingest(folder, uid, known, ledger, marks)
        except OSError as error:
            _report(ledger, folder, f"it is left out: {error}.")
    return news


def _report(
    ledger: Ledger,
    folder: RunFolder,
    what: str,
    cure: str = "Mend its files, or take the folder away.",
) -> None:
    """Once for each ledger that is open: a page looks every second."""
    finding = Finding(f"the run {folder.path.name}", "wrong", what, cure)
    if finding not in ledger.reported:
        ledger.reported.add(finding)
        tell([finding])


def _marks(ledger: Ledger) -> dict[str, dict[str, Mark]]:
    """Of each run by its identity, how far its files were taken in."""
    result: dict[str, dict[str, Mark]] = {}
    query = sa.select(t.runs.c.uid, t.taken.c.file, t.taken.c.mark).join(
        t.taken, t.taken.c.run == t.runs.c.id
    )
    with ledger.reading() as connection:
        for uid, file, mark in connection.execute(query):
            result.setdefault(uid, {})[file] = mark
    return result


def ingest(
    folder: RunFolder, ledger: Ledger, marks: dict[str, dict[str, Mark]] | None = None
) -> bool:
    """Take in what a run's folder recorded since the last time; whether there was something.

    Parameters
    ----------
    folder : RunFolder
    ledger : Ledger
    marks : dict, optional
        How far the runs were taken in, if that is known.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> vs.runs.ingest(outcome.store, vs.runs.Ledger("sqlite://"))
    True
    """
    known = folder.read_status()
    return _ingest(folder, _uid(folder, known), known, ledger, marks)


def _ingest(
    folder: RunFolder,
    uid: str,
    known: dict[str, Any],
    ledger: Ledger,
    marks: dict[str, dict[str, Mark]] | None,
) -> bool:
    if (
        marks is not None
        and uid in marks
        and not _changes(folder, marks[uid])
        and known["status"] != "running"
    ):
        return False
    store = _store_of(folder, ledger, uid, known)
    with store.together() as connection:
        query = sa.select(t.taken.c.file, t.taken.c.mark).where(t.taken.c.run == store.key)
        before: dict[str, Mark] = {str(file): mark for file, mark in connection.execute(query)}
        changed = _changes(folder, before)
        gone = [
            file
            for file in before
            if file.endswith(".csv") and not any((p / file).exists() for p in _places(folder))
        ]
        for (
            file
        ) in gone:  # series that a run that went on from an earlier state has not begun again
            series = file.removesuffix(".csv")
            connection.execute(
                t.chunks.delete().where(t.chunks.c.run == store.key, t.chunks.c.series == series)
            )
        for path in changed:
            _take(store, folder, path, before.get(path.name), changed[path])
        status = {key: known[key] for key in known if key not in ("process", "uid")}
        if status != {key: value for key, value in store.row()["known"].items() if key in status}:
            store.write_status(status)
        elif not changed:
            return False
        marks_now = {name: mark for name, mark in before.items() if name not in gone}
        marks_now |= {path.name: mark for path, mark in changed.items()}
        rows = [{"file": name, "mark": mark} for name, mark in marks_now.items()]
        replace_rows(connection, t.taken, store.key, "file", rows)
    return True


def _uid(folder: RunFolder, known: dict[str, Any]) -> str:
    """Its identity; of a run that was recorded before runs had one, from where and when it
    began.
    """
    if uid := known.get("uid"):
        return str(uid)
    return hashlib.sha256(f"{folder.path.resolve()} {known['begun']}".encode()).hexdigest()[:32]


def _store_of(folder: RunFolder, ledger: Ledger, uid: str, known: dict[str, Any]) -> LedgerStore:
    name = folder.path.name.rpartition("-")[0] or folder.path.name
    label, place = folder.path.name, str(folder.path.resolve())
    with ledger.writing() as connection:
        values = {
            "uid": uid,
            "number": folder.number,
            "name": str(known.get("name") or name),
            "label": label,
            "folder": place,
            "known": {},
            "about": {},
            "plan": {},
            "status": known["status"],
            "reason": "",
            "epoch": 0,
            "epochs": 0,
            "step": 0,
            "begun": str(known.get("begun", "")),
            "changed": "",
        }
        result = connection.execute(
            sa.select(t.runs.c.id, t.runs.c.folder).where(t.runs.c.uid == uid)
        ).first()
        if result is None:
            connection.execute(ledger.ignoring_doubles(t.runs).values(**values))
            result = connection.execute(
                sa.select(t.runs.c.id, t.runs.c.folder).where(t.runs.c.uid == uid)
            ).one()
        if result.folder != place:
            connection.execute(
                t.runs.update()
                .where(t.runs.c.id == result.id)
                .values(folder=place, label=label, number=folder.number)
            )
    return LedgerStore(ledger, result.id)


def _places(folder: RunFolder) -> tuple[Path, Path]:
    return folder.path, folder.path / RECORDED


def _changes(folder: RunFolder, before: dict[str, Mark]) -> dict[Path, Mark]:
    """The files that are not as they were, with what tells it: inode, size, time of change."""
    result = {}
    for place in _places(folder):
        try:
            entries = list(os.scandir(place))
        except FileNotFoundError:
            continue
        for entry in entries:
            if (
                entry.name.startswith(".")
                or entry.name.endswith(".vine")
                or entry.name == "run.json"
                or not entry.is_file()
            ):
                continue
            at = entry.stat()
            mark = [at.st_ino, at.st_size, at.st_mtime_ns]
            takes = at.st_size <= MOST_BYTES or entry.name.endswith((".csv", ".txt"))
            if takes and before.get(entry.name) != mark:
                result[Path(entry.path)] = mark
    return dict(sorted(result.items(), key=lambda item: (item[0].name != ABOUT, item[0].name)))


def _take(
    store: LedgerStore, folder: RunFolder, path: Path, before: Mark | None, mark: Mark
) -> None:
    """One file; `mark` is set to what was taken."""
    try:
        put = _read(store, folder, path, before, mark)
    except (RunError, ValueError) as error:  # what is no JSON, TOML or CSV of a run
        _report(store.ledger, folder, f"{path.name} is left out of the ledger: {error}")
    else:
        put()


def _read(
    store: LedgerStore, folder: RunFolder, path: Path, before: Mark | None, mark: Mark
) -> Callable[[], object]:
    """What a file holds, to be put into the ledger."""
    if path.name == CONSOLE or (path.suffix == ".csv" and path.parent == folder.path):
        return _read_growing(store, folder, path, before, mark)
    content = path.read_bytes()
    if path.name == ABOUT:
        return partial(store.about, run_schema.validated(path, content, run_schema.ABOUT))
    if path.name == PLAN:
        place, plan = str(folder.path.resolve()), tomllib.loads(content.decode())
        name = store.row()["name"]
        return partial(store.begin, name, plan, label=folder.path.name, folder=place)
    if path.name == TAGS:
        return partial(store.set_tags, run_schema.validated(path, content, run_schema.TAGS))
    if path.name == NOTES:
        return partial(store.add_notes, run_schema.validated(path, content, run_schema.NOTES))
    return partial(store.write_file, path.name, content)


def _read_growing(
    store: LedgerStore, folder: RunFolder, path: Path, before: Mark | None, mark: Mark
) -> Callable[[], object]:
    """A file that is appended to: what came since, up to the end of a line."""
    with path.open("rb") as file:
        at = os.fstat(file.fileno())
        start = (
            before[1]
            if before is not None and before[0] == at.st_ino and before[1] <= at.st_size
            else 0
        )
        head = file.readline() if start and path.suffix == ".csv" else b""
        file.seek(start)
        content = file.read()
    content = content[: content.rfind(b"\n") + 1]
    mark[:] = [
        at.st_ino,
        start + len(content),
        at.st_mtime_ns if start + len(content) == at.st_size else 0,
    ]
    if path.name == CONSOLE:
        return partial(_put_console, store, content.decode(errors="replace"), anew=not start)
    series = next(
        (name for name in folder.series_names() if folder.series_path(name) == path), path.stem
    )
    columns, matrix = _numbers_of(head + content) if content else ([], np.empty((0, 0)))
    if len(matrix) and "step" not in columns:
        raise RunError("it has no column step.")
    return partial(_put_series, store, series, columns, matrix, anew=not start)


def _numbers_of(content: bytes) -> tuple[list[str], np.ndarray]:
    """Columns and numbers of a CSV; a gap is NaN."""
    if len(content) > MUCH:
        return _by_pandas(content)
    head, *rows = csv.reader(io.StringIO(content.decode()))
    matrix = np.full((len(rows), len(head)), np.nan)
    for i, row in enumerate(rows):
        if len(row) > len(head):
            raise RunError(f"row {i + 1} has {len(row)} cells, the head has {len(head)}.")
        for j, cell in enumerate(row):
            if cell:
                matrix[i, j] = float(cell)
    return head, matrix


def _by_pandas(content: bytes) -> tuple[list[str], np.ndarray]:
    import pandas as pd

    exact: Any = (
        {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}
    )  # what pandas 3 does by itself
    frame = pd.read_csv(io.BytesIO(content), **exact)
    return [str(name) for name in frame.columns], frame.to_numpy(dtype=float)


def _put_console(store: LedgerStore, text: str, *, anew: bool) -> None:
    with store.together() as connection:
        if anew:
            connection.execute(t.console.delete().where(t.console.c.run == store.key))
        if text:
            connection.execute(t.console.insert().values(run=store.key, text=text))


def _put_series(
    store: LedgerStore, series: str, columns: list[str], matrix: np.ndarray, *, anew: bool
) -> None:
    with store.together() as connection:
        if anew:
            mine = (t.chunks.c.run == store.key) & (t.chunks.c.series == series)
            connection.execute(t.chunks.delete().where(mine))
        store.add_matrix(connection, series, columns, matrix)


def remove_run(ledger: Ledger, key: int) -> None:
    """Take a run out of a ledger, with all that only it has."""
    with ledger.writing() as connection:
        for table in (
            t.settings,
            t.scores,
            t.tags,
            t.notes,
            t.chunks,
            t.console,
            t.files,
            t.states,
            t.requests,
            t.taken,
        ):
            connection.execute(table.delete().where(table.c.run == key))
        connection.execute(t.runs.delete().where(t.runs.c.id == key))
        ledger.sweep(connection)


def needed(ledger: Ledger, uid: str) -> list[str]:
    """The models of the catalogue that come from a run."""
    with ledger.reading() as connection:
        query = sa.select(t.models.c.name, t.models.c.version).where(t.models.c.run_uid == uid)
        return [f"{name} {version}" for name, version in connection.execute(query)]
