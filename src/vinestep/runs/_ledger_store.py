"""A run in a ledger."""

from __future__ import annotations

import math
import tempfile
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from secrets import token_hex
from typing import TYPE_CHECKING, Any

import numpy as np
import sqlalchemy as sa

from ..errors import CheckpointError, RunError
from ..storage import archive
from ..storage.checkpoint_schema import step_of
from ..storage.json_values import finite_or_none
from ..storage.lineage import now
from ..storage.run_store import (
    Request,
    RunStore,
    SavedState,
    check_request,
)
from ..storage.settings import leaves
from . import _schema as t
from ._ledger import Ledger
from ._score_summary import merged_scores, scores_of

if TYPE_CHECKING:
    import pandas as pd
    from sqlalchemy.engine import Connection

__all__ = ["LedgerStore"]

LEAST_ROWS = 2048  # of a chunk that is left as it is
TOGETHER = 16  # chunks of one size become one
MOST_SETTINGS = 1000
SCORE = ("name", "last", "best", "best_epoch", "best_step", "better")
MOST_VALUE = 300  # characters


def _size_of(rows: int) -> int:
    """Chunks of one size have rows within a factor of `TOGETHER`."""
    return int(math.log(max(rows, 1), TOGETHER) + 1e-9)


def replace_rows(
    connection: Connection,
    table: sa.Table,
    run: int,
    key: str,
    rows: Sequence[Mapping[str, Any]],
) -> None:
    """Let a table have these rows of a run. What is there already is left, and what differs changed
    in place, so that little is written.
    """
    mine = table.c.run == run
    known = {row[key]: row for row in connection.execute(sa.select(table).where(mine)).mappings()}
    for row in rows:
        before = known.pop(row[key], None)
        if before is None:
            connection.execute(table.insert().values(run=run, **row))
        elif any(before[name] != value for name, value in row.items()):
            connection.execute(table.update().where(table.c.id == before["id"]).values(**row))
    if known:
        connection.execute(table.delete().where(mine & table.c[key].in_(known)))


