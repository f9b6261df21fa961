"""From run folders into a ledger: what is new since the last time, each run whole or not at all."""

from __future__ import annotations

import hashlib
import io
import json
import logging
import os
import tomllib
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from .._findings import Finding, tell
from ..storage.run_folder import RECORDED, RunFolder
from . import _schema as t
from ._ledger import Ledger
from ._ledger_store import LedgerStore
from ._listing import find_runs

__all__ = ["catch_up", "ingest"]

log = logging.getLogger("vinestep")
MOST_BYTES = 16 << 20  # of a file that is taken in
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
    marks = _marks(ledger)
    return sum(_ingested(folder, ledger, marks) for folder in find_runs(root))


def _ingested(folder: RunFolder, ledger: Ledger, marks: dict[str, dict[str, Mark]]) -> bool:
    """Whether there was something new; a run whose files hold what no run writes is told, and
    hides no other.
    """
    try:
        return ingest(folder, ledger, marks)
    except (TypeError, AttributeError, LookupError, ValueError) as error:
        tell(
            [
                Finding(
                    f"the run {folder.path.name}",
                    "wrong",
                    f"its files hold what no run writes ({type(error).__name__}: {error}), so it "
                    "is not taken in.",
                    "Mend run.json and about.json in it, or take the folder away.",
                )
            ]
        )
        return False


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
    uid = known.get("uid")
    if not isinstance(uid, str) or not uid:
        uid = _identity(folder)
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
            connection.execute(
                t.taken.delete().where(t.taken.c.run == store.key, t.taken.c.file == file)
            )
        for path in changed:
            _take(store, folder, path, before.get(path.name), changed[path])
        status = {key: known[key] for key in known if key not in ("process", "uid")}
        if status != {key: value for key, value in store.row()["known"].items() if key in status}:
            store.write_status(status)
        elif not changed:
            return False
        for path, mark in changed.items():
            connection.execute(
                t.taken.delete().where(t.taken.c.run == store.key, t.taken.c.file == path.name)
            )
            connection.execute(t.taken.insert().values(run=store.key, file=path.name, mark=mark))
    return True


def _identity(folder: RunFolder) -> str:
    """Of a run that was recorded before runs had one."""
    return hashlib.sha256(
        f"{folder.path.resolve()} {folder.read_status().get('begun', '')}".encode()
    ).hexdigest()[:32]


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
        if path.name == ABOUT:
            store.about(json.loads(path.read_text()))
        elif path.name == PLAN:
            store.begin(
                store.row()["name"],
                tomllib.loads(path.read_text()),
                label=folder.path.name,
                folder=str(folder.path.resolve()),
            )
        elif path.name == TAGS:
            store.set_tags([str(tag) for tag in json.loads(path.read_text())])
        elif path.name == NOTES:
            store.add_notes(
                [
                    {"at": str(note["at"]), "text": str(note["text"])}
                    for note in json.loads(path.read_text())
                ]
            )
        elif path.name == CONSOLE or (path.suffix == ".csv" and path.parent == folder.path):
            _take_growing(store, folder, path, before, mark)
        else:
            store.write_file(path.name, path.read_bytes())
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        log.warning("%s: it cannot be read, and was left out of the ledger: %s", path, error)


def _take_growing(
    store: LedgerStore, folder: RunFolder, path: Path, before: Mark | None, mark: Mark
) -> None:
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
        with store.together() as connection:
            if not start:
                connection.execute(t.console.delete().where(t.console.c.run == store.key))
            if content:
                connection.execute(
                    t.console.insert().values(run=store.key, text=content.decode(errors="replace"))
                )
        return
    import pandas as pd

    series = next(
        (name for name in folder.series_names() if folder.series_path(name) == path), path.stem
    )
    exact: Any = (
        {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}
    )  # what pandas 3 does by itself
    frame = pd.read_csv(io.BytesIO(head + content), **exact) if content else pd.DataFrame()
    with store.together() as connection:
        if not start:
            connection.execute(
                t.chunks.delete().where(t.chunks.c.run == store.key, t.chunks.c.series == series)
            )
        store.add_matrix(
            connection, series, [str(name) for name in frame.columns], frame.to_numpy(dtype=float)
        )


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