class LedgerStore(RunStore):
    """A run that is recorded in a ledger directly; whoever records waits for it. A run in a folder
    does not: see `vinestep.runs.ingest`.

    Parameters
    ----------
    ledger : Ledger
    key : int
        Of the run, in the ledger's table of runs.

    Examples
    --------
    >>> ledger = vs.runs.Ledger("sqlite://")
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> store = vs.runs.LedgerStore.new(ledger, "run")
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=store
    ... )
    >>> store.label, store.read_status()["status"]
    ('run-1', 'finished')
    """

    def __init__(self, ledger: Ledger, key: int) -> None:
        self.ledger, self.key = ledger, key
        self._here = threading.local()

    @classmethod
    def new(
        cls, ledger: Ledger, name: str, *, uid: str | None = None, number: int | None = None
    ) -> LedgerStore:
        """A run of its own, which others see from `begin` on."""
        with ledger.writing() as connection:
            if number is None:
                if ledger.engine.dialect.name == "postgresql":
                    connection.execute(sa.text("lock table runs in exclusive mode"))
                number = 1 + (
                    connection.execute(sa.select(sa.func.max(t.runs.c.number))).scalar() or 0
                )
            values = {
                "uid": uid or token_hex(16),
                "number": number,
                "name": name,
                "label": "",
                "known": {},
                "about": {},
                "plan": {},
            }
            key = connection.execute(
                t.runs.insert().values(**values, begun=now()).returning(t.runs.c.id)
            ).scalar_one()
        return cls(ledger, key)

    @property
    def _open(self) -> Connection | None:
        """The transaction under way in this thread."""
        return getattr(self._here, "connection", None)

    @contextmanager
    def together(self) -> Iterator[Connection]:
        """One transaction; what is recorded within it is there whole or not at all, and no other
        process records this run meanwhile.
        """
        if self._open is not None:
            yield self._open
            return
        with self.ledger.writing() as connection:
            connection.execute(
                sa.select(t.runs.c.id).where(t.runs.c.id == self.key).with_for_update()
            )
            self._here.connection = connection
            try:
                yield connection
            finally:
                self._here.connection = None

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to read with; within `together` that one."""
        if self._open is not None:
            yield self._open
            return
        with self.ledger.reading() as connection:
            yield connection

    def row(self) -> dict[str, Any]:
        """The run's row in the table of runs."""
        with self.reading() as connection:
            result = (
                connection.execute(sa.select(t.runs).where(t.runs.c.id == self.key))
                .mappings()
                .first()
            )
        if result is None:
            raise RunError(f"{self.ledger.name}: this run was removed.")
        return dict(result)

    # the run as a whole

    def begin(
        self, name: str, plan: Mapping[str, Any], *, label: str = "", folder: str = ""
    ) -> None:
        row = self.row()
        if row["label"] and not label:
            raise RunError(
                f"This store holds the run {row['label']} already. Give each run a store of its "
                "own."
            )
        values = {
            "name": name,
            "label": label or f"{name}-{row['number']}",
            "plan": finite_or_none(dict(plan)),
            "folder": folder,
        }
        with self.together() as connection:
            connection.execute(t.runs.update().where(t.runs.c.id == self.key).values(**values))
            if not row["about"].get("settings"):
                self._note_settings(connection, plan)

    @property
    def label(self) -> str:
        row = self.row()
        return str(row["label"] or row["name"])

    def write_status(self, known: Mapping[str, Any]) -> None:
        with self.together() as connection:
            row = self.row()
            merged = row["known"] | finite_or_none(dict(known))
            own = {
                name: merged[name]
                for name in ("status", "reason", "epoch", "epochs", "step")
                if name in merged
            }
            begun = str(merged.get("begun") or row["begun"])
            values = {
                **own,
                "known": merged,
                "begun": begun,
                "changed": str(known.get("changed") or now()),
            }
            connection.execute(t.runs.update().where(t.runs.c.id == self.key).values(**values))

    def read_status(self) -> dict[str, Any]:
        row = self.row()
        known: dict[str, Any] = {
            "status": "ready",
            "reason": "",
            "epoch": 0,
            "epochs": 0,
            "step": 0,
            "last": {},
        }
        known |= {"begun": row["begun"], "changed": row["changed"]}
        known |= row["known"]
        return known

    def about(self, about: Mapping[str, Any]) -> None:
        """What is known of the run from its beginning."""
        with self.together() as connection:
            connection.execute(
                t.runs.update()
                .where(t.runs.c.id == self.key)
                .values(about=finite_or_none(dict(about)))
            )
            self._note_settings(connection, about.get("settings") or {})

    def _note_settings(self, connection: Connection, settings: Mapping[str, Any]) -> None:
        connection.execute(t.settings.delete().where(t.settings.c.run == self.key))
        given = [(name, value) for name, value in leaves(settings) if value is not None]
        rows = [
            {
                "run": self.key,
                "name": name,
                "value": str(value)[:MOST_VALUE],
                "number": _as_number(value),
            }
            for name, value in given[:MOST_SETTINGS]
        ]
        if rows:
            connection.execute(t.settings.insert(), rows)

    def end(self) -> None:
        pass

    # what is recorded

    def write_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        with self.together() as connection:
            connection.execute(
                t.chunks.delete().where(t.chunks.c.run == self.key, t.chunks.c.series == series)
            )
            self._add(connection, series, rows)

    def append_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        with self.together() as connection:
            self._add(connection, series, rows)

    def _add(
        self, connection: Connection, series: str, rows: Sequence[Mapping[str, float]]
    ) -> None:
        if not rows:
            return
        columns = list(dict.fromkeys(name for row in rows for name in row))
        matrix = np.array(
            [[row.get(name, np.nan) for name in columns] for row in rows], dtype=np.float64
        )
        self.add_matrix(connection, series, columns, matrix)

    def add_matrix(
        self, connection: Connection, series: str, columns: list[str], matrix: np.ndarray
    ) -> None:
        """Rows as a matrix. They become a chunk of their own; as soon as there are several of one
        size at the end, those become one: so each number is written a few times only, however many
        rows come at once.
        """
        if not len(matrix):
            return
        connection.execute(
            t.chunks.insert().values(
                run=self.key,
                series=series,
                columns=columns,
                rows=len(matrix),
                content=matrix.tobytes(),
            )
        )
        if series in ("epochs", "steps"):
            self._note_scores(connection, series, columns, matrix)
        while self._merge_last(connection, series):
            pass

    def _merge_last(self, connection: Connection, series: str) -> bool:
        """Whether the last chunks were of one size, and have become one."""
        mine = (t.chunks.c.run == self.key) & (t.chunks.c.series == series)
        of_chunk = (t.chunks.c.id, t.chunks.c.rows, t.chunks.c.columns)
        newest = sa.select(*of_chunk).where(mine).order_by(t.chunks.c.id.desc()).limit(TOGETHER)
        last = connection.execute(newest).all()
        if (
            len(last) < TOGETHER
            or any(one.columns != last[0].columns for one in last)
            or len({_size_of(one.rows) for one in last}) > 1
            or last[0].rows >= LEAST_ROWS
        ):
            return False
        chosen = t.chunks.c.id.in_([one.id for one in last])
        contents = sa.select(t.chunks.c.content).where(chosen).order_by(t.chunks.c.id)
        content = b"".join(connection.execute(contents).scalars())
        connection.execute(t.chunks.delete().where(chosen))
        connection.execute(
            t.chunks.insert().values(
                run=self.key,
                series=series,
                columns=last[0].columns,
                rows=sum(one.rows for one in last),
                content=content,
            )
        )
        return True

    def _note_scores(
        self, connection: Connection, series: str, columns: list[str], matrix: np.ndarray
    ) -> None:
        """The last and the best value of each figure, with rows that have been added."""
        if series == "steps" and "epochs" in self.series_names():
            return
        mine = t.scores.c.run == self.key
        known = connection.execute(sa.select(t.scores).where(mine)).mappings()
        before = [{name: row[name] for name in SCORE} for row in known]
        if self._is_first(connection, series):  # others are those of steps, or of rows replaced
            before = []
        better = self.row()["about"].get("better") or {}
        rows = merged_scores(before, scores_of(columns, matrix, better))
        replace_rows(connection, t.scores, self.key, "name", rows)

    def _is_first(self, connection: Connection, series: str) -> bool:
        """Whether the chunk that was added is the only one."""
        mine = (t.chunks.c.run == self.key) & (t.chunks.c.series == series)
        two = sa.select(t.chunks.c.id).where(mine).limit(2)
        return len(connection.execute(two).all()) < 2

    def series_names(self) -> list[str]:
        with self.reading() as connection:
            query = (
                sa.select(t.chunks.c.series)
                .where(t.chunks.c.run == self.key)
                .distinct()
                .order_by(t.chunks.c.series)
            )
            return list(connection.execute(query).scalars())

    def read_series(self, series: str) -> list[dict[str, float]]:
        return [
            _present(columns, line) for columns, matrix in self._matrices(series) for line in matrix
        ]

    def frame(self, series: str) -> pd.DataFrame:
        """The rows of a series as a DataFrame."""
        import pandas as pd

        result = [
            pd.DataFrame(matrix, columns=columns) for columns, matrix in self._matrices(series)
        ]
        return pd.concat(result, ignore_index=True) if result else pd.DataFrame()

    def _matrices(self, series: str) -> Iterator[tuple[list[str], np.ndarray]]:
        with self.reading() as connection:
            query = (
                sa.select(t.chunks)
                .where(t.chunks.c.run == self.key, t.chunks.c.series == series)
                .order_by(t.chunks.c.id)
            )
            found = connection.execute(query).mappings().all()
        for chunk in found:
            yield chunk["columns"], _matrix(chunk)

    def write_file(self, name: str, content: bytes) -> None:
        if not name or name != Path(name).name or name.startswith("."):
            raise RunError(f"{name!r} is no name of a file of a run.")
        with self.together() as connection:
            digest = self.ledger.put(connection, content)
            mine = (t.files.c.run == self.key) & (t.files.c.name == name)
            before = connection.execute(sa.select(t.files.c.digest).where(mine)).scalar()
            values = {"digest": digest, "size": len(content)}
            if before is None:
                connection.execute(t.files.insert().values(run=self.key, name=name, **values))
            elif before != digest:
                connection.execute(t.files.update().where(mine).values(**values))
                self.ledger.release(connection, before)

    def read_file(self, name: str) -> bytes:
        with self.reading() as connection:
            query = sa.select(t.files.c.digest).where(
                t.files.c.run == self.key, t.files.c.name == name
            )
            digest = connection.execute(query).scalar()
            if digest is None:
                raise RunError(f"{self.label}: there is no file {name!r}.")
            return self.ledger.content(connection, digest)

    def file_names(self) -> list[str]:
        with self.reading() as connection:
            return sorted(
                connection.execute(
                    sa.select(t.files.c.name).where(t.files.c.run == self.key)
                ).scalars()
            )

    def write_console(self, text: str) -> None:
        with self.together() as connection:
            connection.execute(t.console.insert().values(run=self.key, text=text + "\n"))

    def read_console(self) -> str:
        with self.reading() as connection:
            query = (
                sa.select(t.console.c.text)
                .where(t.console.c.run == self.key)
                .order_by(t.console.c.id)
            )
            return "".join(connection.execute(query).scalars())

    # states

    def save_state(
        self, name: str, arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]
    ) -> None:
        with tempfile.TemporaryDirectory() as folder:
            content = archive.write(Path(folder) / "state.npz", arrays, meta).read_bytes()
        with self.together() as connection:
            digest = self.ledger.put(connection, content)
            mine = (t.states.c.run == self.key) & (t.states.c.name == name)
            before = connection.execute(sa.select(t.states.c.digest).where(mine)).scalar()
            connection.execute(t.states.delete().where(mine))
            connection.execute(t.states.insert().values(run=self.key, name=name, digest=digest))
            self.ledger.release(connection, before)

    def state_content(self, name: str) -> bytes:
        """The file of a state.

        Raises
        ------
        CheckpointError
            If there is none.
        """
        with self.reading() as connection:
            query = sa.select(t.states.c.digest).where(
                t.states.c.run == self.key, t.states.c.name == name
            )
            digest = connection.execute(query).scalar()
            if digest is None:
                raise CheckpointError(f"{self.label}: there is no state {name!r}.")
            return self.ledger.content(connection, digest)

    def read_state(self, name: str) -> SavedState:
        content = self.state_content(name)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{Path(name).name}.npz"
            path.write_bytes(content)
            saved = archive.read(path)
        return SavedState(saved.arrays, saved.meta, name)

    def states(self) -> list[str]:
        with self.reading() as connection:
            names = connection.execute(
                sa.select(t.states.c.name).where(t.states.c.run == self.key)
            ).scalars()
            return sorted(
                (name for name in names if not name.endswith(".refused")),
                key=lambda name: (step_of(name), name),
            )

    def rename_state(self, name: str, new: str | None) -> None:
        mine = (t.states.c.run == self.key) & (t.states.c.name == name)
        with self.together() as connection:
            if new is None:
                digest = connection.execute(sa.select(t.states.c.digest).where(mine)).scalar()
                connection.execute(t.states.delete().where(mine))
                self.ledger.release(connection, digest)
            else:
                connection.execute(t.states.update().where(mine).values(name=new))

    # a watcher outside

    def ask(self, request: Request) -> None:
        check_request(request)
        with self.together() as connection:
            connection.execute(
                t.requests.insert().values(run=self.key, what=request.what, text=request.text)
            )

    def requests(self) -> list[Request]:
        with self.reading() as connection:
            there = connection.execute(
                sa.select(t.requests.c.id).where(t.requests.c.run == self.key).limit(1)
            ).first()
        if there is None:
            return []
        with self.together() as connection:
            query = (
                sa.select(t.requests).where(t.requests.c.run == self.key).order_by(t.requests.c.id)
            )
            result = connection.execute(query).mappings().all()
            connection.execute(
                t.requests.delete().where(t.requests.c.id.in_([row["id"] for row in result]))
            )
        return [Request(row["what"], row["text"]) for row in result]

    # tags and notes

    def tags(self) -> list[str]:
        with self.reading() as connection:
            return sorted(
                connection.execute(
                    sa.select(t.tags.c.tag).where(t.tags.c.run == self.key)
                ).scalars()
            )

    def set_tags(self, tags: Sequence[str]) -> None:
        with self.together() as connection:
            connection.execute(t.tags.delete().where(t.tags.c.run == self.key))
            if tags:
                connection.execute(
                    t.tags.insert(), [{"run": self.key, "tag": tag} for tag in sorted(set(tags))]
                )

    def notes(self) -> list[dict[str, str]]:
        with self.reading() as connection:
            query = (
                sa.select(t.notes.c.at, t.notes.c.text)
                .where(t.notes.c.run == self.key)
                .order_by(t.notes.c.id)
            )
            return [dict(row) for row in connection.execute(query).mappings()]

    def add_notes(self, notes: Sequence[Mapping[str, str]]) -> None:
        """Notes that are not there yet."""
        with self.together() as connection:
            known = {(note["at"], note["text"]) for note in self.notes()}
            rows = [
                {"run": self.key, "at": n["at"], "text": n["text"]}
                for n in notes
                if (n["at"], n["text"]) not in known
            ]
            if rows:
                connection.execute(t.notes.insert(), rows)


def _matrix(chunk: Mapping[Any, Any]) -> np.ndarray:
    return np.frombuffer(chunk["content"], np.float64).reshape(chunk["rows"], len(chunk["columns"]))


def _present(columns: Sequence[str], line: np.ndarray) -> dict[str, float]:
    return {
        name: value
        for name, value in zip(columns, line.tolist(), strict=True)
        if not math.isnan(value)
    }


def _as_number(value: Any) -> float | None:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        return None
    return float(value)
